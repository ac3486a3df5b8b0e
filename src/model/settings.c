#include "model/settings.h"

#include <arpa/inet.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/distance.h"

#define DEFAULT_GRACE_MS 10000

static int wrong_stop(const char *part, struct th_error *err)
{
	int64_t span;

	th_fail(err, TH_USAGE, "\"%.100s\" is not a stop setting", part);
	if (th_clock_parse_span(part, &span) == 0)
		return th_hint(err, "it is: --stop grace=%.20s", part);
	if (th_signal_parse(part) > 0)
		return th_hint(err, "it is: --stop signal=%.20s", part);
	if (strncmp(part, "signal=", 7) == 0)
		th_signal_hint(part + 7, err);
	if (strncmp(part, "signal=", 7) == 0)
		return th_hint(
			err, "signals are those of kill -l: --stop signal=INT");
	return th_hint(err, "for example --stop signal=INT,grace=30s");
}

static int read_stop(struct th_settings *settings, struct th_error *err)
{
	char *copy = strdup(settings->stop_text), *rest = NULL;
	int64_t span;
	int rc = 0;

	if (!copy)
		return th_fail_memory(err);
	for (char *part = strtok_r(copy, ",", &rest); part && rc == 0;
		part = strtok_r(NULL, ",", &rest)) {
		if (strncmp(part, "signal=", 7) == 0 &&
			th_signal_parse(part + 7) > 0) {
			settings->stop_signal = th_signal_parse(part + 7);
		} else if (strncmp(part, "grace=", 6) == 0 &&
			th_clock_parse_span(part + 6, &span) == 0 &&
			span < (int64_t)86400 * 1000000) {
			settings->grace_ms = (int)(span / 1000);
		} else {
			rc = wrong_stop(part, err);
		}
	}
	free(copy);
	return rc;
}

static int check_capability(const char *text, struct th_error *err)
{
	char name[64];

	snprintf(name, sizeof(name), "CAP_%.50s", text + (*text != '\0'));
	if ((*text == '+' || *text == '-') && th_capability_number(name) >= 0)
		return 0;
	th_fail(err, TH_USAGE, "\"%.60s\" is not a capability change", text);
	if (th_capability_meant(text))
		return th_hint(err, "it is: --capability %c%s",
			*text == '-' ? '-' : '+', th_capability_meant(text));
	return th_hint(err, "for example --capability +NET_ADMIN,-CHOWN");
}

static int check_hostname(const char *name, struct th_error *err)
{
	char dashed[64];

	if (th_host_name_valid(name))
		return 0;
	th_fail(err, TH_USAGE, "\"%.100s\" is not a host name", name);
	snprintf(dashed, sizeof(dashed), "%s", name);
	for (char *at = dashed; *at; at++)
		*at = *at == ' ' || *at == '_' ? '-' : *at;
	if (th_host_name_valid(dashed))
		return th_hint(err, "it is: --hostname %s", dashed);
	return th_hint(
		err, "letters, digits, dots and hyphens: --hostname gauge-1");
}

static void add_if(
	struct th_problems *problems, int failed, struct th_error *err)
{
	if (failed)
		th_problems_add(problems, err);
}

/* ---- sets of words ---- */

static const char *const allow_words[] = {"syscalls", "new-privileges",
	"kernel-paths", "devices", "old-sockets", "addresses", NULL};
static const char *const share_words[] = {
	"home", "cwd", "user", "env", "scratch", "shm", "ipc", "pmix", NULL};

static int add_word(const char *word, const char *const *words,
	const char *what, int *set, struct th_error *err)
{
	char all[128] = "", name[32];
	const char *meant;
	int bit = 0;

	while (words[bit] && strcmp(words[bit], word) != 0)
		bit++;
	if (words[bit]) {
		*set |= 1 << bit;
		return 0;
	}
	for (size_t i = 0, len = 0; words[i] && len < sizeof(all); i++)
		len += (size_t)snprintf(all + len, sizeof(all) - len, "%s%s",
			i ? ", " : "", words[i]);
	th_fail(err, TH_USAGE, "\"%.60s\" is not a value of --%s", word, what);
	/* "home=yes", "homes" */
	snprintf(name, sizeof(name), "%.*s", (int)strcspn(word, "=:"), word);
	for (bit = 0; words[bit] && strcmp(words[bit], name) != 0; bit++) {
	}
	meant = words[bit] ? words[bit] : th_nearest(name, words);
	if (words == share_words && strcmp(name, "pwd") == 0)
		meant = "cwd";
	else if (words == share_words && *name == '/')
		meant = "home";
	if (meant)
		return th_hint(err, "it is: --%s %s", what, meant);
	return th_hint(err, "use %s", all);
}

