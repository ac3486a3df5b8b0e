/* Options that are none, and what was probably meant by them. */
#ifndef CLI_WRONG_OPTION_H
#define CLI_WRONG_OPTION_H

#include "cli/line.h"
#include "cli/verb.h"

/* Says that the verb does not have this option, and the line that was probably
 * meant. Returns -1. */
int wrong_option(
	const struct verb *verb, const char *word, struct th_error *err);
/* The option of the verb by its name, or a beginning that no other has; NULL.
 */
const struct option_spec *option_spec(
	const struct verb *verb, const char *name, size_t len);

#endif
