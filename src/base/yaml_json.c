#include "base/yaml_json.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <yaml.h>

#include "base/yaml_bounds.h"

struct reading {
	yaml_parser_t parser;
	const char *name;
};

static int fail(const struct reading *reading, const yaml_event_t *event,
	const char *why, struct th_error *err)
{
	return th_fail(err, TH_FAILED, "%s, line %zu: %s", reading->name,
		(event ? event->start_mark.line
		       : reading->parser.problem_mark.line) +
			1,
		why);
}

static int next(
	struct reading *reading, yaml_event_t *event, struct th_error *err)
{
	if (yaml_parser_parse(&reading->parser, event))
		return 0;
	return fail(reading, NULL,
		reading->parser.problem ? reading->parser.problem
					: "it cannot be read",
		err);
}

/* ---- scalars ---- */

static bool is_one_of(const char *text, const char *const *words)
{
	for (; *words; words++) {
		if (strcmp(text, *words) == 0)
			return true;
	}
	return false;
}

static json_t *number_of(const char *text)
{
	const char *digits = text + (*text == '-' || *text == '+');
	int base = 10;
	char *end;
	long long whole;
	double real;

	if (strncmp(digits, "0x", 2) == 0)
		base = 16;
	else if (strncmp(digits, "0o", 2) == 0)
		base = 8;
	else if (*digits == '0' && digits[1])
		base = 8;
	if (strncmp(digits, "0o", 2) == 0)
		digits += 2;
	errno = 0;
	whole = strtoll(digits, &end, base);
	if (*digits >= '0' && *digits <= '9' && !*end && !errno)
		return json_integer(*text == '-' ? -whole : whole);
	if (strspn(text, "+-0123456789.eE") != strlen(text) ||
		!strpbrk(text, "0123456789"))
		return NULL;
	real = strtod(text, &end);
	return *end ? NULL : json_real(real);
}

static json_t *scalar(const yaml_event_t *event)
{
	static const char *const nulls[] = {
		"", "~", "null", "Null", "NULL", NULL};
	static const char *const yes[] = {"true", "True", "TRUE", NULL};
	static const char *const no[] = {"false", "False", "FALSE", NULL};
	const char *text = (const char *)event->data.scalar.value;
	json_t *number;

	if (event->data.scalar.style != YAML_PLAIN_SCALAR_STYLE)
		return json_string(text);
	if (is_one_of(text, nulls))
		return json_null();
	if (is_one_of(text, yes))
		return json_true();
	if (is_one_of(text, no))
		return json_false();
	number = number_of(text);
	return number ? number : json_string(text);
}

/* ---- collections ---- */

static json_t *read_node(
	struct reading *reading, yaml_event_t *event, struct th_error *err);

static int read_members(
	struct reading *reading, json_t *object, struct th_error *err)
{
	for (;;) {
		yaml_event_t key, value;
		const char *name;
		json_t *member;
		int rc = -1;

		if (next(reading, &key, err))
			return -1;
		if (key.type == YAML_MAPPING_END_EVENT) {
			yaml_event_delete(&key);
			return 0;
		}
		name = key.type == YAML_SCALAR_EVENT
			? (const char *)key.data.scalar.value
			: NULL;
		if (!name) {
			fail(reading, &key, "a key is not a text", err);
		} else if (json_object_get(object, name)) {
			fail(reading, &key, "a key comes twice", err);
		} else if (next(reading, &value, err) == 0) {
			member = read_node(reading, &value, err);
			rc = member ? json_object_set_new(object, name, member)
				    : -1;
			if (member && rc)
				fail(reading, &key, "it is not valid UTF-8",
					err);
		}
		yaml_event_delete(&key);
		if (rc)
			return -1;
	}
}

static int read_items(
	struct reading *reading, json_t *array, struct th_error *err)
{
	for (;;) {
		yaml_event_t event;
		json_t *item;

		if (next(reading, &event, err))
			return -1;
		if (event.type == YAML_SEQUENCE_END_EVENT) {
			yaml_event_delete(&event);
			return 0;
		}
		item = read_node(reading, &event, err);
		if (!item || json_array_append_new(array, item))
			return -1;
	}
}

/* Takes the event over. Its depth is bounded by th_yaml_check. */
static json_t *read_node(
	struct reading *reading, yaml_event_t *event, struct th_error *err)
{
	json_t *node = NULL;
	int rc = 0;

	switch (event->type) {
	case YAML_SCALAR_EVENT:
		node = scalar(event);
		if (!node)
			fail(reading, event, "it is not valid UTF-8", err);
		break;
	case YAML_MAPPING_START_EVENT:
		node = json_object();
		rc = read_members(reading, node, err);
		break;
	case YAML_SEQUENCE_START_EVENT:
		node = json_array();
		rc = read_items(reading, node, err);
		break;
	case YAML_ALIAS_EVENT:
		fail(reading, event, "aliases are not supported", err);
		break;
	default:
		fail(reading, event, "a value is missing", err);
		break;
	}
	yaml_event_delete(event);
	if (rc == 0)
		return node;
	json_decref(node);
	return NULL;
}

static int read_document(
	struct reading *reading, json_t **doc, struct th_error *err)
{
	yaml_event_t event;

	/* The stream, the document, and what it holds. */
	for (int i = 0; i < 2; i++) {
		if (next(reading, &event, err))
			return -1;
		if (event.type == YAML_STREAM_END_EVENT) {
			fail(reading, &event, "it is empty", err);
			yaml_event_delete(&event);
			return -1;
		}
		yaml_event_delete(&event);
	}
	if (next(reading, &event, err))
		return -1;
	*doc = read_node(reading, &event, err);
	return *doc ? 0 : -1;
}

int th_yaml_to_json(const char *name, const struct th_buf *text, json_t **doc,
	struct th_error *err)
{
	struct reading reading = {.name = name};
	int rc;

	if (th_yaml_check(name, text, err))
		return -1;
	if (!yaml_parser_initialize(&reading.parser))
		return th_fail_memory(err);
	yaml_parser_set_input_string(
		&reading.parser, (const unsigned char *)text->data, text->len);
	rc = read_document(&reading, doc, err);
	yaml_parser_delete(&reading.parser);
	return rc;
}
