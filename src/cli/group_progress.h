/* What is told while a group comes up, and at the end. */
#ifndef CLI_GROUP_PROGRESS_H
#define CLI_GROUP_PROGRESS_H

#include "cli/verb.h"
#include "group/group.h"

struct group_progress {
	struct invocation *call;
	int64_t began_us;
	size_t left; /* that still wait or work */
};

void group_progress_begin(struct group_progress *progress);
/* As th_group_options tells. */
void group_progress_tell(void *owner, const struct th_group *group,
	const struct th_group_item *item);
/* Where one has failed: names those that were not begun, and gives the exit
 * code. */
int group_progress_left(const struct th_group *group);
/* The last lines; the exit code. rc is that of th_group_do. */
int group_progress_end(struct group_progress *progress,
	const struct th_group *group, int rc, bool undone);

#endif
