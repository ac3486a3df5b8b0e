#include "cli/line.h"

#include <string.h>

#include "base/buffer.h"

static struct line typed;

void line_keep(int argc, char **argv)
{
	typed.count = argc < LINE_WORDS - 8 ? argc : LINE_WORDS - 8;
	for (int i = 0; i < typed.count; i++)
		typed.words[i] = argv[i];
}

void line_get(struct line *line)
{
	*line = typed;
}

int line_find(const struct line *line, const char *word)
{
	for (int i = 2; i < line->count; i++) {
		if (strcmp(line->words[i], "--") == 0)
			return -1;
		if (strcmp(line->words[i], word) == 0)
			return i;
	}
	return -1;
}

void line_put(struct line *line, int at, int count, const char *first,
	const char *second)
{
	int added = (first != NULL) + (second != NULL);

	if (at < 0 || at + count > line->count ||
		line->count - count + added > LINE_WORDS)
		return;
	memmove(line->words + at + added, line->words + at + count,
		(size_t)(line->count - at - count) * sizeof(*line->words));
	line->count += added - count;
	if (first)
		line->words[at] = first;
	if (second)
		line->words[at + 1] = second;
}

/* Quoted where a shell would take it apart. */
static void add_word(const char *word, struct th_buf *text)
{
	static const char plain[] = "abcdefghijklmnopqrstuvwxyz"
				    "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
				    "0123456789_@%+=:,./-";

	if (*word && strspn(word, plain) == strlen(word)) {
		th_buf_adds(text, word);
		return;
	}
	th_buf_adds(text, "'");
	for (; *word; word++) {
		if (*word == '\'')
			th_buf_adds(text, "'\\''");
		else
			th_buf_add(text, word, 1);
	}
	th_buf_adds(text, "'");
}

int line_hint(struct th_error *err, const char *before, const struct line *line)
{
	struct th_buf text;

	th_buf_init(&text, sizeof(err->hint) - strlen(before) - 1);
	th_buf_adds(&text, "tidyhull");
	for (int i = 1; i < line->count; i++) {
		th_buf_adds(&text, " ");
		add_word(line->words[i], &text);
	}
	/* Rather none than a part of one. */
	if (!text.failed)
		th_hint(err, "%s%s", before, text.data);
	th_buf_release(&text);
	return -1;
}
