#include "service/unit.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/sha256.h"
#include "container/plan.h"
#include "model/policy.h"
#include "model/probe.h"

/* What stopping takes beyond the grace period: the end is recorded, networks
 * and mounts go. */
#define STOP_EXTRA_S 15
/* Probes that are answered late are no failure of the service manager's. */
#define PROBE_EXTRA_US 10000000
#define HEAD                                                                   \
	"# Written by tidyhull unit. --install and --remove see whether it "   \
	"was "                                                                 \
	"edited.\n# sha256 of the rest: "
#define DIGITS 64
#define TEXT_MAX (1u << 20)

/* ---- what is known of the container ---- */

static int take_folders(
	const struct th_plan *plan, struct th_unit *unit, struct th_error *err)
{
	for (size_t i = 0; i < plan->mount_count; i++) {
		const struct th_mount_setting *mount = &plan->mounts[i];

		if (mount->kind == TH_MOUNT_FOLDER &&
			th_strings_add(&unit->folders, mount->source))
			return th_fail_memory(err);
	}
	return 0;
}

static void take_probe(const struct th_probe *probe, struct th_unit *unit)
{
	if (probe->kind == TH_PROBE_NONE)
		return;
	/* So many in a row have to fail before it is ailing. */
	unit->probe_us =
		(probe->every_ms + probe->timeout_ms) * 1000 * probe->limit +
		PROBE_EXTRA_US;
	unit->ready_us = probe->grace_ms * 1000 + unit->probe_us;
}

static bool has_policy(const struct th_unit *unit)
{
	return strcmp(unit->restart, "never") != 0;
}

int th_unit_describe(const struct th_context *context,
	const struct th_container_row *row, struct th_unit *unit,
	struct th_error *err)
{
	int folder = th_container_folder(context, row, err), rc;
	struct th_plan plan = {0};

	snprintf(unit->restart, sizeof(unit->restart), "%s",
		row->restart[0] ? row->restart : "never");
	if (unit->restarts && has_policy(unit)) {
		th_close(&folder);
		th_fail(err, TH_USAGE,
			"container \"%s\" has the restart policy %s, and two "
			"must not restart it",
			row->name, unit->restart);
		return th_hint(err,
			"tidyhull adjust %s --restart never, or leave "
			"--restarts out",
			row->name);
	}
	rc = folder < 0 ? -1 : th_plan_read_whole(folder, row, &plan, err);
	if (rc == 0) {
		unit->grace_ms = plan.grace_ms;
		unit->networked = strcmp(plan.network, "none") != 0;
		rc = take_folders(&plan, unit, err);
		take_probe(&plan.probe, unit);
	}
	th_plan_release(&plan);
	th_close(&folder);
	return rc;
}

void th_unit_release(struct th_unit *unit)
{
	th_strings_release(&unit->folders);
}

/* ---- text ---- */

void th_unit_name(const struct th_unit *unit, char name[TH_UNIT_NAME])
{
	if (unit->of == TH_UNIT_ALL_DUE)
		snprintf(name, TH_UNIT_NAME, "tidyhull-all-due.service");
	else
		snprintf(name, TH_UNIT_NAME, "tidyhull-%s-%.64s.service",
			unit->of == TH_UNIT_GROUP ? "group" : "container",
			unit->name);
}

/* One word, quoted where it has to be, and without anything that systemd would
 * put in (systemd.service(5), "Command lines"; systemd.unit(5), "Specifiers").
 */
static void add_word(struct th_buf *text, const char *word)
{
	static const char plain[] =
		"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
		"0123456789/._:-+@,=";
	bool quoted = !*word || word[strspn(word, plain)];

	th_buf_adds(text, quoted ? "\"" : "");
	for (; *word; word++) {
		if (*word == '"' || *word == '\\')
			th_buf_adds(text, "\\");
		if (*word == '%' || *word == '$')
			th_buf_add(text, word, 1);
		th_buf_add(text, word, 1);
	}
	th_buf_adds(text, quoted ? "\"" : "");
}

static void add_command(const struct th_unit *unit, struct th_buf *text,
	const char *key, const char *const *words)
{
	th_buf_addf(text, "%s=", key);
	add_word(text, unit->program);
	for (; *words; words++) {
		th_buf_adds(text, " ");
		add_word(text, *words);
	}
	th_buf_adds(text, " --root ");
	add_word(text, unit->root);
	if (unit->config) {
		th_buf_adds(text, " --config ");
		add_word(text, unit->config);
	}
	th_buf_adds(text, "\n");
}

static void add_head(const struct th_unit *unit, struct th_buf *text)
{
	th_buf_addf(text, "\n[Unit]\nDescription=Tidy Hull: %s%s\n",
		unit->of == TH_UNIT_ALL_DUE ? "all containers that are due"
			: unit->of == TH_UNIT_GROUP ? "group "
						    : "container ",
		unit->of == TH_UNIT_ALL_DUE ? "" : unit->name);
	/* A user's manager does not know the system's targets. */
	if (unit->networked && !unit->user)
		th_buf_adds(text,
			"Wants=network-online.target\n"
			"After=network-online.target\n");
	th_buf_adds(text, "RequiresMountsFor=");
	add_word(text, unit->root);
	for (size_t i = 0; i < unit->folders.count; i++) {
		th_buf_adds(text, " ");
		add_word(text, unit->folders.items[i]);
	}
	th_buf_adds(text, "\n");
}

