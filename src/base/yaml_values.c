#include "base/yaml_values.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/distance.h"
#include "base/yaml_bounds.h"

#define TEXT_MAX (1u << 20)

int th_yaml_read(struct th_yaml *reading, const struct th_buf *text,
	void (*read)(struct th_yaml *reading, yaml_node_t *root, void *owner),
	void *owner)
{
	struct th_error err = {0};
	yaml_parser_t parser;

	if (th_yaml_check(reading->name, text, &err) == 0 &&
		!yaml_parser_initialize(&parser)) {
		reading->no_memory = true;
	} else if (!err.code) {
		yaml_parser_set_input_string(
			&parser, (const unsigned char *)text->data, text->len);
		if (!yaml_parser_load(&parser, &reading->doc)) {
			th_fail(&err, TH_USAGE,
				"%.150s, line %zu, column %zu: %s",
				reading->name, parser.problem_mark.line + 1,
				parser.problem_mark.column + 1,
				parser.problem ? parser.problem
					       : "not valid YAML");
		} else {
			read(reading,
				yaml_document_get_root_node(&reading->doc),
				owner);
			yaml_document_delete(&reading->doc);
		}
		yaml_parser_delete(&parser);
	}
	if (reading->no_memory)
		th_fail_memory(&err);
	if (err.code)
		th_problems_add(reading->problems, &err);
	th_strings_release(&reading->given);
	return reading->problems->count ? -1 : 0;
}

yaml_node_t *th_yaml_find(
	struct th_yaml *reading, const yaml_node_t *mapping, const char *key)
{
	if (mapping->type != YAML_MAPPING_NODE)
		return NULL;
	for (yaml_node_pair_t *pair = mapping->data.mapping.pairs.start;
		pair < mapping->data.mapping.pairs.top; pair++) {
		yaml_node_t *one =
			yaml_document_get_node(&reading->doc, pair->key);

		if (one->type == YAML_SCALAR_NODE &&
			strcmp((const char *)one->data.scalar.value, key) == 0)
			return yaml_document_get_node(
				&reading->doc, pair->value);
	}
	return NULL;
}

struct th_yaml_place th_yaml_place_of(const yaml_node_t *node)
{
	return (struct th_yaml_place){
		node->start_mark.line + 1, node->start_mark.column + 1};
}

void th_yaml_complain(struct th_yaml *reading, const yaml_node_t *node,
	const char *hint, const char *fmt, ...)
{
	struct th_yaml_place place = th_yaml_place_of(node);
	struct th_error err = {0};
	char text[300];
	va_list args;

	va_start(args, fmt);
	vsnprintf(text, sizeof(text), fmt, args);
	va_end(args);
	th_fail(&err, TH_USAGE, "%.150s, line %zu, column %zu: %s",
		reading->name, place.line, place.column, text);
	if (hint)
		th_hint(&err, "%s", hint);
	th_problems_add(reading->problems, &err);
}

char *th_yaml_text(
	struct th_yaml *reading, const yaml_node_t *node, const char *what)
{
	struct th_buf text;
	char *taken;

	if (node->type != YAML_SCALAR_NODE) {
		th_yaml_complain(reading, node, NULL,
			"\"%s\" takes a single value", what);
		return NULL;
	}
	if (strlen((const char *)node->data.scalar.value) !=
		node->data.scalar.length) {
		th_yaml_complain(reading, node, NULL,
			"\"%s\" contains a zero byte", what);
		return NULL;
	}
	th_buf_init(&text, TEXT_MAX);
	th_yaml_put_values(
		reading, node, (const char *)node->data.scalar.value, &text);
	th_buf_adds(&text, "");
	taken = text.len ? th_buf_take(&text) : strdup("");
	if (!text.len)
		th_buf_release(&text);
	if (!taken)
		reading->no_memory = true;
	return taken;
}

static void add(struct th_yaml *reading, struct th_strings *list, char *text)
{
	if (th_strings_take(list, text))
		reading->no_memory = true;
}

void th_yaml_list(struct th_yaml *reading, yaml_node_t *node, const char *what,
	struct th_strings *list)
{
	char *text;

	if (node->type == YAML_MAPPING_NODE) {
		th_yaml_complain(
			reading, node, NULL, "\"%s\" takes a list", what);
		return;
	}
	if (node->type == YAML_SCALAR_NODE) {
		text = th_yaml_text(reading, node, what);
		if (text)
			add(reading, list, text);
		return;
	}
	for (yaml_node_item_t *item = node->data.sequence.items.start;
		item < node->data.sequence.items.top; item++) {
		text = th_yaml_text(reading,
			yaml_document_get_node(&reading->doc, *item), what);
		if (text)
			add(reading, list, text);
	}
}

