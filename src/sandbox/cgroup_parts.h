/* What the parts of the control groups share. For the sandbox module only. */
#ifndef TH_SANDBOX_CGROUP_PARTS_H
#define TH_SANDBOX_CGROUP_PARTS_H

#include "sandbox/cgroup.h"
#include "sandbox/hierarchy.h"

#define FOLDER_MAX 1100

/* Where the group at path (see cgroup.h) lies in the hierarchy. */
void group_folder(const struct hierarchy *hierarchy, const char *path,
	char folder[FOLDER_MAX]);
/* Makes the folder and those above it that are missing, and adds them to made;
 * -1 with errno. */
int group_make_folders(const struct hierarchy *hierarchy, const char *path,
	struct th_strings *made);

/* cgroup_old.c: hierarchies of version 1. */

/* The version 1 name of a controller of version 2. */
const char *group_old_name(const char *controller);
/* Gives a new group of the cpuset hierarchy what it is of no use without. */
void group_inherit_cpuset(const char *folder);
/* A group in that hierarchy too, where there is none yet; -1 with errno. */
int group_add_old(const struct hierarchy *hierarchy, const char *path,
	struct th_cgroup *group);
/* One in each that has a controller, to be shown to programs inside. */
void group_add_all_old(struct th_cgroup *group);
/* Device rules by the devices controller; -1 where there is none. */
int group_restrict_old(
	struct th_cgroup *group, const struct th_resources *resources);

#endif
