/* What options are called elsewhere: for hints, and nothing else. */
#ifndef CLI_ELSEWHERE_H
#define CLI_ELSEWHERE_H

#include "cli/verb.h"

/* What becomes of the value. */
enum how {
	SAME,
	PORT, /* turned round, where it is written so */
	MOUNT,
	MEMORY, /* a part of the limits */
	SWAP,
	CPU,
	PROCESSES,
	ADD, /* one more capability */
	DROP, /* one less */
	FROM_FILE, /* of variables */
	IN_MEMORY, /* a folder */
	HOST, /* NAME=ADDRESS */
	ADDRESS, /* on a network */
	SECONDS,
	SIGNAL,
	LAST, /* without the option, behind all others */
	FIRST, /* a registry's host, before the name */
	TAG, /* of the name that stands last */
	UNTIL, /* or it is a name, and needs no option */
	NO_VALUE,
	GIVEN, /* it takes no value, but has one here */
	SWALLOW, /* the value goes */
	VERB, /* another verb does it */
	COMMAND, /* the value comes behind -- */
	NOTHING, /* neither option nor value is needed */
	NEITHER /* nor the value that stands there */
};

struct elsewhere {
	const char *words;
	/* The option; a verb's name behind a dot, where only that verb is meant
	 * and the option is left out; NULL: it is left out. */
	const char *option;
	enum how how;
	const char *note; /* said instead of nothing */
	const char *value; /* with GIVEN */
};

/* True where one of words, apart by spaces, is the first len bytes of word; in
 * any case, where that is more than a letter. */
bool have_word(const char *words, const char *word, size_t len);
/* What the first len bytes of name are elsewhere, of what the verb has; NULL.
 */
const struct elsewhere *find_elsewhere(
	const struct verb *verb, const char *name, size_t len);
/* The verb's option that is mistyped so; NULL. */
const struct option_spec *near_option(
	const struct verb *verb, const char *name, size_t len);

#endif
