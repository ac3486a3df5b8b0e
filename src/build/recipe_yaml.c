#include "build/recipe_yaml.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/distance.h"

#define TEXT_MAX (1u << 20)

struct th_recipe_place place_of(const yaml_node_t *node)
{
	return (struct th_recipe_place){
		node->start_mark.line + 1, node->start_mark.column + 1};
}

void complain(struct reading *reading, const yaml_node_t *node,
	const char *hint, const char *fmt, ...)
{
	struct th_recipe_place place = place_of(node);
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

/* ---- values that are given ---- */

static const char *find_given(
	const struct reading *reading, const char *name, size_t len)
{
	for (size_t i = 0; i < reading->given.count; i++) {
		const char *pair = reading->given.items[i];

		if (strncmp(pair, name, len) == 0 && pair[len] == '=')
			return pair + len + 1;
	}
	return NULL;
}

/* "${NAME}" is a value, "$${" stands for itself without the first sign. */
static void put_values(struct reading *reading, const yaml_node_t *node,
	const char *text, struct th_buf *out)
{
	while (*text) {
		size_t len = strcspn(text, "$");
		const char *value, *end;

		th_buf_add(out, text, len);
		text += len;
		if (strncmp(text, "$${", 3) == 0) {
			th_buf_adds(out, "${");
			text += 3;
			continue;
		}
		end = strncmp(text, "${", 2) == 0 ? strchr(text, '}') : NULL;
		if (!end) {
			th_buf_add(out, text, *text ? 1 : 0);
			text += *text ? 1 : 0;
			continue;
		}
		len = (size_t)(end - text) - 2;
		value = find_given(reading, text + 2, len);
		if (value)
			th_buf_adds(out, value);
		else
			complain(reading, node,
				"list it under \"given\"; a variable of the "
				"shell is written $NAME, or $${NAME}",
				"no value is given for \"%.*s\"", (int)len,
				text + 2);
		text = end + 1;
	}
}

char *read_text(
	struct reading *reading, const yaml_node_t *node, const char *what)
{
	struct th_buf text;
	char *taken;

	if (node->type != YAML_SCALAR_NODE) {
		complain(reading, node, NULL, "\"%s\" takes a single value",
			what);
		return NULL;
	}
	if (strlen((const char *)node->data.scalar.value) !=
		node->data.scalar.length) {
		complain(reading, node, NULL, "\"%s\" contains a zero byte",
			what);
		return NULL;
	}
	th_buf_init(&text, TEXT_MAX);
	put_values(reading, node, (const char *)node->data.scalar.value, &text);
	th_buf_adds(&text, "");
	taken = text.len ? th_buf_take(&text) : strdup("");
	if (!text.len)
		th_buf_release(&text);
	if (!taken)
		reading->no_memory = true;
	return taken;
}

static void add(struct reading *reading, struct th_strings *list, char *text)
{
	if (th_strings_take(list, text))
		reading->no_memory = true;
}

void read_list(struct reading *reading, yaml_node_t *node, const char *what,
	struct th_strings *list)
{
	char *text;

	if (node->type == YAML_MAPPING_NODE) {
		complain(reading, node, NULL, "\"%s\" takes a list", what);
		return;
	}
	if (node->type == YAML_SCALAR_NODE) {
		text = read_text(reading, node, what);
		if (text)
			add(reading, list, text);
		return;
	}
	for (yaml_node_item_t *item = node->data.sequence.items.start;
		item < node->data.sequence.items.top; item++) {
		text = read_text(reading,
			yaml_document_get_node(&reading->doc, *item), what);
		if (text)
			add(reading, list, text);
	}
}

void read_pairs(struct reading *reading, yaml_node_t *node, const char *what,
	struct th_strings *list)
{
	if (node->type != YAML_MAPPING_NODE) {
		size_t before = list->count;

		read_list(reading, node, what, list);
		for (size_t i = before; i < list->count; i++) {
			if (strcspn(list->items[i], "=") ==
					strlen(list->items[i]) ||
				list->items[i][0] == '=')
				complain(reading, node, NULL,
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
		char *name = read_text(reading, key, what);
		char *text = name ? read_text(reading, value, what) : NULL;

		if (name && (!*name || strchr(name, '=')))
			complain(reading, key, NULL,
				"\"%.60s\" is not a key of \"%s\"", name, what);
		else if (name && text)
			add(reading, list, th_format("%s=%s", name, text));
		free(name);
		free(text);
	}
}

bool read_flag(
	struct reading *reading, const yaml_node_t *node, const char *what)
{
	const char *text = node->type == YAML_SCALAR_NODE
		? (const char *)node->data.scalar.value
		: "";

	if (strcmp(text, "true") == 0 || strcmp(text, "yes") == 0)
		return true;
	if (strcmp(text, "false") != 0 && strcmp(text, "no") != 0)
		complain(reading, node, NULL, "\"%s\" takes true or false",
			what);
	return false;
}

/* ---- mappings ---- */

static void complain_of_key(struct reading *reading, const yaml_node_t *key,
	const char *what, const struct recipe_key *keys)
{
	const char *name = (const char *)key->data.scalar.value;
	const char *best = NULL;
	char hint[100] = "";
	int least = 3;

	for (const struct recipe_key *one = keys; one->name; one++) {
		int steps = th_distance(name, one->name);

		if (steps < least) {
			least = steps;
			best = one->name;
		}
	}
	if (best)
		snprintf(hint, sizeof(hint), "did you mean \"%s\"?", best);
	else
		snprintf(hint, sizeof(hint),
			"docs/recipes.md lists all keys with examples");
	complain(reading, key, hint, "%s has no key \"%.60s\"", what, name);
}

static bool is_repeated(struct reading *reading, const yaml_node_t *node,
	const yaml_node_pair_t *pair, const char *name)
{
	for (yaml_node_pair_t *one = node->data.mapping.pairs.start; one < pair;
		one++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, one->key);

		if (key->type == YAML_SCALAR_NODE &&
			strcmp((const char *)key->data.scalar.value, name) == 0)
			return true;
	}
	return false;
}

void read_mapping(struct reading *reading, yaml_node_t *node, const char *what,
	const struct recipe_key *keys, void *owner)
{
	if (node->type != YAML_MAPPING_NODE) {
		complain(
			reading, node, NULL, "%s consists of KEY: VALUE", what);
		return;
	}
	for (yaml_node_pair_t *pair = node->data.mapping.pairs.start;
		pair < node->data.mapping.pairs.top; pair++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, pair->key);
		const struct recipe_key *found = keys;

		if (key->type != YAML_SCALAR_NODE) {
			complain(reading, key, NULL,
				"%s consists of KEY: VALUE", what);
			continue;
		}
		while (found->name &&
			strcmp(found->name,
				(const char *)key->data.scalar.value) != 0)
			found++;
		if (!found->name)
			complain_of_key(reading, key, what, keys);
		else if (is_repeated(reading, node, pair, found->name))
			complain(reading, key, NULL, "\"%s\" stands here twice",
				found->name);
		else
			found->read(reading,
				yaml_document_get_node(
					&reading->doc, pair->value),
				owner);
	}
}
