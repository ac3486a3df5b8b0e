/* Settings of a container as an object: the options of create by their names.
 */
#include <stddef.h>
#include <string.h>
#include <unistd.h>

#include "base/json.h"
#include "library/library.h"

static const struct member {
	const char *name;
	size_t offset;
} texts[] = {{"image", offsetof(struct th_settings, image)},
	{"name", offsetof(struct th_settings, name)},
	{"hostname", offsetof(struct th_settings, hostname)},
	{"user", offsetof(struct th_settings, user)},
	{"workdir", offsetof(struct th_settings, workdir)},
	{"entrypoint", offsetof(struct th_settings, entrypoint)},
	{"stop", offsetof(struct th_settings, stop_text)},
	{"restart", offsetof(struct th_settings, restart_text)},
	{"probe", offsetof(struct th_settings, probe_text)},
	{"log", offsetof(struct th_settings, log_text)},
	{"share", offsetof(struct th_settings, share_text)},
	{"reaper", offsetof(struct th_settings, reaper_text)},
	{"users", offsetof(struct th_settings, users_text)}, {NULL, 0}},
  lists[] = {{"command", offsetof(struct th_settings, command)},
	  {"port", offsetof(struct th_settings, port_texts)},
	  {"mount", offsetof(struct th_settings, mount_texts)},
	  {"limit", offsetof(struct th_settings, limit_texts)},
	  {"device", offsetof(struct th_settings, device_texts)},
	  {"allow", offsetof(struct th_settings, allow_texts)},
	  {"network", offsetof(struct th_settings, network_texts)},
	  {"alias", offsetof(struct th_settings, aliases)},
	  {"host", offsetof(struct th_settings, host_texts)},
	  {"env", offsetof(struct th_settings, env)},
	  {"secret", offsetof(struct th_settings, secret_files)},
	  {"capability", offsetof(struct th_settings, capabilities)},
	  {NULL, 0}},
  flags[] = {{"read-only", offsetof(struct th_settings, read_only)},
	  {"tty", offsetof(struct th_settings, terminal)}, {NULL, 0}};

static void *place_of(const struct member *table, const char *name,
	struct th_settings *settings)
{
	for (; table->name; table++) {
		if (strcmp(table->name, name) == 0)
			return (char *)settings + table->offset;
	}
	return NULL;
}

/* One text, or a list of them. */
static int take_list(const char *name, const json_t *value,
	struct th_strings *list, struct th_error *err)
{
	const json_t *one;
	size_t i;

	if (json_is_string(value))
		return th_strings_add(list, json_string_value(value))
			? th_fail_memory(err)
			: 0;
	if (!json_is_array(value))
		return th_fail(err, TH_USAGE,
			"\"%.60s\" is a text or a list of texts", name);
	json_array_foreach(value, i, one)
	{
		if (!json_is_string(one))
			return th_fail(err, TH_USAGE,
				"\"%.60s\" is a list of texts", name);
		if (th_strings_add(list, json_string_value(one)))
			return th_fail_memory(err);
	}
	return 0;
}

static int take_fetch(
	const char *word, struct th_settings *settings, struct th_error *err)
{
	static const char *const words[] = {"missing", "always", "never"};

	for (int i = 0; word && i < 3; i++) {
		if (strcmp(words[i], word) == 0) {
			settings->fetch = (enum th_fetch)i;
			return 0;
		}
	}
	return th_fail(err, TH_USAGE,
		"\"fetch\" is \"missing\", \"always\" or \"never\"");
}

static int take_one(const char *name, const json_t *value,
	struct th_settings *settings, struct th_error *err)
{
	const char **text = place_of(texts, name, settings);
	struct th_strings *list = place_of(lists, name, settings);
	bool *flag = place_of(flags, name, settings);

	if (list)
		return take_list(name, value, list, err);
	if (strcmp(name, "fetch") == 0)
		return take_fetch(json_string_value(value), settings, err);
	if (text && json_is_string(value)) {
		*text = json_string_value(value);
		return 0;
	}
	if (flag && json_is_boolean(value)) {
		*flag = json_is_true(value);
		return 0;
	}
	if (text || flag)
		return th_fail(err, TH_USAGE, "\"%.60s\" is %s", name,
			text ? "a text" : "true or false");
	th_fail(err, TH_USAGE, "\"%.60s\" is not a setting", name);
	return th_hint(err, "settings have the names of the options of create");
}

static int check_env(const struct th_settings *settings, struct th_error *err)
{
	for (size_t i = 0; i < settings->env.count; i++) {
		const char *pair = settings->env.items[i];

		if (*pair == '=' || !strchr(pair, '='))
			return th_fail(err, TH_USAGE,
				"\"%.60s\" in \"env\" is not KEY=VALUE", pair);
	}
	return 0;
}

int library_settings(const json_t *doc, const struct th_caller *caller,
	struct th_settings *settings, struct th_error *err)
{
	const json_t *value;
	const char *name;

	json_object_foreach((json_t *)(uintptr_t)doc, name, value)
	{
		if (take_one(name, value, settings, err))
			return -1;
	}
	if (!settings->image)
		return th_fail(err, TH_USAGE, "no \"image\" is given");
	settings->base = "/";
	settings->caller.unprivileged = caller->unprivileged;
	settings->caller.uid = caller->uid;
	settings->caller.gid = caller->gid;
	settings->caller.name = caller->name;
	settings->caller.home = caller->home;
	settings->keep = true;
	return check_env(settings, err);
}