void th_yaml_pairs(struct th_yaml *reading, yaml_node_t *node, const char *what,
	struct th_strings *list)
{
	if (node->type != YAML_MAPPING_NODE) {
		size_t before = list->count;

		th_yaml_list(reading, node, what, list);
		for (size_t i = before; i < list->count; i++) {
			if (strcspn(list->items[i], "=") ==
					strlen(list->items[i]) ||
				list->items[i][0] == '=')
				th_yaml_complain(reading, node, NULL,
					"\"%.60s\" in \"%s\" is not KEY=VALUE",
					list->items[i], what);
		}
		return;
	}
	for (yaml_node_pair_t *pair = node->data.mapping.pairs.start;
		pair < node->data.mapping.pairs.top; pair++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, pair->key);
		yaml_node_t *value =
			yaml_document_get_node(&reading->doc, pair->value);
		char *name = th_yaml_text(reading, key, what);
		char *text = name ? th_yaml_text(reading, value, what) : NULL;

		if (name && (!*name || strchr(name, '=')))
			th_yaml_complain(reading, key, NULL,
				"\"%.60s\" is not a key of \"%s\"", name, what);
		else if (name && text)
			add(reading, list, th_format("%s=%s", name, text));
		free(name);
		free(text);
	}
}

bool th_yaml_flag(
	struct th_yaml *reading, const yaml_node_t *node, const char *what)
{
	const char *text = node->type == YAML_SCALAR_NODE
		? (const char *)node->data.scalar.value
		: "";

	if (strcmp(text, "true") == 0 || strcmp(text, "yes") == 0)
		return true;
	if (strcmp(text, "false") != 0 && strcmp(text, "no") != 0)
		th_yaml_complain(reading, node, NULL,
			"\"%s\" takes true or false", what);
	return false;
}

/* ---- mappings ---- */

#define NAMES_MAX 64

const char *th_yaml_key_text(const yaml_node_t *key)
{
	return (const char *)key->data.scalar.value;
}

void th_yaml_unknown(struct th_yaml *reading, const yaml_node_t *key,
	const char *what, const char *const *names)
{
	const char *name = th_yaml_key_text(key), *best = NULL;
	char hint[100] = "";
	int least = 3;

	for (; *names; names++) {
		int steps = th_distance(name, *names);

		if (steps < least) {
			least = steps;
			best = *names;
		}
	}
	if (strcmp(what, "a settings file") == 0 &&
		(strcmp(name, "from") == 0 || strcmp(name, "steps") == 0))
		snprintf(hint, sizeof(hint),
			"it looks like a recipe: tidyhull build FILE");
	else if (best)
		snprintf(hint, sizeof(hint), "did you mean \"%s\"?", best);
	else
		snprintf(hint, sizeof(hint), "%s lists all keys with examples",
			reading->manual);
	th_yaml_complain(
		reading, key, hint, "%s has no key \"%.60s\"", what, name);
}

static bool is_repeated(struct th_yaml *reading, const yaml_node_t *node,
	const yaml_node_pair_t *pair, const char *name)
{
	for (yaml_node_pair_t *one = node->data.mapping.pairs.start; one < pair;
		one++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, one->key);

		if (key->type == YAML_SCALAR_NODE &&
			strcmp(th_yaml_key_text(key), name) == 0)
			return true;
	}
	return false;
}

void th_yaml_each(struct th_yaml *reading, yaml_node_t *node, const char *what,
	void (*take)(struct th_yaml *reading, yaml_node_t *key,
		yaml_node_t *value, void *owner),
	void *owner)
{
	if (node->type != YAML_MAPPING_NODE) {
		th_yaml_complain(
			reading, node, NULL, "%s consists of KEY: VALUE", what);
		return;
	}
	for (yaml_node_pair_t *pair = node->data.mapping.pairs.start;
		pair < node->data.mapping.pairs.top; pair++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, pair->key);

		if (key->type != YAML_SCALAR_NODE)
			th_yaml_complain(reading, key, NULL,
				"%s consists of KEY: VALUE", what);
		else if (is_repeated(
				 reading, node, pair, th_yaml_key_text(key)))
			th_yaml_complain(reading, key, NULL,
				"\"%.60s\" stands here twice",
				th_yaml_key_text(key));
		else
			take(reading, key,
				yaml_document_get_node(
					&reading->doc, pair->value),
				owner);
	}
}

struct by_table {
	const char *what;
	const struct th_yaml_key *keys;
	void *owner;
};

static void take_by_table(struct th_yaml *reading, yaml_node_t *key,
	yaml_node_t *value, void *owner)
{
	const struct by_table *table = owner;
	const char *names[NAMES_MAX + 1] = {NULL};

	for (size_t i = 0; i < NAMES_MAX && table->keys[i].name; i++) {
		names[i] = table->keys[i].name;
		if (strcmp(names[i], th_yaml_key_text(key)) != 0)
			continue;
		table->keys[i].read(reading, value, table->owner);
		return;
	}
	th_yaml_unknown(reading, key, table->what, names);
}

void th_yaml_mapping(struct th_yaml *reading, yaml_node_t *node,
	const char *what, const struct th_yaml_key *keys, void *owner)
{
	struct by_table table = {what, keys, owner};

	th_yaml_each(reading, node, what, take_by_table, &table);
}
