#include "cli/making.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/options.h"
#include "cli/output.h"
#include "cli/secret.h"
#include "cli/settings_text.h"
#include "cli/shown.h"
#include "container/container.h"
#include "container/env_file.h"
#include "network/network.h"

static int add_env(
	struct th_settings *settings, const char *text, struct th_error *err)
{
	const char *equals = strchr(text, '=');
	char *key, *value = NULL;
	const char *own;
	int rc = -1;

	key = strndup(text, equals ? (size_t)(equals - text) : strlen(text));
	if (!key)
		return th_fail_memory(err);
	if (!*key) {
		th_fail(err, TH_USAGE,
			"\"%.100s\" is not an environment setting", text);
		th_hint(err,
			"use KEY=VALUE, KEY, KEY=@file:PATH, or @file:PATH for "
			"a file of lines");
		goto out;
	}
	if (!equals) {
		own = getenv(key);
		if (!own) {
			th_fail(err, TH_USAGE,
				"%s is not set in your environment", key);
			th_hint(err, "give it a value: --env %s=VALUE", key);
			goto out;
		}
		value = strdup(own);
	} else if (strncmp(equals, "=@file:", 7) == 0) {
		value = secret_read(equals + 7, err);
	} else if (strcmp(equals, "=@stdin") == 0) {
		value = secret_read(NULL, err);
	} else if (strcmp(equals, "=@ask") == 0) {
		value = secret_ask(key, err);
		if (!value)
			th_hint(err, "use --env %s=@file:PATH or @stdin", key);
	} else {
		value = strdup(equals + 1);
	}
	if (!value)
		goto out;
	/* What did not stand on the command line is nobody's business. */
	rc = th_strings_take(&settings->env, th_format("%s=%s", key, value));
	if (rc == 0 && equals && equals[1] == '@')
		rc = th_strings_add(&settings->secrets, key);
	if (rc)
		th_fail_memory(err);
out:
	free(key);
	free(value);
	return rc;
}

/* What is about this host or session, and means nothing inside. */
static bool is_of_host(const char *pair)
{
	static const char *const names[] = {"PATH=", "HOME=", "PWD=", "OLDPWD=",
		"SHLVL=", "_=", "XDG_RUNTIME_DIR=", "DBUS_SESSION_BUS_ADDRESS=",
		"NOTIFY_SOCKET=", "LD_", "TIDYHULL_"};

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++) {
		if (strncmp(pair, names[i], strlen(names[i])) == 0)
			return true;
	}
	return false;
}

/* The job's environment; its values are nobody's business either. */
static int share_env(struct th_settings *settings, struct th_error *err)
{
	char words[100], *rest = NULL;
	int share = 0;

	snprintf(words, sizeof(words), "%s",
		settings->share_text ? settings->share_text : "");
	for (char *word = strtok_r(words, ",", &rest); word;
		word = strtok_r(NULL, ",", &rest)) {
		struct th_error ignored = {0}; /* told with the others */

		th_share_add(word, &share, &ignored);
	}
	for (char **pair = environ; share & TH_SHARE_ENV && *pair; pair++) {
		if (!strchr(*pair, '=') || is_of_host(*pair))
			continue;
		if (th_strings_add(&settings->env, *pair) ||
			th_strings_take(&settings->secrets,
				strndup(*pair, strcspn(*pair, "="))))
			return th_fail_memory(err);
	}
	return 0;
}

static const char *own_value(const char *key)
{
	return getenv(key);
}

/* True for "@file:PATH", a file of lines; path is what follows. */
static bool is_env_file(const char *text, const char **path)
{
	*path = text + strlen("@file:");
	return strncmp(text, "@file:", strlen("@file:")) == 0;
}

/* Values from a file were not on a command line: they are hidden, too. */
static int add_env_file(
	struct th_settings *settings, const char *path, struct th_error *err)
{
	size_t before = settings->env.count;
	char *text = secret_read(path, err);
	int rc;

	if (!text)
		return -1;
	rc = th_env_parse(text, path, own_value, &settings->env, err);
	free(text);
	for (size_t i = before; rc == 0 && i < settings->env.count; i++) {
		const char *pair = settings->env.items[i];

		rc = th_strings_take(
			&settings->secrets, strndup(pair, strcspn(pair, "=")));
		if (rc)
			th_fail_memory(err);
	}
	return rc;
}