/* Of the two that could restart it one does, or none. */
static void add_restarts(const struct th_unit *unit, struct th_buf *text)
{
	if (unit->restarts)
		th_buf_adds(text,
			"# The container has no restart policy: systemd "
			"restarts it.\n"
			"Restart=on-failure\nRestartSec=1\n");
	else if (has_policy(unit))
		th_buf_addf(text,
			"# Its keeper restarts it (%s), so systemd does not.\n"
			"Restart=no\n",
			unit->restart);
	else
		th_buf_adds(text,
			"# Nobody restarts it: tidyhull adjust --restart, or "
			"unit --restarts systemd.\n"
			"Restart=no\n");
	if (unit->probe_us && !has_policy(unit))
		th_buf_addf(text,
			"# Its probe has to succeed in this time.\n"
			"WatchdogSec=%lld\n",
			(long long)(unit->probe_us / 1000000 + 1));
}

static void add_container(const struct th_unit *unit, struct th_buf *text)
{
	const char *start[] = {"start", unit->name, "--quiet", NULL};
	const char *recreate[] = {"recreate", unit->name, "--start", "--quiet",
		unit->fetch ? "--fetch" : NULL, unit->fetch, NULL};
	long long start_s = unit->ready_us / 1000000 + 90;

	/* The keeper says which process it is, and when it is ready. */
	th_buf_adds(text, "Type=notify\nNotifyAccess=all\n");
	add_command(unit, text, "ExecStart", unit->recreate ? recreate : start);
	/* An image may have to come first. */
	if (unit->recreate)
		start_s += 900;
	th_buf_addf(text, "TimeoutStartSec=%lld\n", start_s);
	/* SIGTERM has the keeper stop the container, with its own grace. */
	th_buf_addf(text, "KillMode=mixed\nTimeoutStopSec=%lld\n",
		(long long)(unit->grace_ms / 1000 + STOP_EXTRA_S));
	add_restarts(unit, text);
}

static void add_several(const struct th_unit *unit, struct th_buf *text)
{
	char group[TH_NAME_MAX + 8];
	const char *start[] = {"start", group, "--quiet", NULL};
	const char *stop[] = {"stop", group, "--stay-due", "--quiet", NULL};

	if (unit->of == TH_UNIT_ALL_DUE)
		snprintf(group, sizeof(group), "--all");
	else
		snprintf(group, sizeof(group), "group:%.64s", unit->name);
	/* Several keepers: there is no main process. */
	th_buf_adds(text, "Type=oneshot\nRemainAfterExit=yes\n");
	if (unit->of == TH_UNIT_ALL_DUE)
		start[1] = "--all-due";
	add_command(unit, text, "ExecStart", start);
	add_command(unit, text, "ExecStop", stop);
	th_buf_addf(text, "TimeoutStartSec=infinity\nTimeoutStopSec=%lld\n",
		(long long)(unit->grace_ms / 1000 + 90));
	th_buf_adds(text,
		"# Keepers restart their containers, each by its policy.\n"
		"Restart=no\n");
}

char *th_unit_text(const struct th_unit *unit)
{
	unsigned char digest[32];
	struct th_buf rest, text;

	th_buf_init(&rest, TEXT_MAX);
	th_buf_init(&text, TEXT_MAX);
	add_head(unit, &rest);
	th_buf_adds(&rest, "\n[Service]\n");
	if (unit->of == TH_UNIT_CONTAINER)
		add_container(unit, &rest);
	else
		add_several(unit, &rest);
	/* The container's group lies in the unit's own. */
	th_buf_addf(&rest, "Delegate=yes\n\n[Install]\nWantedBy=%s\n",
		unit->user ? "default.target" : "multi-user.target");
	th_sha256(rest.data, rest.len, digest);
	th_buf_adds(&text, HEAD);
	for (size_t i = 0; i < sizeof(digest); i++)
		th_buf_addf(&text, "%02x", digest[i]);
	th_buf_adds(&text, "\n");
	if (rest.failed)
		text.failed = true;
	th_buf_add(&text, rest.data, rest.len);
	th_buf_release(&rest);
	return th_buf_take(&text);
}

enum th_unit_text_is th_unit_look(const char *text)
{
	const size_t head = strlen(HEAD);
	unsigned char digest[32];
	char digits[DIGITS + 1];

	if (strncmp(text, HEAD, head) != 0 || strlen(text) < head + DIGITS + 1)
		return TH_UNIT_FOREIGN;
	text += head;
	th_sha256(text + DIGITS + 1, strlen(text + DIGITS + 1), digest);
	for (size_t i = 0; i < sizeof(digest); i++)
		snprintf(digits + 2 * i, 3, "%02x", digest[i]);
	return strncmp(digits, text, DIGITS) == 0 ? TH_UNIT_OURS
						  : TH_UNIT_EDITED;
}
