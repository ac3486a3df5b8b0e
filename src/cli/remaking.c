#include "cli/remaking.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/words.h"

struct remaking {
	struct invocation *call;
	struct making *making;
	/* What options point into; kept until the program ends. */
	struct th_strings kept;
	struct given_option *found;
	size_t found_count;
	bool *used; /* of each --without: it has left something out */
};

/* "SETTING" or "SETTING=INSIDE". */
static bool is_left_out(
	struct remaking *remaking, const char *name, const char *value)
{
	const struct invocation *call = remaking->call;
	bool left_out = false;

	for (int i = 0; i < call->option_count; i++) {
		const char *text = call->options[i].value;
		size_t len;

		if (strcmp(call->options[i].name, "without") != 0)
			continue;
		len = strcspn(text, "=");
		if (strlen(name) != len || strncmp(text, name, len) != 0 ||
			(text[len] && !is_same_place(text + len + 1, value)))
			continue;
		remaking->used[i] = left_out = true;
	}
	return left_out;
}

static bool is_replaced(
	const struct invocation *call, const json_t *word, const char *value)
{
	for (int i = 0; i < call->option_count; i++) {
		if (strcmp(call->options[i].name, doc_text(word, "name")) != 0)
			continue;
		if (joins(word, "one") || joins(word, "list") ||
			(joins(word, "places") &&
				is_same_place(call->options[i].value, value)))
			return true;
	}
	return false;
}

static int add(struct remaking *remaking, const char *name, const char *value)
{
	struct given_option *list = realloc(
		remaking->found, (remaking->found_count + 1) * sizeof(*list));

	if (!list || (value && th_strings_add(&remaking->kept, value))) {
		remaking->found = list ? list : remaking->found;
		return -1;
	}
	remaking->found = list;
	list[remaking->found_count].name = name;
	list[remaking->found_count++].value =
		value ? remaking->kept.items[remaking->kept.count - 1] : NULL;
	return 0;
}

static int take(
	struct remaking *remaking, const json_t *word, const char *value)
{
	const char *name = doc_text(word, "name");

	if (!value || !*value || is_replaced(remaking->call, word, value) ||
		is_left_out(remaking, name, value))
		return 0;
	return add(remaking, name, value);
}

/* Name and image are those of the container, or are given anew; others have no
 * text of an option. */
static bool is_apart(const json_t *word)
{
	const char *name = doc_text(word, "name");

	return joins(word, "apart") || strcmp(name, "name") == 0 ||
		strcmp(name, "image") == 0;
}

static int take_setting(
	struct remaking *remaking, const json_t *word, const json_t *value)
{
	const char *name = doc_text(word, "name");

	if (json_is_string(value))
		return take(remaking, word, json_string_value(value));
	if (json_is_true(value) && !is_left_out(remaking, name, "") &&
		!option_given(remaking->call, name))
		return add(remaking, name, NULL);
	for (size_t k = 0; k < json_array_size(value); k++) {
		if (take(remaking, word, doc_item(value, k)))
			return -1;
	}
	return 0;
}

/* What was set before, in front: the last one of an option counts. */
static int take_settings(struct remaking *remaking, const json_t *settings)
{
	const json_t *words = setting_words(), *word;
	size_t i;

	json_array_foreach(words, i, word)
	{
		if (!is_apart(word) &&
			take_setting(remaking, word,
				json_object_get(
					settings, doc_text(word, "name"))))
			return -1;
	}
	return 0;
}

/* What the call gives stands behind; the settings of the call itself do not. */
static int take_given(struct remaking *remaking)
{
	const struct invocation *call = remaking->call;

	for (int i = 0; i < call->option_count; i++) {
		const struct given_option *one = &call->options[i];

		if (strcmp(one->name, "without") == 0 ||
			strcmp(one->name, "image") == 0 ||
			strcmp(one->name, "start") == 0 ||
			strcmp(one->name, "ready-within") == 0)
			continue;
		if (add(remaking, one->name, one->value))
			return -1;
	}
	return 0;
}

/* The command line of before, unless there is another one. */
static int take_command(struct remaking *remaking, const json_t *settings,
	struct invocation *merged, struct th_error *err)
{
	const json_t *list = doc_part(settings, "command");
	char **command;

	if (merged->has_command || is_left_out(remaking, "command", ""))
		return 0;
	command = calloc(json_array_size(list) + 1, sizeof(*command));
	if (!command)
		return th_fail_memory(err);
	merged->command = command; /* until the program ends */
	for (size_t i = 0; i < json_array_size(list); i++) {
		if (th_strings_add(&remaking->kept, doc_item(list, i)))
			return th_fail_memory(err);
		command[merged->command_count++] =
			remaking->kept.items[remaking->kept.count - 1];
	}
	return 0;
}

