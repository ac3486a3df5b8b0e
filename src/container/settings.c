#include "container/settings.h"

#include <arpa/inet.h>
#include <ctype.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/path.h"
#include "base/size.h"
#include "container/cdi.h"
#include "container/networks.h"
#include "container/own_users.h"
#include "container/log.h"
#include "model/policy.h"
#include "model/probe.h"
#include "oci/bundle.h"

#define DEFAULT_GRACE_MS 10000

bool th_name_valid(const char *name)
{
	size_t len = strlen(name);

	if (len < 1 || len > 63 || !isalnum((unsigned char)name[0]))
		return false;
	return strspn(name,
		       "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
		       "0123456789._-") == len;
}

int th_signal_parse(const char *text)
{
	char *end;
	long number = strtol(text, &end, 10);

	if (end != text && !*end)
		return number >= 1 && number <= 64 ? (int)number : -1;
	if (strncmp(text, "SIG", 3) == 0)
		text += 3;
	for (int i = 1; i < 32; i++) {
		const char *name = sigabbrev_np(i);

		if (name && strcmp(name, text) == 0)
			return i;
	}
	if (strncmp(text, "RTMIN+", 6) == 0) {
		number = strtol(text + 6, &end, 10);
		if (end != text + 6 && !*end && number >= 0 &&
			SIGRTMIN + number <= SIGRTMAX)
			return SIGRTMIN + (int)number;
	}
	return -1;
}

const char *th_signal_name(int number)
{
	return number > 0 && number < 32 ? sigabbrev_np(number) : NULL;
}

static int take_mount_option(struct th_mount_setting *mount, const char *option,
	const char *text, struct th_error *err)
{
	if (strcmp(option, "ro") == 0) {
		mount->readonly = true;
	} else if (strcmp(option, "make") == 0) {
		mount->make = true;
	} else if (strcmp(option, "map=me") == 0) {
		mount->map_owner = true;
	} else if (strcmp(option, "label=mine") == 0) {
		mount->label = TH_LABEL_MINE;
	} else if (strcmp(option, "label=all") == 0) {
		mount->label = TH_LABEL_ALL;
	} else if (strcmp(option, "propagate=private") == 0) {
		mount->propagation = "rprivate";
	} else if (strcmp(option, "propagate=slave") == 0) {
		mount->propagation = "rslave";
	} else if (strcmp(option, "propagate=shared") == 0) {
		mount->propagation = "rshared";
	} else {
		th_fail(err, TH_USAGE,
			"\"%s\" in the mount \"%.200s\" is not an option of "
			"mounts",
			option, text);
		return th_hint(err,
			"options of mounts: ro, make, map=me, label=mine, "
			"label=all, propagate=private|slave|shared");
	}
	return 0;
}

static int take_source(struct th_mount_setting *mount, const char *source,
	const char *text, const char *base, struct th_error *err)
{
	if (strncmp(source, "memory", 6) == 0 &&
		(source[6] == ':' || !source[6])) {
		mount->kind = TH_MOUNT_MEMORY;
		if (source[6] &&
			th_size_parse(source + 7, &mount->size_bytes)) {
			th_fail(err, TH_USAGE,
				"\"%s\" in the mount \"%.200s\" is not a size",
				source + 7, text);
			return th_hint(err, "use a number with K, M or G");
		}
		return 0;
	}
	if (strncmp(source, "volume:", 7) == 0) {
		mount->kind = TH_MOUNT_VOLUME;
		if (!th_name_valid(source + 7)) {
			th_fail(err, TH_USAGE,
				"\"%.100s\" is not a valid volume name",
				source + 7);
			return th_hint(err,
				"use up to 63 letters, digits, dots, dashes "
				"and underscores");
		}
		mount->volume = strdup(source + 7);
		return mount->volume ? 0 : th_fail_memory(err);
	}
	mount->source = th_path_absolute(base, source);
	return mount->source ? 0 : th_fail_memory(err);
}

static int parse_mount(const char *text, const char *base,
	struct th_mount_setting *mount, struct th_error *err)
{
	char *copy = strdup(text), *source, *option, *rest = NULL;
	int rc = -1;

