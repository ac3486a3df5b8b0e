#include "cli/group_acts.h"

#include "cli/group_progress.h"
#include "cli/output.h"

/* As long as a launch waits for a probe. */
#define READY_MS 60000

bool has_order(const struct th_group *group)
{
	for (size_t i = 0; i < group->count; i++) {
		if (group->items[i].after_count)
			return true;
	}
	return false;
}

int start_rows(struct invocation *call, struct th_group *group)
{
	struct group_progress progress = {.call = call};
	const struct th_group_options options = {.ready_ms = READY_MS,
		.grace_ms = -1,
		.tell = group_progress_tell,
		.owner = &progress};
	bool undone;
	int rc;

	group_progress_begin(&progress);
	rc = th_group_do(&call->hull.context, group, &options, &undone);
	return rc ? group_progress_left(group) : EXIT_DONE;
}