static int take_secret(void *owner, const char *text, struct th_error *err)
{
	struct th_settings *settings = owner;

	return secret_add(&settings->secret_files, text, err);
}

static int add_capabilities(
	struct th_settings *settings, const char *text, struct th_error *err)
{
	char *copy = strdup(text), *rest = NULL;
	int rc = copy ? 0 : -1;

	for (char *part = copy ? strtok_r(copy, ",", &rest) : NULL;
		part && rc == 0; part = strtok_r(NULL, ",", &rest))
		rc = th_strings_add(&settings->capabilities, part);
	free(copy);
	return rc ? th_fail_memory(err) : 0;
}

static int read_choices(struct invocation *call, struct th_settings *settings,
	bool terminal, struct th_error *err)
{
	const char *tty = option_value(call, "tty");
	const char *fetch = option_value(call, "fetch");

	settings->terminal = terminal;
	if (tty && strcmp(tty, "yes") == 0)
		settings->terminal = true;
	else if (tty && strcmp(tty, "no") == 0)
		settings->terminal = false;
	else if (tty && strcmp(tty, "auto") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --tty; use auto, yes or "
			"no",
			tty);
	if (!fetch || strcmp(fetch, "missing") == 0)
		settings->fetch = TH_FETCH_MISSING;
	else if (strcmp(fetch, "always") == 0)
		settings->fetch = TH_FETCH_ALWAYS;
	else if (strcmp(fetch, "never") == 0)
		settings->fetch = TH_FETCH_NEVER;
	else
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --fetch; use missing, "
			"always or never",
			fetch);
	return 0;
}

/* Those whose values are taken as they are given. */
static int read_plain(
	const struct invocation *call, struct th_settings *settings)
{
	int rc = 0;

	for (const struct th_setting *one = th_settings_all; one->name; one++) {
		void *place = th_setting_place(one, settings);

		if (one->kind == TH_SETTING_TEXT)
			*(const char **)place = option_value(call, one->name);
		else if (one->kind == TH_SETTING_LIST &&
			one->joining != TH_JOIN_APART &&
			strcmp(one->name, "capability") != 0)
			rc |= option_values(call, one->name, place);
	}
	settings->image = call->objects[0];
	settings->read_only = option_given(call, "read-only");
	for (int i = 0; i < call->command_count; i++)
		rc |= th_strings_add(&settings->command, call->command[i]);
	return rc;
}

/* Those whose values may stand elsewhere, or are several in one. */
static int read_lists(struct invocation *call, struct th_settings *settings,
	struct th_error *err)
{
	struct th_strings texts = {0};
	const char *path;
	int rc = option_values(call, "env", &texts);

	if (rc)
		th_fail_memory(err);
	else
		rc = share_env(settings, err);
	/* What is given one by one wins over what comes from files. */
	for (size_t i = 0; rc == 0 && i < texts.count; i++) {
		if (is_env_file(texts.items[i], &path))
			rc = add_env_file(settings, path, err);
	}
	for (size_t i = 0; rc == 0 && i < texts.count; i++) {
		if (!is_env_file(texts.items[i], &path))
			rc = add_env(settings, texts.items[i], err);
	}
	th_strings_release(&texts);
	if (rc == 0)
		rc = each_option(call, "secret", take_secret, settings, err);
	texts = (struct th_strings){0};
	if (rc == 0)
		rc = option_values(call, "capability", &texts);
	for (size_t i = 0; rc == 0 && i < texts.count; i++)
		rc = add_capabilities(settings, texts.items[i], err);
	th_strings_release(&texts);
	return rc;
}

int making_read(struct invocation *call, struct making *making, bool terminal,
	struct th_error *err)
{
	struct th_settings *settings = &making->settings;
	char cwd[4096];

	memset(making, 0, sizeof(*making));
	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	if (th_strings_add(&making->values, cwd))
		return th_fail_memory(err);
	if (settings_file_read(call, &making->file, err)) {
		making_release(making);
		return -1;
	}
	if (!call->object_count) {
		making_release(making);
		th_fail(err, TH_USAGE, "%s: no image given", call->verb->name);
		return th_hint(err,
			"give an image, or a --settings file that names one");
	}
	settings->base = making->values.items[0];
	settings->caller.unprivileged = call->hull.caller.unprivileged;
	settings->caller.uid = call->hull.caller.uid;
	settings->caller.gid = call->hull.caller.gid;
	settings->caller.name = call->hull.caller.name;
	settings->caller.home = call->hull.caller.home;
	settings->caller.scratch = call->hull.caller.scratch;
	settings->keep = true;
	making->plan = option_given(call, "plan");
	if (read_plain(call, settings))
		th_fail_memory(err);
	else if (read_choices(call, settings, terminal, err) == 0 &&
		read_lists(call, settings, err) == 0)
		return 0;
	making_release(making);
	return -1;
}

