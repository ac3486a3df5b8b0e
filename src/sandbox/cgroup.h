/* A control group per container, in the version 2 hierarchy: it holds all its
 * processes, so that none can escape when the container ends. */
#ifndef TH_SANDBOX_CGROUP_H
#define TH_SANDBOX_CGROUP_H

#include <stdbool.h>

#include "base/error.h"

/* Where the version 2 hierarchy is mounted; NULL on hosts without one. */
const char *th_cgroup_mount(void);

/* Makes GROUP/NAME and opens it. *fd is -1 where the host has no version 2
 * hierarchy: the PID namespace alone holds the processes then. */
int th_cgroup_make(
	const char *group, const char *name, int *fd, struct th_error *err);
/* Kills whatever is still in it and removes it, with GROUP when that is
 * empty. True when nothing of it is left. */
bool th_cgroup_remove(const char *group, const char *name);

#endif
