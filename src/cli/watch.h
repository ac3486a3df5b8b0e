/* Tables of a verb: which columns, and again and again. */
#ifndef CLI_WATCH_H
#define CLI_WATCH_H

#include "cli/verb.h"

/* Runs the verb as its options of VERB_TABLE and VERB_WATCH ask; its exit
 * code. */
int run_table(struct invocation *call);

#endif
