/* Control groups: where a container's processes are held together, limited,
 * frozen and counted. Version 2 is the normal case; a hierarchy of version 1
 * is used for a limit whose controller is there and nowhere else. */
#ifndef TH_SANDBOX_CGROUP_H
#define TH_SANDBOX_CGROUP_H

#include <stdbool.h>
#include <sys/types.h>

#include "base/error.h"
#include "oci/resources.h"

/* Where the version 2 hierarchy is mounted; NULL on hosts without one. */
const char *th_cgroup_mount(void);

#define TH_CGROUP_PATH 512
#define TH_CGROUP_V1_MAX 16

/* True where a batch engine has put this process into a group of a job: nothing
 * may leave it. */
bool th_cgroup_in_job(void);
/* True where this user may make groups in the version 2 hierarchy. */
bool th_cgroup_may_make(void);
/* The path that names a group for everybody, whichever part of the hierarchy
 * is theirs: "//" and where it is below the mount point. The functions below
 * take both. */
void th_cgroup_place(const char *path, char place[512]);

/* A group that is open. Init with TH_CGROUP_NONE. */
struct th_cgroup {
	int fd; /* in the version 2 hierarchy, or -1 */
	char path[TH_CGROUP_PATH]; /* as below; "" where there is none */
	/* Groups in hierarchies of version 1: their whole paths. */
	char *v1[TH_CGROUP_V1_MAX];
	size_t v1_count;
	bool shown; /* programs inside see all of them (th_cgroup_views) */
	/* The folders that were not there before, each after the one above it:
	 * only they may be removed, and only what is in them killed. */
	struct th_strings made;
};
#define TH_CGROUP_NONE                                                         \
	{                                                                      \
		.fd = -1                                                       \
	}

/* Makes the group at path, which is taken below the mount points, or below
 * the part of them that belongs to this user: "/tidyhull-ab12cd/ID". Limits
 * that this host cannot keep are errors that name them (TH_NOT_POSSIBLE).
 * need_devices: the device rules must be enforced. */
int th_cgroup_make(const char *path, const struct th_resources *resources,
	bool need_devices, struct th_cgroup *group, struct th_error *err);
/* The folders that it would make, if all hierarchies were needed. */
void th_cgroup_missing(const char *path, struct th_strings *missing);
/* The group that is there already, to be looked at; the same structure. */
void th_cgroup_open(const char *path, struct th_cgroup *group);
/* Other limits for a group that exists. */
int th_cgroup_limit(struct th_cgroup *group,
	const struct th_resources *resources, struct th_error *err);
/* Puts the process into the version 2 group, or those of version 1. */
int th_cgroup_attach(
	const struct th_cgroup *group, pid_t pid, struct th_error *err);
int th_cgroup_attach_old(
	const struct th_cgroup *group, pid_t pid, struct th_error *err);
/* The calling process, of one thread, goes into the groups of version 1. Only
 * this way costs nothing: who moves another one waits for the kernel's readers
 * of all thread groups, about 10 ms. */
int th_cgroup_enter_old(const struct th_cgroup *group, struct th_error *err);
void th_cgroup_close(struct th_cgroup *group);

/* A hierarchy as programs inside are to see it: the name of its folder, and the
 * container's own group, which is all that is in it. */
struct th_cgroup_view {
	char name[256];
	char folder[1100];
};
size_t th_cgroup_views(const struct th_cgroup *group,
	struct th_cgroup_view views[TH_CGROUP_V1_MAX + 1]);

/* Kills whatever is still in it and removes it everywhere, with so many of the
 * levels above it as are empty: at most levels in all. True when nothing of it
 * is left. */
bool th_cgroup_remove(const char *path, int levels);
/* One step of that, without waiting: 1 nothing is left, 0 its processes take
 * another moment to go, -1 it cannot be removed. */
int th_cgroup_remove_step(const char *path, int levels);
/* The same for exactly these folders (th_cgroup.made): what was there before
 * stays, with all that runs in it. */
bool th_cgroup_remove_made(const struct th_strings *made);
/* Looks for a hierarchy in which more than so many groups lie below this one,
 * and gives their names; none where there is no such. most: how many there are
 * in the one that has most. 1, 0 where the group itself is nowhere, -1 without
 * memory. */
int th_cgroup_children(const char *path, size_t expected,
	struct th_strings *names, size_t *most);
/* Of a container of ours: the group and the store's. */
#define TH_CGROUP_LEVELS 2

/* How often the kernel has killed a process of the group for its memory. */
int64_t th_cgroup_memory_kills(const struct th_cgroup *group);
/* How often a new process was refused because of the group's limit. */
int64_t th_cgroup_processes_refused(const struct th_cgroup *group);
/* Asks for all its processes to be frozen, or thawed. Each freezes when it next
 * leaves the kernel, so the group is frozen a moment later. */
int th_cgroup_freeze(
	const struct th_cgroup *group, bool freeze, struct th_error *err);
bool th_cgroup_is_frozen(const struct th_cgroup *group);
/* True where this host can freeze groups. */
bool th_cgroup_can_freeze(const struct th_cgroup *group);

/* What the group has used, where it is counted; TH_UNSET elsewhere. */
struct th_usage {
	int64_t cpu_us, memory_bytes, memory_limit, processes, processes_limit;
	int64_t read_bytes, written_bytes;
};
void th_cgroup_usage(const struct th_cgroup *group, struct th_usage *usage);

/* The IDs of its processes, to be freed. 1, 0 where there is no such group,
 * -1. */
int th_cgroup_processes(const struct th_cgroup *group, pid_t **pids,
	size_t *count, struct th_error *err);

#endif
