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
	if (json_is_string(value))
		return th_strings_add(list, json_string_value(value))
			? th_fail_memory(err)
			: 0;
	if (!json_is_array(value))
		return th_fail(err, TH_USAGE,
			"\"%.60s\" is a text or a list of texts", name);
	return library_texts(value, name, list, err);
}

/* Those that are no options of create by themselves. True where it is one. */
static bool take_beside(const char *name, const json_t *value,
	struct th_settings *settings, int *rc, struct th_error *err)
{
	const char *text = json_string_value(value);

	*rc = 0;
	if (strcmp(name, "fetch") == 0) {
		*rc = text ? library_fetch(text, &settings->fetch, err)
			   : th_fail(err, TH_USAGE, "\"fetch\" is a text");
	} else if (strcmp(name, "base") == 0 && text && *text == '/') {
		settings->base = text;
	} else if (strcmp(name, "digest") == 0 && text) {
		settings->digest = text;
	} else if (strcmp(name, "keep") == 0 && json_is_boolean(value)) {
		settings->keep = json_is_true(value);
	} else if (strcmp(name, "replaces") == 0 && text) {
		/* For who looks whether it could; making it is another call. */
	} else if (strcmp(name, "hidden") == 0) {
		*rc = take_list(name, value, &settings->secrets, err);
	} else {
		return false;
	}
	return true;
}

static int take_one(const char *name, const json_t *value,
	struct th_settings *settings, struct th_error *err)
{
	const struct th_setting *setting = th_setting_find(name);
	void *place = setting ? th_setting_place(setting, settings) : NULL;

	int rc;

	if (take_beside(name, value, settings, &rc, err))
		return rc;
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

	settings->base = "/";
	settings->keep = true;
	json_object_foreach((json_t *)(uintptr_t)doc, name, value)
	{
		if (take_one(name, value, settings, err))
			return -1;
	}
	if (!settings->image)
		return th_fail(err, TH_USAGE, "no \"image\" is given");
	settings->caller.unprivileged = caller->unprivileged;
	settings->caller.uid = caller->uid;
	settings->caller.gid = caller->gid;
	settings->caller.name = caller->name;
	settings->caller.home = caller->home;
	settings->caller.scratch = caller->scratch;
	settings->caller.pmix = caller->pmix;
	return check_env(settings, err);
}
