/* Settings of a container as an object: the options of create by their names.
 */
#include <string.h>
#include <unistd.h>

#include "base/json.h"
#include "library/library.h"

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
	const struct th_setting *setting = th_setting_find(name);
	void *place = setting ? th_setting_place(setting, settings) : NULL;

	if (strcmp(name, "fetch") == 0)
		return take_fetch(json_string_value(value), settings, err);
	if (!setting) {
		th_fail(err, TH_USAGE, "\"%.60s\" is not a setting", name);
		return th_hint(err,
			"settings have the names of the options of create");
	}
	if (setting->kind == TH_SETTING_LIST)
		return take_list(name, value, place, err);
	if (setting->kind == TH_SETTING_TEXT && json_is_string(value)) {
		*(const char **)place = json_string_value(value);
		return 0;
	}
	if (setting->kind == TH_SETTING_FLAG && json_is_boolean(value)) {
		*(bool *)place = json_is_true(value);
		return 0;
	}
	return th_fail(err, TH_USAGE, "\"%.60s\" is %s", name,
		setting->kind == TH_SETTING_TEXT ? "a text" : "true or false");
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
	settings->caller.scratch = caller->scratch;
	settings->keep = true;
	return check_env(settings, err);
}