	memset(mount, 0, sizeof(*mount));
	if (!copy)
		return th_fail_memory(err);
	source = strchr(copy, '=');
	if (copy[0] != '/' || !source || !source[1] || source[1] == ',') {
		th_fail(err, TH_USAGE, "\"%.200s\" is not a mount setting",
			text);
		th_hint(err,
			"write what the container sees on the left: "
			"/data=./ledger; add ,ro or ,make as needed");
		goto out;
	}
	*source++ = '\0';
	option = strchr(source, ',');
	if (option)
		*option++ = '\0';
	mount->target = th_path_absolute("/", copy);
	if (!mount->target) {
		th_fail_memory(err);
		goto out;
	}
	if (strcmp(mount->target, "/") == 0) {
		th_fail(err, TH_USAGE,
			"the mount \"%.200s\" would replace the container's "
			"root",
			text);
		goto out;
	}
	for (option = option ? strtok_r(option, ",", &rest) : NULL; option;
		option = strtok_r(NULL, ",", &rest)) {
		if (take_mount_option(mount, option, text, err))
			goto out;
	}
	rc = take_source(mount, source, text, base, err);
out:
	free(copy);
	return rc;
}

static int parse_stop(struct th_settings *settings, struct th_error *err)
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
			rc = th_fail(err, TH_USAGE,
				"\"%.100s\" is not a stop setting", part);
			th_hint(err, "for example --stop signal=INT,grace=30s");
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
	return th_hint(err, "for example --capability +NET_ADMIN,-CHOWN");
}

static int check_hostname(const char *name, struct th_error *err)
{
	size_t len = strlen(name);

	if (len > 0 && len <= 63 &&
		strspn(name,
			"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
			"0123456789.-") == len)
		return 0;
	return th_fail(err, TH_USAGE, "\"%.100s\" is not a host name", name);
}

static void add_if(
	struct th_problems *problems, int failed, struct th_error *err)
{
	if (failed)
		th_problems_add(problems, err);
}

static int read_words(const char *text, const char *const *words,
	const char *what, int *set, struct th_error *err)
{
	char *copy = strdup(text), *rest = NULL, all[128] = "";
	int rc = 0;

	if (!copy)
		return th_fail_memory(err);
	for (size_t i = 0, len = 0; words[i] && len < sizeof(all); i++)
		len += (size_t)snprintf(all + len, sizeof(all) - len, "%s%s",
			i ? ", " : "", words[i]);
	for (char *word = strtok_r(copy, ",", &rest); word && rc == 0;
		word = strtok_r(NULL, ",", &rest)) {
		int bit = 0;

		while (words[bit] && strcmp(words[bit], word) != 0)
			bit++;
		if (words[bit]) {
			*set |= 1 << bit;
			continue;
		}
		rc = th_fail(err, TH_USAGE, "\"%.60s\" is not a value of --%s",
			word, what);
		th_hint(err, "use %s", all);
	}
	free(copy);
	return rc;
}

static int check_reaper(struct th_settings *settings, struct th_error *err)
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
static void check_bounds(
	struct th_settings *settings, struct th_problems *problems)
{
	static const char *const allow[] = {"syscalls", "new-privileges",
		"kernel-paths", "devices", "old-sockets", "addresses", NULL};
	static const char *const share[] = {"home", "cwd", "user", NULL};
	struct th_error err = {0};

	for (size_t i = 0; i < settings->limit_texts.count; i++)
		add_if(problems,
			th_limit_parse(settings->limit_texts.items[i],
				&settings->limit, &err),
			&err);
	for (size_t i = 0; i < settings->allow_texts.count; i++)
		add_if(problems,
			read_words(settings->allow_texts.items[i], allow,
				"allow", &settings->allow, &err),
			&err);
	if (settings->share_text)
		add_if(problems,
			read_words(settings->share_text, share, "share",
				&settings->share, &err),
			&err);
	add_if(problems, check_reaper(settings, &err), &err);
	for (size_t i = 0; i < settings->device_texts.count; i++) {
		const char *text = settings->device_texts.items[i];

		if (text[0] == '/' || th_cdi_is_name(text))
			continue;
		th_fail(&err, TH_USAGE, "\"%.100s\" is not a device", text);
		th_hint(&err,
			"use a path (/dev/fuse) or a name "
			"(selwick.example/gauge=north)");
		th_problems_add(problems, &err);
	}
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
		unsigned char raw[16];

		snprintf(name, sizeof(name), "%.*s", (int)strcspn(text, "="),
			text);
		if (address && check_hostname(name, &err) == 0 &&
			(inet_pton(AF_INET, address + 1, raw) == 1 ||
				inet_pton(AF_INET6, address + 1, raw) == 1))
			continue;
		th_error_clear(&err);
		th_fail(&err, TH_USAGE, "\"%.100s\" is not NAME=ADDRESS", text);
		th_hint(&err, "for example --host chart-office=192.0.2.7");
		th_problems_add(problems, &err);
	}
}

