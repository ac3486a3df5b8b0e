/* What is done to all containers of a group, in their order. */
#ifndef CLI_GROUP_ACTS_H
#define CLI_GROUP_ACTS_H

#include "cli/verb.h"
#include "group/group.h"

/* Stops them, the last ones first, and tells of each; the exit code. */
int stop_rows(
	struct invocation *call, const struct th_group *group, int grace_ms);
/* True where one of them waits for another one. */
bool has_order(const struct th_group *group);
/* Starts those that do not run, each when those before it are as far as it
 * wants them; tells of each; the exit code. */
int start_rows(struct invocation *call, struct th_group *group);

#endif
