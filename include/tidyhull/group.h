/* Groups: containers that belong together. */
#ifndef TIDYHULL_GROUP_H
#define TIDYHULL_GROUP_H

#include <tidyhull/container.h>

#ifdef __cplusplus
extern "C" {
#endif

/* A group as a file describes it: {"name", "file" (for messages), "networks"
 * and "volumes" as th_settings_load has them, "containers": [{"member",
 * "after", "line", "column", "settings", "build" (a recipe, or null), "built"
 * ({"name", "digest"} of its image, once there is one)}...]}. */

/* What of it is to be done: {"acts": [{"container", "act": "leave", "start",
 * "launch", "recreate" or "remove", "why"}...]}; or problems. */
int th_group_look(
	th_hull *hull, const json_t *group, json_t **doc, th_error *error);

struct th_group_how {
	int ready_ms; /* how long a probe may take */
	int grace_ms; /* of stops; -1: their own */
	bool undo; /* where one fails, all is as it was before */
	bool leave_gone; /* what the file no longer has stays */
	/* Told of each step, one at a time: {"container" (a name), "act",
	 * "why", "step": "done" or "failed", "ready", "now" (the container),
	 * "error": {"code", "message", "hint"}, "last-words", "went-back",
	 * "ran"}. */
	void (*tell)(void *owner, const json_t *step);
	/* Another command changes it just now, and is waited for. */
	void (*waits)(void *owner);
	void *owner;
};
/* Brings it up. {"name", "containers": [...], "undone", "left-out": [names],
 * "up": so many of those that are to run do}; also of a failure, which is told
 * step by step; or problems. */
int th_group_launch(th_hull *hull, const json_t *group,
	const struct th_group_how *how, json_t **doc, th_error *error);
/* Starts containers (a list of names) in the order of their groups; again:
 * whatever ran before has ended by now. As above. */
int th_group_begin(th_hull *hull, const json_t *names,
	const struct th_group_how *how, json_t **doc, th_error *error);

#ifdef __cplusplus
}
#endif

#endif