void making_release(struct making *making)
{
	th_settings_release(&making->settings);
	th_strings_release(&making->values);
	th_strings_release(&making->kept);
	th_settings_file_release(&making->file);
}

/* True where a later one of the same name counts instead. */
static bool is_overruled(const struct invocation *call, int at)
{
	const struct th_setting *one = th_setting_find(call->options[at].name);

	if (one && one->kind == TH_SETTING_LIST)
		return false;
	for (int i = at + 1; i < call->option_count; i++) {
		if (strcmp(call->options[at].name, call->options[i].name) == 0)
			return true;
	}
	return false;
}

/* Options that are no settings. */
static bool is_common(const char *name)
{
	for (const struct option_spec *one = common_options; one->name; one++) {
		if (strcmp(one->name, name) == 0)
			return true;
	}
	return strcmp(name, "plan") == 0 || strcmp(name, "settings") == 0 ||
		strcmp(name, "given") == 0;
}

/* What file and options come to; values of the environment are nobody's. */
void making_print_plan(
	const struct invocation *call, const struct th_settings *settings)
{
	printf("all checks passed; %s would use:\n", call->verb->name);
	printf("  %-10s %s\n", "image", shown(settings->image));
	if (!settings->name)
		printf("  %-10s %s\n", "name", "(generated)");
	for (int i = 0; i < call->option_count; i++) {
		const struct given_option *one = &call->options[i];
		bool key_only = strcmp(one->name, "env") == 0 ||
			strcmp(one->name, "secret") == 0;

		if (is_common(one->name) || is_overruled(call, i))
			continue;
		printf("  %-10s %.*s\n", one->name,
			key_only ? (int)strcspn(one->value, "=") : 4000,
			one->value ? shown(one->value) : "yes");
	}
	for (size_t i = 0; i < settings->mount_count; i++) {
		const struct th_mount_setting *mount = &settings->mounts[i];

		if (mount->source)
			printf("  %-10s %s is %s\n", "", mount->target,
				mount->source);
	}
	if (settings->command.count)
		printf("  %-10s %s%s\n", "command",
			shown(settings->command.items[0]),
			settings->command.count > 1 ? " ..." : "");
	puts("nothing was changed");
}

static void note_labels(
	const struct invocation *call, const struct th_settings *settings)
{
	for (size_t i = 0; i < settings->mount_count; i++) {
		if (settings->mounts[i].label == TH_LABEL_NONE || call->quiet ||
			access(TH_SELINUX, F_OK) == 0)
			continue;
		fprintf(stderr,
			"note: this host uses no security labels, so %s gets "
			"none\n",
			settings->mounts[i].target);
	}
}

/* The default one is no news; another one may be a slip of the keys. */
static void note_networks(
	const struct invocation *call, const struct th_settings *settings)
{
	for (size_t i = 0; i < settings->made_networks.count; i++) {
		const char *name = settings->made_networks.items[i];

		if (strcmp(name, TH_NETWORK_DEFAULT) != 0 && !call->quiet)
			fprintf(stderr, "note: created the network \"%s\"\n",
				name);
	}
}

void making_note(
	const struct invocation *call, const struct th_settings *settings)
{
	note_labels(call, settings);
	note_networks(call, settings);
}

int making_create(struct invocation *call, struct making *making,
	struct th_container_row *row)
{
	struct th_problems problems = {0};
	struct th_error err = {0};
	const char *name = making->settings.name ? making->settings.name
						 : making->settings.image;
	int code = EXIT_DONE;

	if (making->plan)
		th_container_check(
			&call->hull.context, &making->settings, &problems);
	else if (th_container_create(&call->hull.context, &making->settings,
			 &problems, row, &err) &&
		err.code)
		code = say_error(&err);
	if (problems.count)
		code = say_problems(call->verb->name, name, &problems);
	else if (making->plan) {
		making_print_plan(call, &making->settings);
		code = -1;
	}
	if (code == EXIT_DONE)
		making_note(call, &making->settings);
	th_problems_release(&problems);
	return code;
}
