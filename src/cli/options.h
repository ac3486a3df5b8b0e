/* The command line: VERB [OPTIONS] [OBJECT...] [-- COMMAND [ARG...]]. */
#ifndef CLI_OPTIONS_H
#define CLI_OPTIONS_H

#include "cli/verb.h"

/* Options that every verb has. */
extern const struct option_spec common_options[];

/* All options of the verb, with those that every one has; how many. */
#define OPTIONS_MAX 64
size_t verb_options(
	const struct verb *verb, const struct option_spec *list[OPTIONS_MAX]);

/* How many words it takes where it is one of these, with its value; 0 where it
 * is not. */
int common_option_words(const char *word);

/* Reads what stands behind the verb. Returns 0, or -1 with an error that says
 * what is allowed. *help is set where help was asked for. */
int options_parse(struct invocation *call, int argc, char **argv, bool *help,
	struct th_error *err);
void options_release(struct invocation *call);

#endif
