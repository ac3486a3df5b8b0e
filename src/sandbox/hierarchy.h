/* The control-group hierarchies of this host. For the sandbox module only. */
#ifndef TH_SANDBOX_HIERARCHY_H
#define TH_SANDBOX_HIERARCHY_H

#include <stdbool.h>
#include <stddef.h>

/* Its texts stay as long as the process. */
struct hierarchy {
	const char *mount;
	const char *controllers; /* ",cpu,cpuacct," of a version 1 one */
	bool v2;
	/* The part below the mount point that is this user's: "" for all. */
	const char *base;
	bool writable;
	const char *own; /* where this process is; "" for the top */
};

/* All that are mounted, the version 2 one first; read once. */
size_t hierarchies(const struct hierarchy **list);
/* The version 2 one, or NULL. */
const struct hierarchy *hierarchy_v2(void);
/* Where a batch engine has put this process: the path below the mount points,
 * "" where none has. What is made by it lies below that, or stays in it: so the
 * job's limits hold, its accounting counts it, and its end ends it. */
const char *hierarchy_job(void);
/* True where that is not "". */
bool hierarchy_in_job(void);
/* True for such a path, also with something behind it. */
bool hierarchy_is_job(const char *path);
/* The version 1 one with the controller, or NULL. */
const struct hierarchy *hierarchy_v1(const char *controller);

/* Where processes go that stood in the way of controllers, below the part that
 * is this user's. */
#define GROUP_ASIDE "tidyhull-outside"

/* Writes text to FOLDER/NAME; -1 with errno. */
int group_write(const char *folder, const char *name, const char *text);
/* The number behind key in FOLDER/NAME ("" for the first one there is);
 * missing where there is none. */
long long group_number(const char *folder, const char *name, const char *key,
	long long missing);

#endif
