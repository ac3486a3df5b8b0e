#include "cli/shown.h"

#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "base/utf8.h"

#define KEPT 16
#define TEXT_MAX (64u << 20)

const char *shown(const char *text)
{
	static char *kept[KEPT];
	static size_t next;
	size_t len = text ? strlen(text) : 0;
	struct th_buf out;

	if (!text || th_utf8_harmless(text, len) == len)
		return text ? text : "";
	th_buf_init(&out, TEXT_MAX);
	th_utf8_visible(text, len, &out);
	next = (next + 1) % KEPT;
	free(kept[next]);
	kept[next] = th_buf_take(&out);
	th_buf_release(&out);
	return kept[next] ? kept[next] : "";
}

void say_note(const char *text)
{
	fflush(stdout);
	fprintf(stderr, "note: %s\n", shown(text));
}

char *json_shown(const json_t *doc, size_t flags)
{
	char *text = th_json_text(doc, flags);
	struct th_buf out;

	if (!text)
		return NULL;
	th_buf_init(&out, TEXT_MAX);
	th_utf8_visible_json(text, strlen(text), &out);
	free(text);
	text = th_buf_take(&out);
	th_buf_release(&out);
	return text;
}

/* True where the parameters of such a sequence make text invisible: 8, but not
 * as a part of a colour (38;5;8, 48;2;8;8;8). */
static bool conceals(const char *at, const char *end)
{
	int skip = 0;

	for (const char *next; at < end; at = next + 1) {
		long value = strtol(at, NULL, 10);

		next = at + strcspn(at, ";:m");
		if (skip > 0) {
			/* What follows depends on the kind of colour. */
			skip = skip == 9 ? (value == 5 ? 1 : 3) : skip - 1;
			continue;
		}
		if (value == 8)
			return true;
		if (value == 38 || value == 48 || value == 58)
			skip = 9;
	}
	return false;
}

/* The length of the sequence at the beginning that sets colours and weight
 * (ECMA-48, SGR); 0 where there is none. */
static size_t colour_length(const char *data, size_t len)
{
	size_t i = 2;

	if (len < 3 || data[0] != '\033' || data[1] != '[')
		return 0;
	while (i < len && (strchr("0123456789;:", data[i]) && data[i]))
		i++;
	return i < len && data[i] == 'm' && !conceals(data + 2, data + i)
		? i + 1
		: 0;
}

void print_written(FILE *to, const char *data, size_t len)
{
	bool coloured = false;
	struct th_buf out;

	th_buf_init(&out, TEXT_MAX);
	/* A terminal inside ends its lines with both. */
	if (len && data[len - 1] == '\r')
		len--;
	while (len > 0) {
		size_t run = colour_length(data, len);

		if (run) {
			th_buf_add(&out, data, run);
			coloured = true;
		} else {
			const char *end = len > 1
				? memchr(data + 1, '\033', len - 1)
				: NULL;

			run = end ? (size_t)(end - data) : len;
			th_utf8_visible(data, run, &out);
		}
		data += run;
		len -= run;
	}
	if (coloured)
		th_buf_adds(&out, "\033[0m");
	if (!out.failed)
		fwrite(out.data, 1, out.len, to);
	th_buf_release(&out);
}
