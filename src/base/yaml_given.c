/* Values that are given from outside, and stand for themselves as ${NAME}. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/yaml_values.h"

static const char *find_given(
	const struct th_yaml *reading, const char *name, size_t len)
{
	for (size_t i = 0; i < reading->given.count; i++) {
		const char *pair = reading->given.items[i];

		if (strncmp(pair, name, len) == 0 && pair[len] == '=')
			return pair + len + 1;
	}
	return NULL;
}

void th_yaml_put_values(struct th_yaml *reading, const yaml_node_t *node,
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
			th_yaml_complain(reading, node,
				"list it under \"given\"; a variable of the "
				"shell is written $NAME, or $${NAME}",
				"no value is given for \"%.*s\"", (int)len,
				text + 2);
		text = end + 1;
	}
}

static const char *outside_value(
	const struct th_yaml *reading, const char *name, size_t len)
{
	for (size_t i = reading->outside->count; i > 0; i--) {
		const char *pair = reading->outside->items[i - 1];

		if (strncmp(pair, name, len) == 0 && pair[len] == '=')
			return pair + len + 1;
	}
	return NULL;
}

void th_yaml_give(struct th_yaml *reading, const char *name, const char *value)
{
	char *pair = th_format("%s=%s", name, value);

	for (size_t i = 0; pair && i < reading->given.count; i++) {
		char **one = &reading->given.items[i];

		if (strncmp(*one, pair, strlen(name) + 1) != 0)
			continue;
		free(*one);
		*one = pair;
		return;
	}
	if (th_strings_take(&reading->given, pair))
		reading->no_memory = true;
}

void th_yaml_take_back(struct th_yaml *reading, const char *name)
{
	size_t len = strlen(name), kept = 0;

	for (size_t i = 0; i < reading->given.count; i++) {
		char *pair = reading->given.items[i];

		if (strncmp(pair, name, len) == 0 && pair[len] == '=')
			free(pair);
		else
			reading->given.items[kept++] = pair;
	}
	reading->given.count = kept;
}

/* A name that can stand in ${...}. */
static bool is_name(const char *text)
{
	return *text && strlen(text) < 64 &&
		!text[strspn(text,
			"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
			"0123456789._-")];
}

static void take_given(
	struct th_yaml *reading, yaml_node_t *key, yaml_node_t *value)
{
	char *name = th_yaml_text(reading, key, "given");
	bool is_null = value->type == YAML_SCALAR_NODE &&
		!value->data.scalar.length &&
		value->data.scalar.style == YAML_PLAIN_SCALAR_STYLE;
	const char *set =
		name ? outside_value(reading, name, strlen(name)) : NULL;
	char hint[120], *text = NULL;

	if (name && !set)
		set = find_given(reading, name, strlen(name));

	if (name && !is_name(name))
		th_yaml_complain(reading, key, NULL,
			"\"%.60s\" is not a name for a value", name);
	else if (name && !set && is_null) {
		snprintf(hint, sizeof(hint), "give it: --given %.60s=VALUE",
			name);
		th_yaml_complain(
			reading, key, hint, "\"%.60s\" has no value", name);
	} else if (name) {
		text = set ? strdup(set)
			   : th_yaml_text(reading, value, "given");
	}
	/* Also without one, so that only one complaint is made of it. */
	if (name)
		th_yaml_give(reading, name, text ? text : "");
	free(text);
	free(name);
}

static void read_all(struct th_yaml *reading, yaml_node_t *given)
{
	if (given->type != YAML_MAPPING_NODE) {
		th_yaml_complain(reading, given, NULL,
			"\"given\" consists of NAME: VALUE");
		return;
	}
	for (yaml_node_pair_t *one = given->data.mapping.pairs.start;
		one < given->data.mapping.pairs.top; one++)
		take_given(reading,
			yaml_document_get_node(&reading->doc, one->key),
			yaml_document_get_node(&reading->doc, one->value));
}

/* Values that nobody asks for are a slip of the keys. */
static void check_outside(
	struct th_yaml *reading, yaml_node_t *root, yaml_node_t *given)
{
	for (size_t i = 0; i < reading->outside->count; i++) {
		const char *pair = reading->outside->items[i];
		char hint[80], name[80];

		snprintf(name, sizeof(name), "%.*s", (int)strcspn(pair, "="),
			pair);
		if (given && th_yaml_find(reading, given, name))
			continue;
		snprintf(hint, sizeof(hint),
			"the %s lists under \"given\" what can be set",
			reading->what);
		th_yaml_complain(reading, root, hint,
			"the %s has no value \"%s\"", reading->what, name);
	}
}

void th_yaml_read_given(struct th_yaml *reading, yaml_node_t *root)
{
	yaml_node_t *given = th_yaml_find(reading, root, "given");

	if (given)
		read_all(reading, given);
	check_outside(reading, root, given);
}
