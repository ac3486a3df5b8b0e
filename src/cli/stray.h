/* Words of a line that are no objects: what they are. */
#ifndef CLI_STRAY_H
#define CLI_STRAY_H

#include "cli/line.h"
#include "cli/verb.h"

/* True for a word of a sentence, between the objects: "to", "and". */
bool is_filler(const char *word);
bool is_number(const char *text);
/* No program has such a name, but an image: "selwick/gauge". */
bool is_image_like(const char *word);
/* A command of every day: "ls". */
bool is_program_word(const char *word);
/* Which option the word looks like a value of: "--port" of "8080:80"; NULL. */
const char *option_of_value(const char *word);

/* "--env STATION north", "--env=STATION north": where the word and the one
 * before it were one value, err's hint is the line with that. */
bool join_value(const char *word, struct line *line, struct th_error *err);
/* "stop web grace 2s": options get their dashes; false where there are none.
 * The line borrows them until the next call. */
bool dash_words(const struct verb *verb, struct line *line);

#endif
