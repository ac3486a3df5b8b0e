/* What is done to several containers, those of groups in their order. */
#ifndef CLI_GROUP_ACTS_H
#define CLI_GROUP_ACTS_H

#include "cli/verb.h"

/* Stops those of a list of IDs, the last ones of their groups first, and tells
 * of each; the exit code. */
int stop_all(struct invocation *call, const json_t *ids, int grace_ms,
	bool stays_due);
/* Starts those that do not run, each when those before it are as far as it
 * wants them; tells of each; the exit code. */
int start_in_order(struct invocation *call, const json_t *ids);

#endif
