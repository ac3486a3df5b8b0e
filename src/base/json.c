#include "base/json.h"

#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/file.h"

#define TEXT_MAX ((size_t)256 << 20)
#define DEPTH_MAX 64

/* jansson's own depth limit is far above what our stack should bear. */
static bool too_deep(const char *data, size_t len)
{
	bool text = false;
	int depth = 0;

	for (size_t i = 0; i < len; i++) {
		if (text) {
			if (data[i] == '\\')
				i++;
			else if (data[i] == '"')
				text = false;
		} else if (data[i] == '"') {
			text = true;
		} else if (data[i] == '{' || data[i] == '[') {
			if (++depth > DEPTH_MAX)
				return true;
		} else if (data[i] == '}' || data[i] == ']') {
			depth--;
		}
	}
	return false;
}

int th_json_parse(const char *data, size_t len, const char *what, json_t **doc,
	struct th_error *err)
{
	json_error_t jerr;
	json_t *parsed;

	if (too_deep(data, len))
		return th_fail(err, TH_FAILED,
			"%s is nested more than %d levels deep", what,
			DEPTH_MAX);
	parsed = json_loadb(data, len, JSON_REJECT_DUPLICATES, &jerr);
	if (!parsed)
		return th_fail(err, TH_FAILED,
			"%s is not valid JSON: %s (line %d)", what, jerr.text,
			jerr.line);
	if (!json_is_object(parsed)) {
		json_decref(parsed);
		return th_fail(err, TH_FAILED, "%s is not a JSON object", what);
	}
	*doc = parsed;
	return 0;
}

int th_json_read_file(int dirfd, const char *path, size_t limit, json_t **doc,
	struct th_error *err)
{
	struct th_buf buf;
	int rc;

	th_buf_init(&buf, limit);
	rc = th_file_read_regular(dirfd, path, &buf, err);
	if (rc == 1 && th_json_parse(buf.data, buf.len, path, doc, err))
		rc = -1;
	th_buf_release(&buf);
	return rc;
}

static int fetch(const json_t *object, const char *key, const char *where,
	json_type type, const char *type_name, json_t **value,
	struct th_error *err)
{
	json_t *member = json_object_get(object, key);

	*value = NULL;
	if (!member || json_is_null(member))
		return 0;
	if (json_typeof(member) != type)
		return th_fail(err, TH_FAILED, "\"%s\" in %s is not %s", key,
			where, type_name);
	*value = member;
	return 1;
}

int th_json_string(const json_t *object, const char *key, const char *where,
	const char **value, struct th_error *err)
{
	json_t *member;
	int rc;

	*value = NULL;
	rc = fetch(object, key, where, JSON_STRING, "a string", &member, err);
	if (rc != 1)
		return rc;
	if (strlen(json_string_value(member)) != json_string_length(member))
		return th_fail(err, TH_FAILED,
			"\"%s\" in %s contains a NUL character", key, where);
	*value = json_string_value(member);
	return 1;
}

int th_json_int(const json_t *object, const char *key, const char *where,
	int64_t *value, struct th_error *err)
{
	json_t *member;
	int rc;

	rc = fetch(object, key, where, JSON_INTEGER, "a whole number", &member,
		err);
	if (rc == 1)
		*value = json_integer_value(member);
	return rc;
}

int th_json_bool(const json_t *object, const char *key, const char *where,
	bool *value, struct th_error *err)
{
	json_t *member = json_object_get(object, key);

	if (!member || json_is_null(member))
		return 0;
	if (!json_is_boolean(member))
		return th_fail(err, TH_FAILED,
			"\"%s\" in %s is not true or false", key, where);
	*value = json_is_true(member);
	return 1;
}

int th_json_object(const json_t *object, const char *key, const char *where,
	json_t **value, struct th_error *err)
{
	return fetch(object, key, where, JSON_OBJECT, "an object", value, err);
}

int th_json_array(const json_t *object, const char *key, const char *where,
	json_t **value, struct th_error *err)
{
	return fetch(object, key, where, JSON_ARRAY, "an array", value, err);
}

int th_json_strings(const json_t *object, const char *key, const char *where,
	struct th_strings *list, struct th_error *err)
{
	json_t *array, *item;
	size_t i;
	int rc;

	rc = th_json_array(object, key, where, &array, err);
	if (rc != 1)
		return rc;
	json_array_foreach(array, i, item)
	{
		const char *text = json_string_value(item);

		if (!text || strlen(text) != json_string_length(item))
			return th_fail(err, TH_FAILED,
				"item %zu of \"%s\" in %s is not a string", i,
				key, where);
		if (th_strings_add(list, text))
			return th_fail_memory(err);
	}
	return 1;
}

json_t *th_json_from_strings(const struct th_strings *list)
{
	json_t *array = json_array();

	for (size_t i = 0; array && i < list->count; i++) {
		if (json_array_append_new(array, json_string(list->items[i]))) {
			json_decref(array);
			array = NULL;
		}
	}
	return array;
}

static int add_text(const char *data, size_t len, void *buf)
{
	th_buf_add(buf, data, len);
	return ((struct th_buf *)buf)->failed ? -1 : 0;
}

char *th_json_text(const json_t *doc, size_t flags)
{
	struct th_buf buf;
	bool whole;

	th_buf_init(&buf, TEXT_MAX);
	whole = doc && json_dump_callback(doc, add_text, &buf, flags) == 0;
	if (whole)
		return th_buf_take(&buf);
	th_buf_release(&buf);
	return NULL;
}

static int write_file(int dirfd, const char *path, const json_t *doc,
	size_t flags, mode_t mode, bool sync, struct th_error *err)
{
	char *text = th_json_text(doc, flags);
	size_t len;
	int rc;

	if (!text)
		return th_fail_memory(err);
	len = strlen(text);
	text[len] = '\n'; /* in place of the NUL: the length is known */
	rc = th_file_replace(dirfd, path, text, len + 1, mode, sync, err);
	free(text);
	return rc;
}

int th_json_write_file(int dirfd, const char *path, const json_t *doc,
	mode_t mode, bool sync, struct th_error *err)
{
	return write_file(dirfd, path, doc, JSON_INDENT(2), mode, sync, err);
}

int th_json_write_compact(int dirfd, const char *path, const json_t *doc,
	mode_t mode, struct th_error *err)
{
	return write_file(dirfd, path, doc, JSON_COMPACT, mode, false, err);
}

json_t *th_json_word(const char *text)
{
	return *text ? json_string(text) : json_null();
}

json_t *th_json_time(int64_t time_us)
{
	char text[TH_TIME_TEXT];

	if (!time_us)
		return json_null();
	th_clock_format(time_us, text);
	return json_string_nocheck(text);
}

void th_json_filter(json_t *array,
	bool (*drop)(const json_t *item, const void *with), const void *with)
{
	for (size_t i = 0; i < json_array_size(array);) {
		if (drop(json_array_get(array, i), with))
			json_array_remove(array, i);
		else
			i++;
	}
}
