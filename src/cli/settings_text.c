#include "cli/settings_text.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "cli/output.h"
#include "cli/shown.h"

#define WORDS_MAX 64

/* ---- reading ---- */

static int take_given(void *owner, const char *text, struct th_error *err)
{
	if (*text == '=' || !strchr(text, '=')) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a value", text);
		return th_hint(err, "use --given NAME=VALUE");
	}
	return th_strings_add(owner, text) ? th_fail_memory(err) : 0;
}

int given_read(const struct invocation *call, struct th_strings *given,
	struct th_error *err)
{
	return each_option(call, "given", take_given, given, err);
}

/* Options that are no settings of a container. */
static bool is_other(const char *name)
{
	static const char *const others[] = {"settings", "given", "plan",
		"ready-within", "grace", "on-failure"};

	for (size_t i = 0; i < sizeof(others) / sizeof(*others); i++) {
		if (strcmp(name, others[i]) == 0)
			return true;
	}
	return false;
}

static void list_words(
	const struct verb *verb, struct th_file_word words[WORDS_MAX])
{
	size_t used = 0;

	for (const struct option_spec *one = verb->options;
		one->name && used < WORDS_MAX - 1; one++) {
		if (!is_other(one->name))
			words[used++] = (struct th_file_word){
				one->name, one->value == NULL};
	}
	words[used].name = NULL;
}

static int read_text(
	const char *path, struct th_buf *text, struct th_error *err)
{
	int rc = th_file_read(AT_FDCWD, path, text, err);

	if (rc == 0)
		th_fail(err, TH_NOT_FOUND,
			"the settings file %.300s does not exist", path);
	return rc == 1 ? 0 : -1;
}

/* Paths in it start where it lies. */
static char *folder_of(const char *path)
{
	char cwd[4096], *whole, *slash;

	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	whole = th_path_absolute(cwd, path);
	slash = whole ? strrchr(whole, '/') : NULL;
	if (slash)
		slash[slash == whole] = '\0';
	return whole;
}

int settings_file_load(struct invocation *call, struct th_settings_file *file,
	struct th_error *err)
{
	const char *path = option_value(call, "settings");
	struct th_file_word words[WORDS_MAX];
	struct th_problems problems = {0};
	struct th_strings given = {0};
	char *folder = folder_of(path);
	struct th_buf text;
	int rc;

	memset(file, 0, sizeof(*file));
	th_buf_init(&text, TH_YAML_BYTES);
	rc = folder ? 0 : th_fail_memory(err);
	if (rc == 0)
		rc = read_text(path, &text, err);
	if (rc == 0)
		rc = given_read(call, &given, err);
	list_words(call->verb, words);
	if (rc == 0 &&
		th_settings_file_read(
			path, folder, &text, &given, words, file, &problems)) {
		say_problems(call->verb->name, path, &problems);
		/* It has been told, and needs no message any more. */
		err->code = problems.list[0].code;
		rc = -1;
	}
	th_problems_release(&problems);
	th_strings_release(&given);
	th_buf_release(&text);
	free(folder);
	return rc;
}

int settings_file_merge(struct invocation *call,
	const struct th_file_container *one, struct th_error *err)
{
	size_t count = (size_t)call->option_count + one->setting_count;
	struct given_option *merged = calloc(count + 1, sizeof(*merged));
	char **objects = calloc(2, sizeof(*objects));

	if (!merged || !objects) {
		free(merged);
		free(objects);
		return th_fail_memory(err);
	}
	for (size_t i = 0; i < one->setting_count; i++)
		merged[i] = (struct given_option){
			one->settings[i].name, one->settings[i].value};
	memcpy(merged + one->setting_count, call->options,
		(size_t)call->option_count * sizeof(*merged));
	free(call->options);
	call->options = merged;
	call->option_count = (int)count;
	if (!call->object_count && one->image) {
		/* Both are needed until the program ends. */
		objects[0] = one->image;
		call->objects = objects;
		call->object_count = 1;
	} else {
		free(objects);
	}
	if (!call->has_command && one->has_command) {
		call->command = one->command.items;
		call->command_count = (int)one->command.count;
	}
	return 0;
}

int settings_file_read(struct invocation *call, struct th_settings_file *file,
	struct th_error *err)
{
	const char *path = option_value(call, "settings");

	if (!path)
		return 0;
	if (settings_file_load(call, file, err))
		return -1;
	if (file->group) {
		th_fail(err, TH_USAGE, "%.200s describes a group", path);
		return th_hint(err,
			"tidyhull launch --settings %.150s brings it up", path);
	}
	return file->container_count
		? settings_file_merge(call, &file->containers[0], err)
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
	const json_t *settings = json_object_get(doc, "settings");

	for (const struct th_setting *one = th_settings_all; one->name; one++) {
		const json_t *value = json_object_get(settings, one->name);

		if (strcmp(one->name, "name") == 0)
			continue;
		if (one->kind == TH_SETTING_FLAG && json_is_true(value))
			printf("%*s%s: true\n", indent, "", one->name);
		else
			print_member(one->name, value, indent);
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
