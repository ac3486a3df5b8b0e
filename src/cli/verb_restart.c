/* restart: stop where it runs, and start. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "view/describe.h"
#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/remaking.h"
#include "cli/replacing.h"
#include "cli/verbs.h"
#include "store/machine.h"

static int restart(struct invocation *call, struct th_container_row *row)
{
	struct th_error err = {0};
	char reach[512];
	int grace_ms;

	if (read_grace(call, &grace_ms, &err) ||
		th_container_restart(
			&call->hull.context, row, grace_ms, &err)) {
		char reason[sizeof(err.msg)];

		snprintf(reason, sizeof(reason), "%s", err.msg);
		snprintf(err.msg, sizeof(err.msg),
			"cannot restart \"%s\": %.400s", row->name, reason);
		return say_error(&err);
	}
	th_view_reach(&call->hull.context, row->id, reach, sizeof(reach));
	if (call->quiet)
		printf("%s\n", row->id);
	else
		printf("restarted %s%s%s\n", row->name,
			reach[0] ? ", port " : "", reach);
	return EXIT_DONE;
}

/* Of a group: all down, and up again in its order. */
static int restart_group(
	struct invocation *call, struct th_group *group, int grace_ms)
{
	struct th_error err = {0};
	int code = stop_rows(call, group, grace_ms);

	for (size_t i = 0; i < group->count; i++) {
		struct th_group_item *item = &group->items[i];

		if (th_state_get(call->hull.context.store->db, item->before.id,
			    &item->before, &err) < 0)
			return say_error(&err);
		item->row = item->before;
		item->act = TH_GROUP_START;
	}
	return code ? code : start_rows(call, group);
}

/* The newest image of its name, and everything else as it was. */
static int update(struct invocation *call, struct th_container_row *row)
{
	struct invocation merged;
	struct making making;
	struct th_error err = {0};
	int code;

	if (remaking_read(call, row, &making, &merged, &err))
		code = say_error(&err);
	else
		code = replacing_run(call, row, &making, true);
	free(merged.options == call->options ? NULL : merged.options);
	making_release(&making);
	return code;
}

static int check_fetch(const struct invocation *call, struct th_error *err)
{
	const char *fetch = option_value(call, "fetch");

	if (fetch && strcmp(fetch, "always") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --fetch here; use always",
			fetch);
	if (!fetch && option_given(call, "ready-within"))
		return th_fail(
			err, TH_USAGE, "--ready-within needs --fetch always");
	return 0;
}

static int restart_found(
	struct invocation *call, struct th_group *group, int grace_ms)
{
	bool fetch = option_given(call, "fetch");
	int code = EXIT_DONE;

	if (!fetch && has_order(group))
		return restart_group(call, group, grace_ms);
	for (size_t i = 0; i < group->count; i++) {
		struct th_container_row *row = &group->items[i].before;
		int one = fetch ? update(call, row) : restart(call, row);

		code = code ? code : one;
	}
	return code;
}

static int run(struct invocation *call)
{
	struct th_container_row *rows = NULL;
	struct th_group group;
	struct th_error err = {0};
	size_t count = 0;
	int grace_ms, code, rc;

	if (read_grace(call, &grace_ms, &err) || check_fetch(call, &err))
		return say_error(&err);
	code = find_containers(call, th_container_is_up, &rows, &count);
	if (th_group_of(&call->hull.context, rows, count, &group, &err)) {
		rc = say_error(&err);
	} else {
		rc = restart_found(call, &group, grace_ms);
		th_group_release(&group);
	}
	free(rows);
	return code ? code : rc;
}

static const struct option_spec options[] = {
	{"all", NULL, "all that are running or waiting"},
	{"fetch", "WHEN", "always: with the newest image of its name"},
	REPLACING_OPTIONS, {NULL, NULL, NULL}};

static const char *const text[] = {
	"Its ports stay bound in between. A stopped container is started.", "",
	"With --fetch always, the image is pulled anew, and a container of it",
	"takes the place: settings, volumes, name and ports stay, and what was",
	"written to its files goes. If it is not ready in time, the former one",
	"runs again.", NULL};

static const char *const examples[] = {"tidyhull restart gauge-north",
	"tidyhull restart --all --grace 2s",
	"tidyhull restart --fetch always group:harbour", NULL};

const struct verb verb_restart = {.name = "restart",
	.group = "containers",
	.summary = "stop a container and start it again",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS_MADE | VERB_REGISTRIES,
	.least = 0,
	.most = -1,
	.run = run};
