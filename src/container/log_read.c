/* Reading back what th_log_write has written. */
#include <string.h>

#include "base/json.h"
#include "base/utf8.h"
#include "container/log.h"

#define NUMBER_DIGITS 18

static bool pass(const char **at, const char *end, const char *word)
{
	size_t len = strlen(word);

	if ((size_t)(end - *at) < len || memcmp(*at, word, len) != 0)
		return false;
	*at += len;
	return true;
}

static bool pass_time(const char **at, const char *end, int64_t *time_us)
{
	const char *digit;

	if (!pass(at, end, "{\"at\":"))
		return false;
	*time_us = 0;
	for (digit = *at; digit < end && *digit >= '0' && *digit <= '9';
		digit++)
		*time_us = *time_us * 10 + (*digit - '0');
	if (digit == *at || digit - *at > NUMBER_DIGITS ||
		(**at == '0' && digit - *at > 1))
		return false;
	*at = digit;
	return true;
}

int64_t th_log_time(const char *line, size_t len)
{
	const char *at = line;
	int64_t time_us;

	if (len > 30)
		len = 30;
	return pass_time(&at, line + len, &time_us) ? time_us : -1;
}

/* Of the escapes those that th_log_write makes. */
static bool pass_escape(const char **at, const char *end, struct th_buf *text)
{
	static const char hex[] = "0123456789abcdef";
	const char *digit = *at + 2;
	unsigned int code = 0;
	char byte;

	if (end - *at < 2)
		return false;
	switch ((*at)[1]) {
	case '"':
	case '\\':
		byte = (*at)[1];
		break;
	case 't':
		byte = '\t';
		break;
	case 'r':
		byte = '\r';
		break;
	case 'u':
		if (end - digit < 4)
			return false;
		for (int i = 0; i < 4; i++) {
			const char *found = memchr(hex, digit[i], 16);

			if (!found)
				return false;
			code = code << 4 | (unsigned int)(found - hex);
		}
		if (code > 0x7f)
			return false;
		byte = (char)code;
		*at += 4;
		break;
	default:
		return false;
	}
	*at += 2;
	th_buf_add(text, &byte, 1);
	return true;
}

/* Up to behind the quote that ends it. Text without escapes stays where it is.
 */
static bool pass_text(const char **at, const char *end, struct th_buf *text,
	struct th_log_entry *entry)
{
	const char *from = *at;
	bool coded = false;

	text->len = 0;
	for (;;) {
		size_t len = th_utf8_plain(*at, (size_t)(end - *at));

		*at += len;
		if (*at == end)
			return false;
		if (**at == '"')
			break;
		if (**at == '\\') {
			th_buf_add(text, from, (size_t)(*at - from));
			coded = true;
			if (!pass_escape(at, end, text))
				return false;
			from = *at;
			continue;
		}
		len = th_utf8_length(
			(const unsigned char *)*at, (size_t)(end - *at));
		if (len == 0 || (unsigned char)**at < 0x20)
			return false;
		*at += len;
	}
	if (coded)
		th_buf_add(text, from, (size_t)(*at - from));
	entry->data = coded ? text->data : from;
	entry->len = coded ? text->len : (size_t)(*at - from);
	++*at;
	return !text->failed;
}

/* The very form that th_log_write gives text; false where it is another. */
static bool read_own(const char *line, size_t len, struct th_buf *text,
	struct th_log_entry *entry)
{
	const char *at = line, *end = line + len;

	if (!pass_time(&at, end, &entry->time_us))
		return false;
	if (pass(&at, end, ",\"out\":\""))
		entry->stream = TH_STREAM_OUT;
	else if (pass(&at, end, ",\"err\":\""))
		entry->stream = TH_STREAM_ERR;
	else
		return false;
	if (!pass_text(&at, end, text, entry))
		return false;
	entry->more = pass(&at, end, ",\"more\":true");
	return pass(&at, end, "}") && at == end;
}

/* Any JSON: what is in base 64, and what others may have put there. */
static int read_any(const char *line, size_t len, struct th_buf *text,
	struct th_log_entry *entry)
{
	static const struct {
		const char *key;
		enum th_stream stream;
		bool coded;
	} kinds[] = {{"out", TH_STREAM_OUT, false},
		{"err", TH_STREAM_ERR, false}, {"out64", TH_STREAM_OUT, true},
		{"err64", TH_STREAM_ERR, true}};
	json_t *doc = json_loadb(line, len, JSON_ALLOW_NUL, NULL);
	const json_t *said = NULL;
	bool done = false;
	size_t i;

	for (i = 0; doc && i < sizeof(kinds) / sizeof(*kinds); i++) {
		said = json_object_get(doc, kinds[i].key);
		if (json_is_string(said))
			break;
		said = NULL;
	}
	if (said) {
		const char *data = json_string_value(said);
		size_t size = json_string_length(said);

		text->len = 0;
		entry->stream = kinds[i].stream;
		entry->time_us = json_integer_value(json_object_get(doc, "at"));
		entry->more = json_is_true(json_object_get(doc, "more"));
		if (kinds[i].coded) {
			done = th_buf_unbase64(text, data, size);
		} else {
			th_buf_add(text, data, size);
			done = !text->failed;
		}
		entry->data = text->data;
		entry->len = text->len;
	}
	json_decref(doc);
	return done ? 0 : -1;
}

int th_log_parse(const char *line, size_t len, struct th_buf *text,
	struct th_log_entry *entry)
{
	memset(entry, 0, sizeof(*entry));
	text->failed = false;
	return read_own(line, len, text, entry)
		? 0
		: read_any(line, len, text, entry);
}