int th_allow_add(const char *word, int *allow, struct th_error *err)
{
	return add_word(word, allow_words, "allow", allow, err);
}

int th_share_add(const char *word, int *share, struct th_error *err)
{
	return add_word(word, share_words, "share", share, err);
}

static json_t *list_words(const char *const *words, int set)
{
	json_t *list = json_array();

	for (int bit = 0; words[bit]; bit++) {
		if (set & 1 << bit)
			json_array_append_new(list, json_string(words[bit]));
	}
	return list;
}

json_t *th_allow_to_json(int allow)
{
	return list_words(allow_words, allow);
}

json_t *th_share_to_json(int share)
{
	return list_words(share_words, share);
}

static int read_words(const char *text,
	int (*add)(const char *word, int *set, struct th_error *err), int *set,
	struct th_error *err)
{
	char *copy = strdup(text), *rest = NULL;
	int rc = copy ? 0 : th_fail_memory(err);

	for (char *word = copy ? strtok_r(copy, ",", &rest) : NULL;
		word && rc == 0; word = strtok_r(NULL, ",", &rest))
		rc = add(word, set, err);
	free(copy);
	return rc;
}

/* ---- reading ---- */

static int read_reaper(struct th_settings *settings, struct th_error *err)
{
	const char *text = settings->reaper_text;

	settings->reaper = TH_REAPER_AUTO;
	if (!text || strcmp(text, "auto") == 0)
		return 0;
	settings->reaper =
		strcmp(text, "yes") == 0 ? TH_REAPER_YES : TH_REAPER_NO;
	if (settings->reaper == TH_REAPER_YES || strcmp(text, "no") == 0)
		return 0;
	return th_fail(err, TH_USAGE,
		"\"%.50s\" is not a value of --reaper; use auto, yes or no",
		text);
}

/* Limits, and what is taken away of the safe defaults. */
static void read_bounds(
	struct th_settings *settings, struct th_problems *problems)
{
	struct th_error err = {0};

	for (size_t i = 0; i < settings->limit_texts.count; i++)
		add_if(problems,
			th_limit_parse(settings->limit_texts.items[i],
				&settings->limit, &err),
			&err);
	for (size_t i = 0; i < settings->allow_texts.count; i++)
		add_if(problems,
			read_words(settings->allow_texts.items[i], th_allow_add,
				&settings->allow, &err),
			&err);
	if (settings->share_text)
		add_if(problems,
			read_words(settings->share_text, th_share_add,
				&settings->share, &err),
			&err);
	add_if(problems, read_reaper(settings, &err), &err);
	for (size_t i = 0; i < settings->device_texts.count; i++) {
		const char *text = settings->device_texts.items[i];
		char path[60];

		if (text[0] == '/' || th_device_name_valid(text))
			continue;
		th_fail(&err, TH_USAGE, "\"%.100s\" is not a device", text);
		/* "kvm:/dev/kvm" */
		if (strstr(text, "/dev/"))
			th_hint(&err, "it is: --device %.*s",
				(int)strcspn(strstr(text, "/dev/"), ":,"),
				strstr(text, "/dev/"));
		snprintf(path, sizeof(path), "/dev/%.50s", text);
		if (access(path, F_OK) == 0)
			th_hint(&err, "it is: --device %s", path);
		th_hint(&err,
			"use a path (/dev/fuse) or a name "
			"(selwick.example/gauge=north)");
		th_problems_add(problems, &err);
	}
}

static bool is_address(const char *text)
{
	unsigned char raw[16];

	return inet_pton(AF_INET, text, raw) == 1 ||
		inet_pton(AF_INET6, text, raw) == 1;
}

/* "gauge:192.0.2.7", and the other way round. */
static int wrong_host(const char *text, struct th_error *err)
{
	size_t len = strcspn(text, ":= ");
	char first[64];
	const char *second = text + len + (text[len] != '\0');

	snprintf(first, sizeof(first), "%.*s", (int)len, text);
	th_fail(err, TH_USAGE, "\"%.100s\" is not NAME=ADDRESS", text);
	if (th_host_name_valid(first) && is_address(second))
		return th_hint(err, "it is: --host %s=%s", first, second);
	if (th_host_name_valid(second) && is_address(first))
		return th_hint(err, "it is: --host %s=%s", second, first);
	return th_hint(err, "for example --host chart-office=192.0.2.7");
}

