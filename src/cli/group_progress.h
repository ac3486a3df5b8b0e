/* What is told while a group comes up, and at the end. */
#ifndef CLI_GROUP_PROGRESS_H
#define CLI_GROUP_PROGRESS_H

#include "cli/verb.h"

struct group_progress {
	struct invocation *call;
	int64_t began_us;
	bool failed; /* of a container, which was told */
};

void group_progress_begin(struct group_progress *progress);
/* As struct th_group_how has it. */
void group_progress_tell(void *owner, const json_t *step);
/* Where it has failed: names those that were not begun, and gives the exit
 * code. */
int group_progress_left(const struct group_progress *progress,
	const json_t *outcome, const struct th_error *err);
/* The last lines; the exit code. rc and outcome are those of th_group_launch.
 */
int group_progress_end(const struct group_progress *progress, json_t *outcome,
	int rc, const struct th_error *err);

#endif
