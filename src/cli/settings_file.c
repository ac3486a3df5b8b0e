#include "cli/settings_file.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <yaml.h>

#include "base/buffer.h"
#include "base/file.h"
#include "base/yaml_bounds.h"
#include "cli/shown.h"

#define PATH_LENGTH 300

struct reading {
	struct invocation *call;
	struct th_strings *kept;
	const char *path;
	yaml_document_t doc;
	struct th_buf wrong; /* what is wrong, place by place */
	struct given_option *found;
	size_t found_count;
	bool no_memory;
};

static void complain(struct reading *reading, const yaml_mark_t *at,
	const char *what, const char *word)
{
	th_buf_addf(&reading->wrong, "%s%.200s, line %zu, column %zu: ",
		reading->wrong.len ? "; " : "", reading->path, at->line + 1,
		at->column + 1);
	th_buf_adds(&reading->wrong, what);
	if (*word)
		th_buf_addf(&reading->wrong, " \"%.60s\"", word);
}

static const char *keep(struct reading *reading, const char *text)
{
	if (th_strings_add(reading->kept, text)) {
		reading->no_memory = true;
		return "";
	}
	return reading->kept->items[reading->kept->count - 1];
}

static void add(struct reading *reading, const char *name, const char *value)
{
	struct given_option *list = realloc(
		reading->found, (reading->found_count + 1) * sizeof(*list));

	if (!list) {
		reading->no_memory = true;
		return;
	}
	reading->found = list;
	list[reading->found_count].name = name;
	list[reading->found_count++].value =
		value ? keep(reading, value) : NULL;
}

static const struct option_spec *find_option(
	const struct verb *verb, const char *name)
{
	for (const struct option_spec *one = verb->options; one->name; one++) {
		if (strcmp(one->name, name) == 0 &&
			strcmp(name, "settings") != 0 &&
			strcmp(name, "plan") != 0)
			return one;
	}
	return NULL;
}

static const char *scalar(const yaml_node_t *node)
{
	return node && node->type == YAML_SCALAR_NODE
		? (const char *)node->data.scalar.value
		: NULL;
}

/* Keys that stand for no option of the command line. */
static bool take_other(
	struct reading *reading, const char *key, yaml_node_t *value)
{
	struct invocation *call = reading->call;

	if (strcmp(key, "image") == 0) {
		if (!scalar(value))
			complain(reading, &value->start_mark,
				"expected a single value for", key);
		else if (!call->object_count) {
			static char *image[2];

			image[0] =
				(char *)(uintptr_t)keep(reading, scalar(value));
			call->objects = image;
			call->object_count = 1;
		}
		return true;
	}
	if (strcmp(key, "command") != 0)
		return false;
	if (value->type != YAML_SEQUENCE_NODE) {
		complain(reading, &value->start_mark, "expected a list for",
			key);
		return true;
	}
	if (call->has_command)
		return true;
	for (yaml_node_item_t *item = value->data.sequence.items.start;
		item < value->data.sequence.items.top; item++) {
		yaml_node_t *one = yaml_document_get_node(&reading->doc, *item);

		if (scalar(one))
			add(reading, "command", scalar(one));
		else
			complain(reading, &one->start_mark,
				"expected a single value in", key);
	}
	return true;
}

static void take_flag(struct reading *reading, const struct option_spec *option,
	const yaml_node_t *value)
{
	const char *text = scalar(value);

	if (text && (strcmp(text, "true") == 0 || strcmp(text, "yes") == 0))
		add(reading, option->name, NULL);
	else if (!text ||
		(strcmp(text, "false") != 0 && strcmp(text, "no") != 0))
		complain(reading, &value->start_mark,
			"expected true or false for", option->name);
}

/* A mapping is a list of KEY=VALUE: what the container sees on the left. */
static void take_mapping(struct reading *reading,
	const struct option_spec *option, yaml_node_t *value)
{
	for (yaml_node_pair_t *pair = value->data.mapping.pairs.start;
		pair < value->data.mapping.pairs.top; pair++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, pair->key);
		yaml_node_t *one =
			yaml_document_get_node(&reading->doc, pair->value);
		char *text = NULL;

		if (!scalar(key) || !scalar(one))
			complain(reading, &one->start_mark,
				"expected a single value in", option->name);
		else if ((text = th_format("%s=%s", scalar(key), scalar(one))))
			add(reading, option->name, text);
		else
			reading->no_memory = true;
		free(text);
	}
}

static void take_value(struct reading *reading,
	const struct option_spec *option, yaml_node_t *value)
{
	if (!option->value) {
		take_flag(reading, option, value);
		return;
	}
	if (scalar(value)) {
		add(reading, option->name, scalar(value));
		return;
	}
	if (value->type == YAML_MAPPING_NODE) {
		take_mapping(reading, option, value);
		return;
	}
	for (yaml_node_item_t *item = value->data.sequence.items.start;
		item < value->data.sequence.items.top; item++) {
		yaml_node_t *one = yaml_document_get_node(&reading->doc, *item);

		if (scalar(one))
			add(reading, option->name, scalar(one));
		else
			complain(reading, &one->start_mark,
				"expected a single value in", option->name);
	}
}

static void take_pair(
	struct reading *reading, yaml_node_t *key, yaml_node_t *value)
{
	const char *name = scalar(key);
	const struct option_spec *option;

	if (!name) {
		complain(reading, &key->start_mark,
			"expected the name of a setting", "");
		return;
	}
	if (take_other(reading, name, value))
		return;
	option = find_option(reading->call->verb, name);
	if (!option)
		complain(reading, &key->start_mark, "unknown setting", name);
	else
		take_value(reading, option, value);
}

