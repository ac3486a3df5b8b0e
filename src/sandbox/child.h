/* The container's process from its birth to its program. For the sandbox
 * module only. */
#ifndef TH_SANDBOX_CHILD_H
#define TH_SANDBOX_CHILD_H

#include "sandbox/sandbox.h"

/* What the parent has made ready before the clone. */
struct child {
	const struct th_sandbox_options *options;
	int channel;
	int *mount_fds; /* NULL: the child opens the sources */
	int root_fd; /* a detached mount of the root, or -1 */
	int status; /* for the reaper, or -1 */
	bool enters; /* groups of version 1, before it is born if it waits */
	bool waits; /* for the parent to map and attach it */
};

/* Runs in the new process; never returns. */
void child_run(struct child *child) __attribute__((noreturn));

/* For sessions too: signals as a program expects them, and the streams at 0,
 * 1 and 2. */
int child_place_streams(const int stdio[3], struct th_error *err);

#endif