/* True where the list has a pair of the same key. */
static bool has_key(const json_t *list, const char *pair)
{
	for (size_t i = 0; i < json_array_size(list); i++) {
		if (is_same_place(doc_item(list, i), pair))
			return true;
	}
	return false;
}

/* Values as they are: none of them is read as an option once more. */
static void add_values(struct remaking *remaking, const json_t *container)
{
	json_t *made = remaking->making->settings, *env = json_array();
	const json_t *before = doc_part(doc_part(container, "settings"), "env");
	const json_t *hidden = doc_part(container, "hidden");
	const json_t *keys = doc_part(hidden, "keys");
	const json_t *files = doc_part(hidden, "files");

	for (size_t i = 0; i < json_array_size(before); i++) {
		const char *pair = doc_item(before, i);

		if (!has_key(doc_part(made, "env"), pair) &&
			!is_left_out(remaking, "env", pair))
			json_array_append(env, json_array_get(before, i));
	}
	for (size_t i = 0; i < json_array_size(keys); i++) {
		/* One that is given openly by now is no secret. */
		if (has_key(env, doc_item(keys, i)))
			json_array_append(doc_part(made, "hidden"),
				json_array_get(keys, i));
	}
	json_array_extend(env, doc_part(made, "env"));
	json_object_set_new(made, "env", env);
	for (size_t i = 0; i < json_array_size(files); i++) {
		if (!has_key(doc_part(made, "secret"), doc_item(files, i)) &&
			!is_left_out(remaking, "secret", doc_item(files, i)))
			json_array_append(doc_part(made, "secret"),
				json_array_get(files, i));
	}
}

static int check_without(const struct remaking *remaking, struct th_error *err)
{
	const struct invocation *call = remaking->call;

	for (int i = 0; i < call->option_count; i++) {
		const char *text = call->options[i].value;
		size_t len = strcspn(text ? text : "", "=");
		char name[40];
		bool known;

		if (strcmp(call->options[i].name, "without") != 0 ||
			remaking->used[i])
			continue;
		snprintf(name, sizeof(name), "%.*s", (int)len, text);
		known = setting_word(name) && strcmp(name, "name") != 0 &&
			strcmp(name, "image") != 0;
		th_fail(err, TH_USAGE,
			known ? "it has no setting \"%.100s\" to leave out"
			      : "\"%.100s\" is not a setting",
			text);
		return th_hint(err,
			"tidyhull show --settings shows those it has; for "
			"example --without port=80, --without env=MODE");
	}
	return 0;
}

static int read_merged(struct remaking *remaking, const json_t *container,
	struct invocation *merged, struct th_error *err)
{
	const json_t *settings = doc_part(container, "settings");
	const char *image = option_value(remaking->call, "image");
	const char *fetch = option_value(remaking->call, "fetch");
	char **objects = calloc(2, sizeof(*objects)); /* until the end */

	if (!objects || take_settings(remaking, settings) ||
		take_given(remaking) ||
		th_strings_add(&remaking->kept,
			image ? image : doc_text(container, "image"))) {
		free(objects);
		return th_fail_memory(err);
	}
	objects[0] = remaking->kept.items[remaking->kept.count - 1];
	merged->objects = objects;
	merged->object_count = 1;
	merged->options = remaking->found;
	merged->option_count = (int)remaking->found_count;
	if (take_command(remaking, settings, merged, err) ||
		making_read(merged, remaking->making, false, err))
		return -1;
	/* The image stays what it was, whatever its name stands for by now. */
	if (!image && (!fetch || strcmp(fetch, "always") != 0))
		doc_set(remaking->making->settings, "digest",
			doc_text(container, "image-digest"));
	return 0;
}

int remaking_read(struct invocation *call, const char *id,
	struct making *making, struct invocation *merged, struct th_error *err)
{
	struct remaking remaking = {.call = call, .making = making};
	json_t *container = NULL;
	int rc;

	memset(making, 0, sizeof(*making));
	*merged = *call;
	remaking.used = calloc((size_t)call->option_count + 1, sizeof(bool));
	rc = remaking.used ? th_object(call->hull, id, TH_KIND_CONTAINER,
				     TH_FOR_ANOTHER, &container, err)
			   : th_fail_memory(err);
	if (rc == 0)
		rc = read_merged(&remaking, container, merged, err);
	if (rc == 0) {
		add_values(&remaking, container);
		rc = check_without(&remaking, err);
	}
	free(remaking.used);
	json_decref(container);
	if (rc) {
		free(remaking.found);
		merged->options = NULL;
	}
	return rc;
}
