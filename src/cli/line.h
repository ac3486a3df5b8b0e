/* The command as it was typed, and the line that was probably meant. */
#ifndef CLI_LINE_H
#define CLI_LINE_H

#include "base/error.h"

#define LINE_WORDS 512

/* Words of a command, the program's name first; borrowed. */
struct line {
	const char *words[LINE_WORDS];
	int count;
};

/* Keeps the words, as parsing moves them about. */
void line_keep(int argc, char **argv);
/* A copy, to be changed. */
void line_get(struct line *line);
/* Where the word stands behind the verb and before any --; -1. */
int line_find(const struct line *line, const char *word);
/* Replaces count words by one or two others (NULL: none). */
void line_put(struct line *line, int at, int count, const char *first,
	const char *second);
/* The line as a shell takes it, behind the text before it, as the error's hint;
 * none where that is too long. Returns -1. */
int line_hint(
	struct th_error *err, const char *before, const struct line *line);

#endif
