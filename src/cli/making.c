#include "cli/line.h"
#include "cli/making.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/env_file.h"
#include "cli/doc.h"
#include "cli/options.h"
#include "cli/output.h"
#include "cli/secret.h"
#include "cli/settings_text.h"
#include "cli/shown.h"
#include "cli/words.h"

/* ---- values that may stand elsewhere ---- */

struct values {
	struct th_strings env; /* KEY=VALUE */
	struct th_strings hidden; /* keys of those that show hides */
	struct th_strings secrets; /* NAME=VALUE, given as files */
};

static int add_env(
	struct values *values, const char *text, struct th_error *err)
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
	if (isspace((unsigned char)key[0]) ||
		isspace((unsigned char)key[strlen(key) - 1])) {
		th_fail(err, TH_USAGE,
			"\"%.100s\" is not the name of a variable", key);
		th_hint(err, "it is: --env %.*s=%s",
			(int)strcspn(key + strspn(key, " "), " "),
			key + strspn(key, " "),
			equals ? equals + 1 + strspn(equals + 1, " ")
			       : "VALUE");
		goto out;
	}
	if (!equals) {
		own = getenv(key);
		if (!own) {
			th_fail(err, TH_USAGE,
				"%s is not set in your environment", key);
			if (key[0] == '@' || strncmp(key, "file:", 5) == 0)
				th_hint(err, "it is: --env @file:%.100s",
					key + (key[0] == '@' ? 1 : 5));
			if (strchr(key, ':'))
				th_hint(err, "it is: --env %.*s=%s",
					(int)strcspn(key, ":"), key,
					strchr(key, ':') + 1);
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
	rc = th_strings_take(&values->env, th_format("%s=%s", key, value));
	if (rc == 0 && equals && equals[1] == '@')
		rc = th_strings_add(&values->hidden, key);
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

static bool has_word(const char *list, const char *word)
{
	size_t len = strlen(word);

	for (const char *at = list; at; at = strchr(at, ',')) {
		at += *at == ',';
		if (strncmp(at, word, len) == 0 && (at[len] == ',' || !at[len]))
			return true;
	}
	return false;
}

/* The job's environment; its values are nobody's business either. */
static int share_env(const struct invocation *call, struct values *values,
	struct th_error *err)
{
	bool shares = has_word(option_value(call, "share"), "env");

	for (char **pair = environ; shares && *pair; pair++) {
		if (!strchr(*pair, '=') || is_of_host(*pair))
			continue;
		if (th_strings_add(&values->env, *pair) ||
			th_strings_take(&values->hidden,
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
	struct values *values, const char *path, struct th_error *err)
{
	size_t before = values->env.count;
	char *text = secret_read(path, err);
	int rc;

	if (!text)
		return -1;
	rc = th_env_parse(text, path, own_value, &values->env, err);
	free(text);
	for (size_t i = before; rc == 0 && i < values->env.count; i++) {
		const char *pair = values->env.items[i];

		rc = th_strings_take(
			&values->hidden, strndup(pair, strcspn(pair, "=")));
		if (rc)
			th_fail_memory(err);
	}
	return rc;
}

static int take_secret(void *owner, const char *text, struct th_error *err)
{
	struct values *values = owner;

	return secret_add(&values->secrets, text, err);
}

static int read_values(const struct invocation *call, struct values *values,
	struct th_error *err)
{
	struct th_strings texts = {0};
	const char *path;
	int rc = option_values(call, "env", &texts);

	if (rc)
		th_fail_memory(err);
	else
		rc = share_env(call, values, err);
	/* What is given one by one wins over what comes from files. */
	for (size_t i = 0; rc == 0 && i < texts.count; i++) {
		if (is_env_file(texts.items[i], &path))
			rc = add_env_file(values, path, err);
	}
	for (size_t i = 0; rc == 0 && i < texts.count; i++) {
		if (!is_env_file(texts.items[i], &path))
			rc = add_env(values, texts.items[i], err);
	}
	th_strings_release(&texts);
	return rc ? -1 : each_option(call, "secret", take_secret, values, err);
}

/* ---- the settings ---- */

/* Each may hold several. */
static json_t *read_capabilities(const struct invocation *call)
{
	json_t *given = option_list(call, "capability"), *list = json_array();

	for (size_t i = 0; i < json_array_size(given); i++) {
		char *copy = strdup(doc_item(given, i)), *rest = NULL;

		for (char *part = copy ? strtok_r(copy, ",", &rest) : NULL;
			part; part = strtok_r(NULL, ",", &rest))
			json_array_append_new(list, json_string_nocheck(part));
		free(copy);
	}
	json_decref(given);
	return list;
}

/* "selwick.example/gauge=@env:GAUGES": those that a variable names, as batch
 * engines do for what they have assigned to a job: "0,3". */
static int add_devices(json_t *list, const char *text, struct th_error *err)
{
	const char *at = strstr(text, "=@env:");
	const char *key = at ? at + strlen("=@env:") : NULL;
	const char *value = key && *key ? getenv(key) : NULL;
	char *copy, *rest = NULL;

	if (!at) {
		json_array_append_new(list, json_string_nocheck(text));
		return 0;
	}
	if (!value) {
		th_fail(err, TH_USAGE,
			"%s is not set in your environment, so it names no "
			"devices",
			*key ? key : "a variable without a name");
		return th_hint(err, "give the device: --device %.*s=NAME",
			(int)(at - text), text);
	}
	copy = strdup(value);
	if (!copy)
		return th_fail_memory(err);
	for (char *name = strtok_r(copy, ", ", &rest); name;
		name = strtok_r(NULL, ", ", &rest)) {
		char *whole =
			th_format("%.*s=%s", (int)(at - text), text, name);

		json_array_append_new(
			list, json_string_nocheck(whole ? whole : ""));
		free(whole);
	}
	free(copy);
	return 0;
}

static int take_device(void *owner, const char *text, struct th_error *err)
{
	return add_devices(owner, text, err);
}

static int read_devices(
	const struct invocation *call, json_t *settings, struct th_error *err)
{
	json_t *list = json_array();
	int rc = each_option(call, "device", take_device, list, err);

	json_object_set_new(settings, "device", list);
	return rc;
}

static int read_choices(const struct invocation *call, struct making *making,
	bool terminal, struct th_error *err)
{
	const char *tty = option_value(call, "tty");
	const char *fetch = option_value(call, "fetch");

	making->terminal = terminal;
	if (tty && strcmp(tty, "yes") == 0)
		making->terminal = true;
	else if (tty && strcmp(tty, "no") == 0)
		making->terminal = false;
	else if (tty && strcmp(tty, "auto") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --tty; use auto, yes or "
			"no",
			tty);
	if (fetch && strcmp(fetch, "missing") != 0 &&
		strcmp(fetch, "always") != 0 && strcmp(fetch, "never") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --fetch; use missing, "
			"always or never",
			fetch);
	doc_set(making->settings, "fetch", fetch);
	json_object_set_new(
		making->settings, "tty", json_boolean(making->terminal));
	return 0;
}

/* Those whose values are taken as they are given. */
static void read_plain(const struct invocation *call, json_t *settings)
{
	const json_t *words = setting_words(), *word;
	size_t i;

	json_array_foreach(words, i, word)
	{
		const char *name = doc_text(word, "name");

		if (is_kind(word, "text"))
			doc_set(settings, name, option_value(call, name));
		else if (is_kind(word, "list") && !joins(word, "apart"))
			json_object_set_new(
				settings, name, option_list(call, name));
	}
	doc_set(settings, "image", call->objects[0]);
	json_object_set_new(settings, "read-only",
		json_boolean(option_given(call, "read-only")));
	json_object_set_new(settings, "capability", read_capabilities(call));
	json_object_set_new(settings, "command",
		doc_of_texts(call->command, (size_t)call->command_count));
}

static int read_settings(struct invocation *call, struct making *making,
	bool terminal, struct th_error *err)
{
	struct values values = {0};
	json_t *settings = making->settings;
	char cwd[4096];
	int rc;

	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	doc_set(settings, "base", cwd);
	read_plain(call, settings);
	rc = read_choices(call, making, terminal, err);
	if (rc == 0)
		rc = read_devices(call, settings, err);
	if (rc == 0)
		rc = read_values(call, &values, err);
	json_object_set_new(settings, "env",
		doc_of_texts(values.env.items, values.env.count));
	json_object_set_new(settings, "hidden",
		doc_of_texts(values.hidden.items, values.hidden.count));
	json_object_set_new(settings, "secret",
		doc_of_texts(values.secrets.items, values.secrets.count));
	th_strings_release(&values.env);
	th_strings_release(&values.hidden);
	th_strings_release(&values.secrets);
	return rc;
}

/* "--name selwick/gauge" has taken the image for its value, and "run -- IMAGE
 * COMMAND" for the command. */
static void hint_image(const struct invocation *call, struct th_error *err)
{
	static const char *const plain[] = {"name", "port", "hostname", "user",
		"restart", "limit", "env", "network", "alias", "stop"};
	struct line line;
	int at;

	line_get(&line);
	if (call->command_count &&
		isalnum((unsigned char)call->command[0][0]) &&
		strchr(call->command[0], '/')) {
		for (at = 2; at < line.count && strcmp(line.words[at], "--");)
			at++;
		line_put(&line, at, 2, call->command[0],
			call->command_count > 1 ? "--" : NULL);
		line_hint(err, "the image comes before --: ", &line);
	}
	for (int i = 0; i < call->option_count; i++) {
		const char *value = call->options[i].value;

		for (size_t j = 0; value && j < sizeof(plain) / sizeof(*plain);
			j++) {
			if (strcmp(call->options[i].name, plain[j]) == 0 &&
				isalnum((unsigned char)value[0]) &&
				strchr(value, '/') && !strchr(value, '='))
				th_hint(err,
					"\"%.100s\" was taken for the value of "
					"--%s, which has none",
					value, plain[j]);
		}
	}
}

int making_read(struct invocation *call, struct making *making, bool terminal,
	struct th_error *err)
{
	memset(making, 0, sizeof(*making));
	if (settings_file_read(call, err))
		return -1;
	if (!call->object_count) {
		th_fail(err, TH_USAGE, "%s: no image given", call->verb->name);
		hint_image(call, err);
		return th_hint(err,
			"give an image, or a --settings file that names one");
	}
	making->plan = option_given(call, "plan");
	making->settings = json_object();
	return read_settings(call, making, terminal, err);
}

void making_release(struct making *making)
{
	json_decref(making->settings);
	making->settings = NULL;
}

/* ---- the plan ---- */

/* True where a later one of the same name counts instead. */
static bool is_overruled(const struct invocation *call, int at)
{
	const json_t *word = setting_word(call->options[at].name);

	if (word && is_kind(word, "list"))
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
void making_print_plan(const struct invocation *call,
	const struct making *making, const json_t *plan)
{
	const json_t *settings = making->settings, *mount;
	const json_t *command = doc_part(settings, "command");
	size_t k;

	printf("all checks passed; %s would use:\n", call->verb->name);
	printf("  %-10s %s\n", "image", shown(doc_text(settings, "image")));
	if (!json_object_get(settings, "name"))
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
	json_array_foreach(doc_part(plan, "mounts"), k, mount)
	{
		if (*doc_text(mount, "source"))
			printf("  %-10s %s is %s\n", "",
				shown(doc_text(mount, "target")),
				shown(doc_text(mount, "source")));
	}
	if (json_array_size(command))
		printf("  %-10s %s%s\n", "command", shown(doc_item(command, 0)),
			json_array_size(command) > 1 ? " ..." : "");
	puts("nothing was changed");
}

/* ---- making it ---- */

void making_note(const struct invocation *call, json_t *container)
{
	const json_t *notes = doc_part(container, "notes");

	for (size_t i = 0; !call->quiet && i < json_array_size(notes); i++)
		say_note(doc_item(notes, i));
	json_object_del(container, "notes");
}

int making_create(struct invocation *call, const struct making *making,
	json_t **container)
{
	const char *name = doc_text(making->settings, "name");
	struct th_error err = {0};
	int code = EXIT_DONE, rc;

	*container = NULL;
	rc = making->plan ? th_container_plan(call->hull, making->settings,
				    container, &err)
			  : th_container_make(call->hull, making->settings,
				    container, &err);
	if (rc)
		code = say_problems(call->verb->name,
			*name ? name : doc_text(making->settings, "image"),
			*container, &err);
	else if (making->plan)
		making_print_plan(call, making, *container);
	else
		making_note(call, *container);
	if (rc || making->plan) {
		json_decref(*container);
		*container = NULL;
	}
	return code == EXIT_DONE && making->plan ? -1 : code;
}
