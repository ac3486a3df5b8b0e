/* A line that is wrong, and the one that was probably meant: what is not
 * understood in it is put right, one place after another. */
#ifndef CLI_RIGHT_LINE_H
#define CLI_RIGHT_LINE_H

#include "base/turned.h"
#include "cli/line.h"
#include "cli/verb.h"

#define TEXTS 16

/* Words that a line has got, as it borrows them. */
struct texts {
	char options[TEXTS][80], values[TEXTS][TH_TURNED_TEXT];
	int used;
	const char *note; /* what an option that is left out was about */
};

/* Puts options and command of a line right that has this verb; false where
 * something in it is not understood. right_line keeps the texts itself, until
 * it is called again. */
bool put_line_right(
	const struct verb *verb, struct line *line, struct texts *texts);
bool right_line(const struct verb *verb, struct line *line);
/* Values that were put in can be wrong themselves: they are put right in turn.
 * False, with why as err's hint, where that is not known. */
bool right_values(const struct verb *verb, struct line *line,
	struct texts *texts, struct th_error *err);
/* A command that stands there without -- gets one. */
void put_command_right(const struct verb *verb, struct line *line);

/* One place of it, for right_line.c: an option that the verb does not have, of
 * this name and with this value (or NULL, where it may stand behind), or
 * letters behind one dash. at goes on behind it; false where nothing is known
 * of it. */
bool put_option_right(const struct verb *verb, struct line *line, int *at,
	struct texts *texts, const char *name, size_t len, const char *value);
bool put_letters_right(const struct verb *verb, struct line *line, int *at,
	struct texts *texts);

#endif
