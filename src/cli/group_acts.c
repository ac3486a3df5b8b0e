#include "cli/group_acts.h"

#include "cli/doc.h"
#include "cli/group_progress.h"
#include "cli/output.h"

/* As long as a launch waits for a probe. */
#define READY_MS 60000

int start_in_order(struct invocation *call, const json_t *ids)
{
	struct group_progress progress = {.call = call};
	const struct th_group_how how = {.ready_ms = READY_MS,
		.grace_ms = -1,
		.tell = group_progress_tell,
		.owner = &progress};
	struct th_error err = {0};
	json_t *outcome = NULL;
	int code = EXIT_DONE;

	group_progress_begin(&progress);
	if (th_group_begin(call->hull, ids, &how, &outcome, &err))
		code = group_progress_left(&progress, outcome, &err);
	json_decref(outcome);
	return code;
}