static void take_document(struct reading *reading)
{
	yaml_node_t *root = yaml_document_get_root_node(&reading->doc);

	if (!root)
		return; /* an empty file sets nothing */
	if (root->type != YAML_MAPPING_NODE) {
		complain(reading, &root->start_mark,
			"expected lines of KEY: VALUE", "");
		return;
	}
	for (yaml_node_pair_t *pair = root->data.mapping.pairs.start;
		pair < root->data.mapping.pairs.top; pair++)
		take_pair(reading,
			yaml_document_get_node(&reading->doc, pair->key),
			yaml_document_get_node(&reading->doc, pair->value));
}

static int load(struct reading *reading, struct th_error *err)
{
	yaml_parser_t parser;
	struct th_buf text;
	int rc;

	th_buf_init(&text, TH_YAML_BYTES);
	rc = th_file_read(AT_FDCWD, reading->path, &text, err);
	if (rc == 0)
		th_fail(err, TH_NOT_FOUND,
			"the settings file %.300s does not exist",
			reading->path);
	if (rc != 1 || th_yaml_check(reading->path, &text, err)) {
		th_buf_release(&text);
		return -1;
	}
	rc = 0;
	if (!yaml_parser_initialize(&parser)) {
		th_buf_release(&text);
		return th_fail_memory(err);
	}
	yaml_parser_set_input_string(
		&parser, (const unsigned char *)text.data, text.len);
	if (!yaml_parser_load(&parser, &reading->doc)) {
		th_buf_addf(&reading->wrong, "%.200s, line %zu, column %zu: %s",
			reading->path, parser.problem_mark.line + 1,
			parser.problem_mark.column + 1,
			parser.problem ? parser.problem : "not valid YAML");
	} else {
		take_document(reading);
		yaml_document_delete(&reading->doc);
	}
	yaml_parser_delete(&parser);
	th_buf_release(&text);
	if (reading->wrong.len) {
		rc = th_fail(err, TH_USAGE, "%s", reading->wrong.data);
		th_hint(err,
			"settings are the options shown by tidyhull help %s, "
			"plus image and command",
			reading->call->verb->name);
	} else if (reading->no_memory) {
		rc = th_fail_memory(err);
	}
	return rc;
}

/* Those of the file stand in front: the last one of an option counts. */
static int merge(struct reading *reading, struct th_error *err)
{
	struct invocation *call = reading->call;
	size_t count = (size_t)call->option_count + reading->found_count;
	struct given_option *merged = calloc(count + 1, sizeof(*merged));
	char **command =
		calloc((size_t)call->command_count + reading->found_count + 1,
			sizeof(*command));
	int used = 0;

	if (!merged || !command) {
		free(merged);
		free(command);
		return th_fail_memory(err);
	}
	for (size_t i = 0; i < reading->found_count; i++) {
		if (strcmp(reading->found[i].name, "command") != 0)
			merged[used++] = reading->found[i];
		else
			command[call->command_count++] =
				(char *)(uintptr_t)reading->found[i].value;
	}
	memcpy(merged + used, call->options,
		(size_t)call->option_count * sizeof(*merged));
	free(call->options);
	call->options = merged;
	call->option_count += used;
	if (call->has_command)
		free(command);
	else
		call->command = command; /* until the program ends */
	return 0;
}

int settings_file_read(
	struct invocation *call, struct th_strings *kept, struct th_error *err)
{
	struct reading reading = {.call = call, .kept = kept};
	int rc;

	reading.path = option_value(call, "settings");
	if (!reading.path)
		return 0;
	th_buf_init(&reading.wrong, sizeof(err->msg) - 1);
	rc = load(&reading, err);
	if (rc == 0)
		rc = merge(&reading, err);
	th_buf_release(&reading.wrong);
	free(reading.found);
	return rc;
}

/* ---- writing ---- */

/* In double quotes, whose escapes YAML shares with JSON. */
static void print_text(const char *text)
{
	json_t *string = json_string(text);
	char *quoted = json_shown(string, JSON_ENCODE_ANY);

	fputs(quoted ? quoted : "\"\"", stdout);
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

static void print_member(const char *key, const json_t *value)
{
	size_t i;
	json_t *item;

	if (json_is_string(value) && json_string_length(value)) {
		printf("%s: ", key);
		print_text(json_string_value(value));
		putchar('\n');
	} else if (json_is_array(value) && json_array_size(value)) {
		printf("%s:\n", key);
		json_array_foreach((json_t *)(uintptr_t)value, i, item)
		{
			fputs("  - ", stdout);
			if (strcmp(key, "env") == 0)
				print_env(json_string_value(item));
			else
				print_text(json_string_value(item));
			putchar('\n');
		}
	}
}

void settings_file_print(const json_t *doc)
{
	static const char *const keys[] = {"name", "image", "command", "port",
		"mount", "env", "network", "alias", "host", "hostname", "user",
		"workdir", "entrypoint", "capability", "secret", "tty", "stop",
		"restart", "probe", "log", "limit", "device", "share", "allow",
		"reaper", "users"};
	const json_t *settings = json_object_get(doc, "settings");

	for (size_t i = 0; i < sizeof(keys) / sizeof(*keys); i++)
		print_member(keys[i], json_object_get(settings, keys[i]));
	if (json_is_true(json_object_get(settings, "read-only")))
		puts("read-only: true");
}
