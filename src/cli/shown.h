/* Text that is not ours (of images, registries, programs and files), as people
 * see it: nothing in it may steer the terminal or look like something else. */
#ifndef CLI_SHOWN_H
#define CLI_SHOWN_H

#include <jansson.h>
#include <stdio.h>

/* The text with control characters and direction marks made visible. It is
 * valid until the function was called sixteen more times. NULL gives "". */
const char *shown(const char *text);

/* Prints "note: TEXT" on stderr. */
void say_note(const char *text);

/* The document as text for a terminal, to be freed with free; flags are
 * jansson's. NULL without memory. Frees nothing. */
char *json_shown(const json_t *doc, size_t flags);

/* What a program wrote: its colours pass and end with the text, the rest is
 * shown as above. */
void print_written(FILE *to, const char *data, size_t len);

#endif