/* Names of this container, and of others, on the network. */
static void check_names(
	const struct th_settings *settings, struct th_problems *problems)
{
	struct th_error err = {0};
	size_t total = 0;

	for (size_t i = 0; i < settings->aliases.count; i++) {
		const char *name = settings->aliases.items[i];

		total += strlen(name) + 1;
		if (total < 250 && strlen(name) <= 63)
			add_if(problems, check_hostname(name, &err), &err);
		else
			add_if(problems,
				th_fail(&err, TH_USAGE, "too many aliases"),
				&err);
	}
	for (size_t i = 0; i < settings->host_texts.count; i++) {
		const char *text = settings->host_texts.items[i];
		const char *address = strchr(text, '=');
		char name[64];

		snprintf(name, sizeof(name), "%.*s", (int)strcspn(text, "="),
			text);
		if (address && check_hostname(name, &err) == 0 &&
			is_address(address + 1))
			continue;
		th_error_clear(&err);
		wrong_host(text, &err);
		th_problems_add(problems, &err);
	}
}

/* What it does when its program ends, and while it runs. */
static void read_life(
	struct th_settings *settings, struct th_problems *problems)
{
	const char *restart = settings->restart_text;
	const char *probe = settings->probe_text;
	struct th_error err = {0};

	add_if(problems,
		th_policy_parse(
			restart ? restart : "", &settings->policy, &err),
		&err);
	add_if(problems,
		th_probe_parse(probe ? probe : "", &settings->probe, &err),
		&err);
	add_if(problems,
		th_log_settings_parse(settings->log_text, &settings->log, &err),
		&err);
}

static void check_secrets(
	const struct th_settings *settings, struct th_problems *problems)
{
	for (size_t i = 0; i < settings->secret_files.count; i++) {
		const char *text = settings->secret_files.items[i];
		struct th_error err = {0};
		char name[TH_NAME_MAX];

		snprintf(name, sizeof(name), "%.*s", (int)strcspn(text, "="),
			text);
		if (th_name_valid(name))
			continue;
		th_fail(&err, TH_USAGE,
			"\"%.60s\" is not a valid name for a secret", name);
		th_hint(&err, "for example --secret password=@file:./pw");
		th_problems_add(problems, &err);
	}
}

static void read_lists(
	struct th_settings *settings, struct th_problems *problems)
{
	struct th_error err = {0};

	for (size_t i = 0; i < settings->port_texts.count; i++) {
		const char *text = settings->port_texts.items[i];

		/* Which those are is known when the image is here. */
		if (strcmp(text, "declared") == 0)
			settings->declared_ports = true;
		else
			add_if(problems,
				th_port_parse(text, &settings->ports,
					&settings->port_count, &err),
				&err);
	}
	settings->mounts = calloc(
		settings->mount_texts.count + 1, sizeof(*settings->mounts));
	for (size_t i = 0; settings->mounts && i < settings->mount_texts.count;
		i++)
		add_if(problems,
			th_mount_parse(settings->mount_texts.items[i],
				settings->base,
				&settings->mounts[settings->mount_count++],
				&err),
			&err);
	for (size_t i = 0; i < settings->capabilities.count; i++)
		add_if(problems,
			check_capability(settings->capabilities.items[i], &err),
			&err);
}

static int add_use(
	struct th_settings *settings, const char *text, struct th_error *err)
{
	struct th_network_use *use =
		&settings->networks[settings->network_count];
	size_t used = strlen(settings->network);

	if (settings->network_count == TH_NETWORKS_MAX)
		return th_fail(err, TH_USAGE,
			"a container can be on %d networks at most",
			TH_NETWORKS_MAX);
	if (th_network_use_parse(text, use, err))
		return -1;
	for (size_t i = 0; i < settings->network_count; i++) {
		if (strcmp(settings->networks[i].network, use->network) == 0)
			return th_fail(err, TH_USAGE,
				"the network \"%s\" is named twice",
				use->network);
	}
	if (used + strlen(use->network) + 2 > sizeof(settings->network))
		return th_fail(err, TH_USAGE,
			"the names of the networks are too long in total");
	snprintf(settings->network + used, sizeof(settings->network) - used,
		"%s%s", used ? "," : "", use->network);
	settings->network_count++;
	return 0;
}