/* What the keeper reads once more. */
static void check_life(
	const struct th_settings *settings, struct th_problems *problems)
{
	struct th_log_settings log;
	struct th_policy policy;
	struct th_probe probe;
	struct th_error err = {0};

	if (settings->restart_text)
		add_if(problems,
			th_policy_parse(settings->restart_text, &policy, &err),
			&err);
	for (size_t i = 0; i < settings->secret_files.count; i++) {
		const char *text = settings->secret_files.items[i];
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
	add_if(problems, th_log_settings(settings->log_text, &log, &err), &err);
	if (!settings->probe_text)
		return;
	if (th_probe_parse(settings->probe_text, &probe, &err))
		th_problems_add(problems, &err);
	else
		th_probe_release(&probe);
}

static void check_lists(
	struct th_settings *settings, struct th_problems *problems)
{
	struct th_error err = {0};

	for (size_t i = 0; i < settings->port_texts.count; i++)
		/* What the image declares is known when it is here. */
		add_if(problems,
			strcmp(settings->port_texts.items[i], "declared") !=
					0 &&
				th_port_parse(settings->port_texts.items[i],
					&settings->ports, &settings->port_count,
					&err),
			&err);
	settings->mounts = calloc(
		settings->mount_texts.count + 1, sizeof(*settings->mounts));
	for (size_t i = 0; settings->mounts && i < settings->mount_texts.count;
		i++)
		add_if(problems,
			parse_mount(settings->mount_texts.items[i],
				settings->base,
				&settings->mounts[settings->mount_count++],
				&err),
			&err);
	for (size_t i = 0; i < settings->capabilities.count; i++)
		add_if(problems,
			check_capability(settings->capabilities.items[i], &err),
			&err);
}

/* What an earlier look has filled in: it is looked at before a container is
 * made, and once more when it is. */
static void forget_checked(struct th_settings *settings)
{
	free(settings->ports);
	for (size_t i = 0; i < settings->mount_count; i++) {
		free(settings->mounts[i].target);
		free(settings->mounts[i].source);
		free(settings->mounts[i].volume);
	}
	free(settings->mounts);
	settings->ports = NULL;
	settings->mounts = NULL;
	settings->port_count = settings->mount_count = 0;
	memset(&settings->limit, 0, sizeof(settings->limit));
	settings->allow = settings->share = 0;
	settings->stop_signal = 0;
}

void th_settings_check(
	struct th_settings *settings, struct th_problems *problems)
{
	struct th_error err = {0};

	forget_checked(settings);
	settings->grace_ms = DEFAULT_GRACE_MS;
	if (settings->name && !th_name_valid(settings->name)) {
		th_fail(&err, TH_USAGE, "\"%.100s\" is not a valid name",
			settings->name);
		th_hint(&err,
			"use up to 63 letters, digits, dots, dashes and "
			"underscores");
		th_problems_add(problems, &err);
	}
	check_lists(settings, problems);
	check_bounds(settings, problems);
	if (settings->stop_text)
		add_if(problems, parse_stop(settings, &err), &err);
	check_life(settings, problems);
	check_names(settings, problems);
	if (settings->hostname)
		add_if(problems, check_hostname(settings->hostname, &err),
			&err);
	if (settings->workdir && settings->workdir[0] != '/') {
		th_fail(&err, TH_USAGE,
			"the working folder \"%.200s\" is not an absolute path",
			settings->workdir);
		th_problems_add(problems, &err);
	}
	networks_parse(settings, problems);
	/* Last: it depends on the others. */
	add_if(problems, th_users_choose(settings, &err), &err);
}

void th_settings_release(struct th_settings *settings)
{
	th_strings_release(&settings->command);
	th_strings_release(&settings->port_texts);
	th_strings_release(&settings->mount_texts);
	th_strings_release(&settings->env);
	th_strings_release(&settings->secrets);
	th_strings_release(&settings->secret_files);
	th_strings_release(&settings->aliases);
	th_strings_release(&settings->network_texts);
	th_strings_release(&settings->made_networks);
	th_strings_release(&settings->host_texts);
	th_strings_release(&settings->capabilities);
	th_strings_release(&settings->limit_texts);
	th_strings_release(&settings->device_texts);
	th_strings_release(&settings->allow_texts);
	forget_checked(settings);
}
