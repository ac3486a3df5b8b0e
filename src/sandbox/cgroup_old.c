/* Control groups of version 1. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "sandbox/cgroup_parts.h"

/* The version 1 name of a controller of version 2. */
const char *group_old_name(const char *controller)
{
	return strcmp(controller, "io") == 0 ? "blkio" : controller;
}

/* A new group of the version 1 cpuset hierarchy is of no use before it has
 * CPUs and memory nodes: those of the group above. */
void group_inherit_cpuset(const char *folder)
{
	static const char *const files[] = {"cpuset.cpus", "cpuset.mems"};
	char above[FOLDER_MAX];
	struct th_error ignored = {0}; /* joining tells */
	struct th_buf text;

	snprintf(above, sizeof(above), "%s", folder);
	*strrchr(above, '/') = '\0';
	for (size_t i = 0; i < 2; i++) {
		char path[FOLDER_MAX + 32];

		snprintf(path, sizeof(path), "%s/%s", above, files[i]);
		th_buf_init(&text, 65536);
		if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1)
			group_write(folder, files[i], text.data);
		th_buf_release(&text);
	}
}

int group_add_old(const struct hierarchy *hierarchy, const char *path,
	struct th_cgroup *group)
{
	char folder[FOLDER_MAX], *copy;

	group_folder(hierarchy, path, folder);
	for (size_t i = 0; i < group->v1_count; i++) {
		if (strcmp(group->v1[i], folder) == 0)
			return 0;
	}
	if (group->v1_count == TH_CGROUP_V1_MAX) {
		errno = ENOSPC;
		return -1;
	}
	for (int tries = 0; group_make_folders(hierarchy, path, &group->made);
		tries++) {
		if (errno != ENOENT || tries == 20)
			return -1;
	}
	copy = strdup(folder);
	if (!copy)
		return -1;
	group->v1[group->v1_count++] = copy;
	return 0;
}

/* A hierarchy without one only names groups. */
static bool has_controller(const struct hierarchy *hierarchy)
{
	static const char *const names[] = {"cpu", "cpuacct", "cpuset",
		"memory", "devices", "freezer", "blkio", "pids", "net_cls",
		"net_prio", "perf_event", "hugetlb", "rdma", "misc"};
	char wanted[32];

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++) {
		snprintf(wanted, sizeof(wanted), ",%s,", names[i]);
		if (strstr(hierarchy->controllers, wanted))
			return true;
	}
	return false;
}

void group_add_all_old(struct th_cgroup *group)
{
	const struct hierarchy *list;
	size_t count = hierarchies(&list);

	/* One that cannot be had is not shown. */
	for (size_t i = 0; i < count; i++) {
		if (!list[i].v2 && list[i].writable && has_controller(&list[i]))
			group_add_old(&list[i], group->path, group);
	}
	group->shown = true;
}

static bool is_member(const struct th_cgroup *group, const char *folder)
{
	for (size_t i = 0; i < group->v1_count; i++) {
		if (strcmp(group->v1[i], folder) == 0)
			return true;
	}
	return false;
}

size_t th_cgroup_views(const struct th_cgroup *group,
	struct th_cgroup_view views[TH_CGROUP_V1_MAX + 1])
{
	const struct hierarchy *list;
	size_t count = hierarchies(&list), used = 0;
	char folder[FOLDER_MAX];

	for (size_t i = 0; i < count && used <= TH_CGROUP_V1_MAX; i++) {
		struct th_cgroup_view *view = &views[used];
		const char *name = strrchr(list[i].mount, '/');

		group_folder(&list[i], group->path, folder);
		if (list[i].v2 ? group->fd < 0 : !is_member(group, folder))
			continue;
		snprintf(view->name, sizeof(view->name), "%s",
			list[i].v2 ? "unified" : name + 1);
		snprintf(view->folder, sizeof(view->folder), "%s", folder);
		used++;
	}
	return used;
}

static void old_rule(const struct th_device_rule *rule, char text[64])
{
	char major_text[16] = "*", minor_text[16] = "*";

	if (rule->major_id >= 0)
		snprintf(major_text, 16, "%d", (int)rule->major_id);
	if (rule->minor_id >= 0)
		snprintf(minor_text, 16, "%d", (int)rule->minor_id);
	snprintf(text, 64, "%c %s:%s %s%s%s", rule->type, major_text,
		minor_text, rule->read ? "r" : "", rule->write ? "w" : "",
		rule->make ? "m" : "");
}

int group_restrict_old(
	struct th_cgroup *group, const struct th_resources *resources)
{
	const struct hierarchy *v1 = hierarchy_v1("devices");
	char folder[FOLDER_MAX], text[64];

	if (!v1 || !v1->writable || group_add_old(v1, group->path, group))
		return -1;
	group_folder(v1, group->path, folder);
	for (size_t i = 0; i < resources->device_count; i++) {
		const struct th_device_rule *rule = &resources->devices[i];

		old_rule(rule, text);
		if (group_write(folder,
			    rule->allow ? "devices.allow" : "devices.deny",
			    rule->type == 'a' && rule->major_id < 0 ? "a"
								    : text))
			return -1;
	}
	return 0;
}

int th_cgroup_attach_old(
	const struct th_cgroup *group, pid_t pid, struct th_error *err)
{
	char text[24];

	snprintf(text, sizeof(text), "%d", (int)pid);
	for (size_t i = 0; i < group->v1_count; i++) {
		if (group_write(group->v1[i], "cgroup.procs", text))
			return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot move the process into %s",
				group->v1[i]);
	}
	return 0;
}

int th_cgroup_enter_old(const struct th_cgroup *group, struct th_error *err)
{
	for (size_t i = 0; i < group->v1_count; i++) {
		/* "tasks" and 0: cgroup.procs takes the lock in any case. */
		if (group_write(group->v1[i], "tasks", "0"))
			return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot move the process into %s",
				group->v1[i]);
	}
	return 0;
}