static void check_alone(
	const struct th_settings *settings, struct th_problems *problems)
{
	bool with = th_network_is_with(settings->network);
	bool host = strcmp(settings->network, "host") == 0;
	struct th_error err = {0};

	if (host && settings->port_texts.count) {
		th_fail(&err, TH_USAGE,
			"ports cannot be published with --network host");
		th_hint(&err,
			"leave out --port: the program's ports are already the "
			"host's");
		th_problems_add(problems, &err);
	}
	if (with && settings->port_texts.count) {
		th_fail(&err, TH_USAGE,
			"ports cannot be published with --network with:NAME");
		th_hint(&err, "give --port to \"%s\" when you create it",
			settings->network + strlen(TH_NETWORK_WITH));
		th_problems_add(problems, &err);
	}
	if (settings->aliases.count && !settings->network_count) {
		th_fail(&err, TH_USAGE,
			"an alias needs a network with other containers");
		th_hint(&err, "leave out --alias, or choose another --network");
		th_problems_add(problems, &err);
	}
}

static void read_networks(
	struct th_settings *settings, struct th_problems *problems)
{
	const struct th_strings *texts = &settings->network_texts;
	struct th_error err = {0};

	for (size_t i = 0; i < texts->count; i++) {
		const char *text = texts->items[i];

		if (!th_network_is_shared(text) && texts->count > 1) {
			th_fail(&err, TH_USAGE,
				"--network %.60s cannot be combined with "
				"another network",
				text);
			th_problems_add(problems, &err);
		} else if (!th_network_is_shared(text)) {
			snprintf(settings->network, sizeof(settings->network),
				"%s", text);
		} else if (add_use(settings, text, &err)) {
			th_problems_add(problems, &err);
		}
	}
	if (!texts->count)
		add_use(settings, TH_NETWORK_DEFAULT, &err);
	check_alone(settings, problems);
}

void th_settings_parse(
	struct th_settings *settings, struct th_problems *problems)
{
	struct th_error err = {0};
	char dashed[TH_NAME_MAX];

	if (settings->parsed)
		return;
	settings->parsed = true;
	settings->grace_ms = DEFAULT_GRACE_MS;
	if (settings->name && !th_name_valid(settings->name)) {
		th_fail(&err, TH_USAGE, "\"%.100s\" is not a valid name",
			settings->name);
		/* A space alone is wrong. */
		snprintf(dashed, sizeof(dashed), "%s", settings->name);
		for (char *at = dashed; *at; at++)
			*at = *at == ' ' ? '-' : *at;
		if (th_name_valid(dashed))
			th_hint(&err, "it is: --name %s", dashed);
		th_hint(&err,
			"use up to 63 letters, digits, dots, dashes and "
			"underscores");
		th_problems_add(problems, &err);
	}
	read_lists(settings, problems);
	read_bounds(settings, problems);
	if (settings->stop_text)
		add_if(problems, read_stop(settings, &err), &err);
	read_life(settings, problems);
	check_secrets(settings, problems);
	check_names(settings, problems);
	if (settings->hostname)
		add_if(problems, check_hostname(settings->hostname, &err),
			&err);
	if (settings->workdir && settings->workdir[0] != '/') {
		th_fail(&err, TH_USAGE,
			"the working folder \"%.200s\" is not an absolute path",
			settings->workdir);
		th_hint(&err, "it is: --workdir /%.200s", settings->workdir);
		th_problems_add(problems, &err);
	}
	read_networks(settings, problems);
}

void th_settings_release(struct th_settings *settings)
{
	for (const struct th_setting *one = th_settings_all; one->name; one++) {
		if (one->kind == TH_SETTING_LIST)
			th_strings_release(th_setting_place(one, settings));
	}
	th_strings_release(&settings->secrets);
	th_strings_release(&settings->made_networks);
	free(settings->ports);
	for (size_t i = 0; i < settings->mount_count; i++)
		th_mount_release(&settings->mounts[i]);
	free(settings->mounts);
	th_probe_release(&settings->probe);
	settings->ports = NULL;
	settings->mounts = NULL;
	settings->port_count = settings->mount_count = 0;
	settings->parsed = false;
}
