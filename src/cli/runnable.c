#include "cli/runnable.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/buffer.h"

static const struct option_spec kept[] = {RUNNABLE_OPTIONS, {NULL, NULL, NULL}};

static const struct option_spec *find_option(const char *name)
{
	for (const struct option_spec *one = kept; one->name; one++) {
		if (strcmp(one->name, name) == 0)
			return one;
	}
	return NULL;
}

int runnable_settings(struct invocation *call, size_t count, json_t **settings,
	struct th_error *err)
{
	bool runnable = option_given(call, "runnable");
	json_t *doc = json_object();

	*settings = NULL;

	for (int i = 0; i < call->option_count; i++) {
		const struct given_option *one = &call->options[i];
		const struct option_spec *option = find_option(one->name);

		if (option && !runnable) {
			th_fail(err, TH_USAGE,
				"--%s has no place in a packed file",
				one->name);
			th_hint(err, "with --runnable it is kept");
		} else if (option && !option->value) {
			json_object_set_new(doc, one->name, json_true());
		} else if (option) {
			if (!json_object_get(doc, one->name))
				json_object_set_new(
					doc, one->name, json_array());
			json_array_append_new(json_object_get(doc, one->name),
				json_string(one->value));
		}
	}
	if (runnable && count != 1) {
		th_fail(err, TH_USAGE,
			"a file that can be executed holds one image");
		th_hint(err, "pack each into a file of its own");
	}
	if (runnable && !err->code)
		*settings = json_incref(doc);
	json_decref(doc);
	return err->code ? -1 : 0;
}

static int add_option(struct th_strings *words, const char *name,
	const json_t *value, struct th_error *err)
{
	const struct option_spec *option = find_option(name);
	size_t i;
	json_t *one;

	if (!option ||
		(option->value ? !json_is_array(value)
			       : !json_is_true(value))) {
		th_fail(err, TH_USAGE,
			"the file has a setting that is not known: %.60s",
			name);
		return th_hint(err,
			"it was made by another version; tidyhull run FILE "
			"goes without its settings");
	}
	if (!option->value)
		return th_strings_take(words, th_format("--%s", name))
			? th_fail_memory(err)
			: 0;
	json_array_foreach((json_t *)(uintptr_t)value, i, one)
	{
		if (th_strings_take(words,
			    th_format("--%s=%s", name,
				    json_is_string(one) ? json_string_value(one)
							: "")))
			return th_fail_memory(err);
	}
	return 0;
}

int runnable_words(const char *path, int count, char **arguments,
	struct th_strings *words, struct th_error *err)
{
	json_t *doc = NULL, *value;
	const char *name;
	int rc;

	if (th_image_packed_settings(path, &doc, err))
		return -1;
	rc = th_strings_add(words, "run");
	/* In scripts only the program is to be heard. */
	if (!isatty(2))
		rc |= th_strings_add(words, "--quiet");
	if (rc)
		th_fail_memory(err);
	json_object_foreach(doc, name, value)
	{
		if (rc == 0)
			rc = add_option(words, name, value, err);
	}
	json_decref(doc);
	if (rc)
		return -1;
	/* The path as it is would be the name of an image. */
	rc = th_strings_take(words,
		th_format("%s%s", *path == '/' || *path == '.' ? "" : "./",
			path));
	if (count)
		rc |= th_strings_add(words, "--");
	for (int i = 0; i < count; i++)
		rc |= th_strings_add(words, arguments[i]);
	return rc ? th_fail_memory(err) : 0;
}
