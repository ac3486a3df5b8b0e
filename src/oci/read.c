#include "oci/read.h"

#include <ctype.h>
#include <errno.h>
#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

#define ITEMS_MAX 65536
/* Of the least number that is too big for int64_t. */
#define BIG_DIGITS 19

static bool is_in(const char *name, const char *const *list)
{
	return list && word_index(name, list) >= 0;
}

int word_index(const char *text, const char *const *words)
{
	for (int i = 0; text && words[i]; i++) {
		if (strcmp(words[i], text) == 0)
			return i;
	}
	return -1;
}

int shape_check(
	const json_t *object, const struct shape *shape, struct th_error *err)
{
	const char *key;
	void *iter = json_object_iter((json_t *)(uintptr_t)object);

	for (; iter; iter = json_object_iter_next(
			     (json_t *)(uintptr_t)object, iter)) {
		key = json_object_iter_key(iter);
		if (is_in(key, shape->done) ||
			json_is_null(json_object_iter_value(iter)))
			continue;
		if (is_in(key, shape->refused))
			return th_fail(err, TH_NOT_POSSIBLE,
				"%s uses \"%s\", which is not supported",
				shape->where, key);
		/* "Runtimes ... MUST ignore unknown properties" (config.md,
		 * "Extensibility"). */
	}
	return 0;
}

int read_copy(const json_t *object, const char *key, const char *where,
	char **copy, struct th_error *err)
{
	const char *text;
	int rc = th_json_string(object, key, where, &text, err);

	if (rc != 1)
		return rc;
	*copy = strdup(text);
	return *copy ? 1 : th_fail_memory(err);
}

int read_number(const json_t *object, const char *key, const char *where,
	int64_t least, int64_t most, int64_t *value, struct th_error *err)
{
	int64_t number = 0;
	int rc = th_json_int(object, key, where, &number, err);

	if (rc == 1 && (number < least || number > most))
		return th_fail(err, TH_FAILED,
			"\"%s\" in %s is out of range: %" PRId64, key, where,
			number);
	if (rc == 1)
		*value = number;
	return rc;
}

int read_id(const json_t *object, const char *key, const char *where,
	uint32_t *id, struct th_error *err)
{
	int64_t value = 0;
	int rc = read_number(
		object, key, where, 0, UINT32_MAX - 1LL, &value, err);

	if (rc == 1)
		*id = (uint32_t)value;
	return rc;
}

int read_map(const json_t *object, const char *key, const char *where,
	struct th_strings *list, struct th_error *err)
{
	json_t *map, *value;
	const char *name;
	int rc = th_json_object(object, key, where, &map, err);

	if (rc != 1)
		return rc;
	json_object_foreach(map, name, value)
	{
		if (!json_is_string(value))
			return th_fail(err, TH_FAILED,
				"\"%.100s\" in %s.%s is not a string", name,
				where, key);
		if (!*name || strchr(name, '='))
			return th_fail(err, TH_FAILED,
				"%s.%s has the invalid key \"%.100s\"", where,
				key, name);
		if (th_strings_take(list,
			    th_format("%s=%s", name, json_string_value(value))))
			return th_fail_memory(err);
	}
	return 1;
}

int read_items(const json_t *object, const char *key, const struct shape *shape,
	size_t item_size, void **items, size_t *count,
	int (*read)(const json_t *item, void *out, struct th_error *err),
	struct th_error *err)
{
	json_t *array, *item;
	char *room;
	size_t i;
	int rc = th_json_array(object, key, shape->where, &array, err);

	if (rc != 1)
		return rc;
	if (json_array_size(array) > ITEMS_MAX)
		return th_fail(err, TH_FAILED, "%s has more than %d items",
			shape->where, ITEMS_MAX);
	room = calloc(json_array_size(array) + 1, item_size);
	if (!room)
		return th_fail_memory(err);
	*items = room;
	json_array_foreach(array, i, item)
	{
		if (!json_is_object(item))
			return th_fail(err, TH_FAILED,
				"%s has an item that is not an object",
				shape->where);
		*count = i + 1;
		if (shape_check(item, shape, err) ||
			read(item, room + i * item_size, err))
			return -1;
	}
	return 1;
}

bool has_big_numbers(const char *data, size_t len)
{
	size_t run = 0;

	for (size_t i = 0; i < len; i++) {
		run = data[i] >= '0' && data[i] <= '9' ? run + 1 : 0;
		if (run == BIG_DIGITS)
			return true;
	}
	return false;
}

void wrap_big_numbers(const char *data, size_t len, struct th_buf *out)
{
	bool text = false;
	size_t i = 0;

	while (i < len) {
		size_t end = i;
		unsigned long long value;
		char digits[24];

		if (text || !isdigit((unsigned char)data[i])) {
			if (text && data[i] == '\\' && i + 1 < len)
				th_buf_add(out, &data[i++], 1);
			else if (data[i] == '"')
				text = !text;
			th_buf_add(out, &data[i++], 1);
			continue;
		}
		while (end < len &&
			(isalnum((unsigned char)data[end]) ||
				strchr(".+-", data[end])))
			end++;
		/* Below that all fit. */
		if (end - i >= BIG_DIGITS && end - i < sizeof(digits) &&
			(i == 0 || data[i - 1] != '-')) {
			memcpy(digits, data + i, end - i);
			digits[end - i] = '\0';
			errno = 0;
			value = strtoull(digits, NULL, 10);
			if (!errno && value > INT64_MAX &&
				strspn(digits, "0123456789") == end - i) {
				th_buf_addf(out, "%" PRId64, (int64_t)value);
				i = end;
				continue;
			}
		}
		th_buf_add(out, data + i, end - i);
		i = end;
	}
}
