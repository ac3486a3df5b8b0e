#include "base/json_cut.h"

#include <stdbool.h>
#include <string.h>

struct reader {
	const char *text;
	size_t len, at;
};

static char look(struct reader *reader)
{
	while (reader->at < reader->len &&
		strchr(" \t\r\n", reader->text[reader->at]) &&
		reader->text[reader->at])
		reader->at++;
	return reader->at < reader->len ? reader->text[reader->at] : '\0';
}

/* From its first quote to behind its last. */
static void pass_string(struct reader *reader)
{
	const char *text = reader->text;

	for (reader->at++; reader->at < reader->len; reader->at++) {
		if (text[reader->at] == '\\')
			reader->at++;
		else if (text[reader->at] == '"')
			break;
	}
	reader->at = reader->at < reader->len ? reader->at + 1 : reader->len;
}

static void pass_value(struct reader *reader)
{
	size_t depth = 0;

	look(reader);
	while (reader->at < reader->len) {
		char byte = reader->text[reader->at];

		if (byte == '"') {
			pass_string(reader);
			continue;
		}
		if (depth == 0 && (byte == ',' || byte == '}' || byte == ']'))
			return;
		if (byte == '{' || byte == '[')
			depth++;
		else if (byte == '}' || byte == ']')
			depth--;
		reader->at++;
		if (depth == 0 && (byte == '}' || byte == ']'))
			return;
	}
}

/* To the value of the member, in the object that begins here. */
static bool find(struct reader *reader, const char *key)
{
	size_t len = strlen(key);

	if (look(reader) != '{')
		return false;
	do {
		size_t begin;
		bool is_it;

		reader->at++;
		if (look(reader) != '"')
			return false;
		begin = reader->at + 1;
		pass_string(reader);
		is_it = reader->at - begin == len + 1 &&
			memcmp(reader->text + begin, key, len) == 0;
		if (look(reader) != ':')
			return false;
		reader->at++;
		if (is_it)
			return true;
		pass_value(reader);
	} while (look(reader) == ',');
	return false;
}

size_t th_json_cut(char *text, size_t len, const char *outer, const char *inner)
{
	struct reader reader = {text, len, 0};
	size_t begin, end;

	if (!find(&reader, outer) || !find(&reader, inner))
		return len;
	begin = reader.at;
	pass_value(&reader);
	end = reader.at;
	if (end - begin < 4)
		return len;
	memcpy(text + begin, "null", 4);
	memmove(text + begin + 4, text + end, len - end);
	return len - (end - begin - 4);
}
