#include "cli/settings_text.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/words.h"

/* ---- reading ---- */

static int take_given(void *owner, const char *text, struct th_error *err)
{
	json_t *given = owner;

	if (*text == '=' || !strchr(text, '=')) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a value", text);
		return th_hint(err, "use --given NAME=VALUE");
	}
	json_array_append_new(given, json_string_nocheck(text));
	return 0;
}

int given_read(
	const struct invocation *call, json_t **given, struct th_error *err)
{
	*given = json_array();
	return each_option(call, "given", take_given, *given, err);
}

int settings_file_load(
	struct invocation *call, json_t **file, struct th_error *err)
{
	const char *path = option_value(call, "settings");
	json_t *given;
	int rc = given_read(call, &given, err);

	*file = NULL;
	if (rc == 0)
		rc = th_settings_load(path, given, file, err);
	json_decref(given);
	if (rc && doc_part(*file, "problems")) {
		say_problems(call->verb->name, path, *file, err);
		/* It has been told, and needs no message any more. */
		err->msg[0] = err->hint[0] = '\0';
	}
	if (rc) {
		json_decref(*file);
		*file = NULL;
	}
	return rc;
}

/* A list of texts as words of a command line. */
static char **words_of(const json_t *list)
{
	char **words = calloc(json_array_size(list) + 1, sizeof(*words));

	for (size_t i = 0; words && i < json_array_size(list); i++)
		words[i] = (char *)(uintptr_t)doc_item(list, i);
	return words;
}

/* An option of the call has the place that the file gives to something else. */
static bool is_replaced(const struct invocation *call, const json_t *pair)
{
	const json_t *word = setting_word(doc_item(pair, 0));
	const char *value = doc_item(pair, 1);

	for (int i = 0; word && *value && i < call->option_count; i++) {
		if (strcmp(call->options[i].name, doc_item(pair, 0)) == 0 &&
			joins(word, "places") &&
			is_same_place(call->options[i].value, value))
			return true;
	}
	return false;
}

int settings_file_merge(
	struct invocation *call, const json_t *container, struct th_error *err)
{
	const json_t *settings = doc_part(container, "settings");
	const json_t *command = doc_part(container, "command");
	size_t all = json_array_size(settings), count = 0;
	struct given_option *merged =
		calloc((size_t)call->option_count + all + 1, sizeof(*merged));
	char **objects = calloc(2, sizeof(*objects));

	if (!merged || !objects) {
		free(merged);
		free(objects);
		return th_fail_memory(err);
	}
	for (size_t i = 0; i < all; i++) {
		const json_t *pair = json_array_get(settings, i);

		if (is_replaced(call, pair))
			continue;
		merged[count].name = doc_item(pair, 0);
		merged[count++].value =
			json_string_value(json_array_get(pair, 1));
	}
	memcpy(merged + count, call->options,
		(size_t)call->option_count * sizeof(*merged));
	free(call->options);
	call->options = merged;
	call->option_count += (int)count;
	if (!call->object_count && *doc_text(container, "image")) {
		/* Both are needed until the program ends. */
		objects[0] = (char *)(uintptr_t)doc_text(container, "image");
		call->objects = objects;
		call->object_count = 1;
	} else {
		free(objects);
	}
	if (!call->has_command && command) {
		call->command = words_of(command);
		call->command_count =
			call->command ? (int)json_array_size(command) : 0;
	}
	return 0;
}

int settings_file_read(struct invocation *call, struct th_error *err)
{
	const char *path = option_value(call, "settings");
	json_t *file;

	if (!path)
		return 0;
	if (settings_file_load(call, &file, err))
		return -1;
	if (*doc_text(file, "group")) {
		json_decref(file);
		th_fail(err, TH_USAGE, "%.200s describes a group", path);
		return th_hint(err,
			"tidyhull launch --settings %.150s brings it up", path);
	}
	/* What the call says from now on points into the file: it stays until
	 * the program ends. */
	return doc_count(file, "containers")
		? settings_file_merge(call,
			  json_array_get(doc_part(file, "containers"), 0), err)
		: 0;
}

/* ---- writing ---- */

/* In double quotes, whose escapes YAML shares with JSON; "${" would be a value
 * that is given from outside. */
static void print_text(const char *text)
{
	json_t *string = json_string(text);
	char *quoted = json_shown(string, JSON_ENCODE_ANY);

	for (const char *at = quoted ? quoted : "\"\""; *at; at++) {
		if (strncmp(at, "${", 2) == 0)
			putchar('$');
		putchar(*at);
	}
	free(quoted);
	json_decref(string);
}

static void print_env(const char *pair)
{
	const char *equals = strchr(pair, '=');
	char *asked;

	if (!equals || strcmp(equals, "=(hidden)") != 0) {
		print_text(pair);
		return;
	}
	asked = th_format("%.*s=@ask", (int)(equals - pair), pair);
	print_text(asked ? asked : "");
	free(asked);
}

static void print_member(const char *key, const json_t *value, int indent)
{
	size_t i;
	json_t *item;

	if (json_is_string(value) && json_string_length(value)) {
		printf("%*s%s: ", indent, "", key);
		print_text(json_string_value(value));
		putchar('\n');
	} else if (json_is_array(value) && json_array_size(value)) {
		printf("%*s%s:\n", indent, "", key);
		json_array_foreach((json_t *)(uintptr_t)value, i, item)
		{
			printf("%*s- ", indent + 2, "");
			if (strcmp(key, "env") == 0)
				print_env(json_string_value(item));
			else
				print_text(json_string_value(item));
			putchar('\n');
		}
	}
}

/* All but its name. */
static void print_settings(const json_t *doc, int indent)
{
	const json_t *settings = doc_part(doc, "settings");
	const json_t *words = setting_words(), *word;
	size_t i;

	json_array_foreach(words, i, word)
	{
		const char *name = doc_text(word, "name");
		const json_t *value = json_object_get(settings, name);

		if (strcmp(name, "name") == 0)
			continue;
		if (is_kind(word, "flag") && json_is_true(value))
			printf("%*s%s: true\n", indent, "", name);
		else
			print_member(name, value, indent);
	}
}

void settings_file_print(const json_t *doc)
{
	print_member("name",
		json_object_get(json_object_get(doc, "settings"), "name"), 0);
	print_settings(doc, 0);
}

void settings_file_print_group(const char *name, const json_t *list)
{
	size_t i, k;
	json_t *doc, *after;

	fputs("group: ", stdout);
	print_text(name);
	puts("\ncontainers:");
	json_array_foreach((json_t *)(uintptr_t)list, i, doc)
	{
		printf("  %s:\n",
			json_string_value(json_object_get(doc, "name")));
		print_settings(doc, 4);
		k = json_array_size(json_object_get(doc, "after"));
		if (k)
			puts("    after:");
		json_array_foreach(json_object_get(doc, "after"), k, after)
		{
			printf("      %s: %s\n",
				json_string_value(
					json_object_get(after, "container")),
				json_string_value(
					json_object_get(after, "is")));
		}
	}
}
