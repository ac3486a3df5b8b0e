#include "sandbox/cgroup.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <time.h>
#include <unistd.h>

#include "base/file.h"
#include "sandbox/cgroup_parts.h"
#include "sandbox/device_filter.h"
#include "sandbox/hierarchy.h"
#include "sandbox/idmap.h"
#include "sandbox/limits.h"

/* How long the last processes get to leave after the kill. */
#define LEAVE_TRIES 400
#define LEAVE_STEP_NS 5000000
/* An attribute of folders of a job's place that were made here. */
#define MADE_HERE "trusted.tidyhull-made"

const char *th_cgroup_mount(void)
{
	const struct hierarchy *v2 = hierarchy_v2();

	return v2 ? v2->mount : NULL;
}

bool th_cgroup_in_job(void)
{
	return hierarchy_in_job();
}

bool th_cgroup_may_make(void)
{
	const struct hierarchy *v2 = hierarchy_v2();

	return v2 && v2->writable;
}

void th_cgroup_place(const char *path, char place[512])
{
	const struct hierarchy *v2 = hierarchy_v2();
	const char *base = *hierarchy_job() ? hierarchy_job()
		: v2			    ? v2->base
					    : "";

	if (*base && strncmp(path, "//", 2) != 0)
		snprintf(place, 512, "/%s%s%s", base, *path == '/' ? "" : "/",
			path);
	else
		snprintf(place, 512, "%s", path);
}

void group_folder(const struct hierarchy *hierarchy, const char *path,
	char folder[FOLDER_MAX])
{
	if (strncmp(path, "//", 2) == 0) {
		snprintf(
			folder, FOLDER_MAX, "%s%s", hierarchy->mount, path + 1);
		return;
	}
	snprintf(folder, FOLDER_MAX, "%s%s%s%s", hierarchy->mount,
		hierarchy->base, *path == '/' ? "" : "/", path);
}

/* ---- making ---- */

/* Makes the folder and those above it that are missing. */
int group_make_folders(const struct hierarchy *hierarchy, const char *path,
	struct th_strings *made)
{
	bool cpuset = strstr(hierarchy->controllers, ",cpuset,"), of_job;
	char folder[FOLDER_MAX];
	size_t top = strlen(hierarchy->mount) + strlen(hierarchy->base);

	group_folder(hierarchy, "", folder);
	/* A job's place in a hierarchy that its engine leaves alone. */
	if (access(folder, F_OK))
		top = strlen(hierarchy->mount);
	group_folder(hierarchy, path, folder);
	of_job = hierarchy_is_job(folder);
	for (char *at = folder + top + 1;; at++) {
		char held = *at;

		if (held != '/' && held)
			continue;
		*at = '\0';
		if (mkdir(folder, 0755) == 0) {
			/* Without memory it is left behind, no more. */
			th_strings_add(made, folder);
			if (of_job)
				setxattr(folder, MADE_HERE, "1", 1, 0);
			if (cpuset && !hierarchy->v2)
				group_inherit_cpuset(folder);
		} else if (errno != EEXIST) {
			return -1;
		}
		*at = held;
		if (!held)
			return 0;
	}
}

static int open_v2(const struct hierarchy *v2, const char *path,
	struct th_cgroup *group, struct th_error *err)
{
	char folder[FOLDER_MAX];

	group_folder(v2, path, folder);
	/* EEXIST is as good as made; only those made here may be removed. */
	/* Another container's end may remove the group above in between. */
	for (int tries = 0; tries < 20; tries++) {
		if (group_make_folders(v2, path, &group->made) == 0) {
			group->fd = open(
				folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
			if (group->fd >= 0)
				return 0;
		}
		if (errno != ENOENT)
			break;
	}
	return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
		"cannot create the control group %s", folder);
}

/* ---- controllers of version 2 ---- */

static bool has_controller(const char *folder, const char *name)
{
	struct th_error ignored = {0}; /* then it has not */
	char path[FOLDER_MAX + 32];
	struct th_buf text;
	bool found = false;

	snprintf(path, sizeof(path), "%s/cgroup.controllers", folder);
	th_buf_init(&text, 4096);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		char *rest = NULL;

		for (char *word = strtok_r(text.data, " \n", &rest);
			word && !found; word = strtok_r(NULL, " \n", &rest))
			found = strcmp(word, name) == 0;
	}
	th_buf_release(&text);
	return found;
}

/* In a part that was given to this user, the processes that sit at its top
 * stand in the way of controllers below (cgroup-v2.rst, "No Internal Process
 * Constraint"): they move one step aside. With the controllers that can count
 * threads the kernel does not refuse, but takes the top for the root of a group
 * of threads, and those below can have no processes ("domain invalid"). */
static void step_aside(const char *base)
{
	struct th_error ignored = {0}; /* its limit tells */
	char path[FOLDER_MAX + 32], aside[FOLDER_MAX + 32];
	struct th_buf text;

	snprintf(path, sizeof(path), "%s/cgroup.procs", base);
	snprintf(aside, sizeof(aside), "%s/" GROUP_ASIDE, base);
	th_buf_init(&text, 1 << 20);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1 && text.len &&
		(mkdir(aside, 0755) == 0 || errno == EEXIST)) {
		char *rest = NULL;

		for (char *pid = strtok_r(text.data, "\n", &rest); pid;
			pid = strtok_r(NULL, "\n", &rest))
			group_write(aside, "cgroup.procs", pid);
	}
	th_buf_release(&text);
}

/* Somebody may have come to the top since the controllers were enabled. */
static void make_room_at_top(const char *path)
{
	const struct hierarchy *v2 = hierarchy_v2();
	struct th_error ignored = {0}; /* its limit tells */
	char folder[FOLDER_MAX], file[FOLDER_MAX + 32];
	struct th_buf type;

	if (!v2 || !v2->base[0])
		return;
	group_folder(v2, path, folder);
	snprintf(file, sizeof(file), "%s/cgroup.type", folder);
	th_buf_init(&type, 64);
	if (th_file_read(AT_FDCWD, file, &type, &ignored) == 1 &&
		strncmp(type.data, "domain invalid", 14) == 0) {
		group_folder(v2, "", folder);
		step_aside(folder);
	}
	th_buf_release(&type);
}

static int enable(const struct hierarchy *v2, const char *path,
	const char *controller, struct th_error *err)
{
	size_t top = strlen(v2->mount) + strlen(v2->base);
	char folder[FOLDER_MAX], text[64];

	group_folder(v2, path, folder);
	if (has_controller(folder, controller))
		return 0;
	/* Its processes would have to leave the job's group for one below,
	 * where the engine does not look for them, and no other could come to
	 * it
	 * ("No Internal Process Constraint"). */
	if (*hierarchy_job()) {
		th_fail(err, TH_NOT_POSSIBLE,
			"cannot limit the %s of one container in a job's "
			"control group of version 2",
			controller);
		return th_hint(err,
			"the job's own limits hold: ask the engine "
			"for them");
	}
	snprintf(text, sizeof(text), "+%s", controller);
	/* From the top down: a group can pass on only the controllers that it
	 * was given itself (cgroup-v2.rst, "Top-down Constraint"). */
	for (char *at = folder + top; *at; at++) {
		int rc;

		if (*at != '/')
			continue;
		*at = '\0';
		/* The memory controller cannot count threads: where it is
		 * enabled, the kernel lets nobody come back to the top. */
		if (v2->base[0] && at == folder + top) {
			step_aside(folder);
			group_write(
				folder, "cgroup.subtree_control", "+memory");
		}
		rc = group_write(folder, "cgroup.subtree_control", text);
		if (rc)
			return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot enable the %s controller for the "
				"groups below the control group",
				controller);
		*at = '/';
	}
	return 0;
}

/* ---- limits ---- */

static int refuse(const struct limit *limit, struct th_error *err)
{
	if (!th_idmap_is_own())
		return th_fail(err, TH_NOT_POSSIBLE,
			*hierarchy_job() ? "cannot set %s: the job's control "
					   "group has no %s controller"
					 : "cannot set %s: this host offers no "
					   "%s controller",
			limit->what, limit->controller);
	th_fail(err, TH_NOT_POSSIBLE,
		"cannot set %s: this user has no control group with the %s "
		"controller",
		limit->what, limit->controller);
	return th_hint(err,
		"use systemd-run --user --scope -p Delegate=yes tidyhull ...; "
		"see also tidyhull doctor");
}

static int write_limit(const struct limit *limit, const char *folder,
	const char *file, const char *other, const char *value,
	struct th_error *err)
{
	if (group_write(folder, file, value) == 0 ||
		(*other && errno == ENOENT &&
			group_write(folder, other, value) == 0))
		return 0;
	return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
		"cannot set %s: writing \"%.60s\" to %s failed", limit->what,
		value, file);
}

static int apply(struct th_cgroup *group, const struct limit *limit,
	struct th_error *err)
{
	const struct hierarchy *v2 = hierarchy_v2(), *v1;
	char folder[FOLDER_MAX];

	if (v2 && group->fd >= 0 && (limit->file2[0] || limit->elsewhere2)) {
		char top[FOLDER_MAX];

		group_folder(v2, "", top);
		top[strlen(top) - 1] = '\0';
		if (has_controller(top, limit->controller)) {
			if (limit->elsewhere2)
				return 0;
			group_folder(v2, group->path, folder);
			return enable(v2, group->path, limit->controller,
				       err) ||
					write_limit(limit, folder, limit->file2,
						limit->other2, limit->value2,
						err)
				? -1
				: 0;
		}
	}
	v1 = hierarchy_v1(group_old_name(limit->controller));
	if (!v1 || !v1->writable || !limit->file1[0])
		/* Nothing limits it there. */
		return strcmp(limit->value2, "max") == 0 ? 0
							 : refuse(limit, err);
	if (group_add_old(v1, group->path, group))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot create a control group for %s", limit->what);
	group_folder(v1, group->path, folder);
	return write_limit(
		limit, folder, limit->file1, limit->other1, limit->value1, err);
}

static int apply_unified(struct th_cgroup *group,
	const struct th_resources *resources, struct th_error *err)
{
	const struct hierarchy *v2 = hierarchy_v2();
	char folder[FOLDER_MAX];

	for (size_t i = 0; i < resources->unified.count; i++) {
		const char *entry = resources->unified.items[i];
		size_t len = strcspn(entry, "=");
		char name[128], controller[64];
		struct th_error ignored = {0}; /* its limit tells */

		snprintf(name, sizeof(name), "%.*s", (int)len, entry);
		snprintf(controller, sizeof(controller), "%.*s",
			(int)strcspn(name, "."), name);
		if (!v2 || group->fd < 0)
			return th_fail(err, TH_NOT_POSSIBLE,
				"cannot set \"%s\": this host has no version 2 "
				"control groups",
				name);
		group_folder(v2, group->path, folder);
		if (strcmp(controller, "cgroup") != 0)
			enable(v2, group->path, controller, &ignored);
		if (group_write(folder, name, entry + len + 1))
			return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot set the control group's \"%s\" to "
				"\"%.60s\"",
				name, entry + len + 1);
	}
	return 0;
}

/* Memory and both together depend on one another: what is lowered first must
 * be the smaller one, what is raised first the larger one. */
static int apply_again(struct th_cgroup *group, const struct limits *limits,
	struct th_error *err)
{
	struct th_error first = {0};
	int rc = 0;

	for (size_t i = 0; i < limits->count; i++)
		rc |= apply(group, &limits->items[i], &first);
	if (rc == 0)
		return 0;
	for (size_t i = 0; i < limits->count; i++) {
		if (apply(group, &limits->items[i], err))
			return -1;
	}
	return 0;
}

int th_cgroup_limit(struct th_cgroup *group,
	const struct th_resources *resources, struct th_error *err)
{
	struct limits limits;
	int rc;

	if (!group->path[0] && !th_resources_empty(resources)) {
		th_fail(err, TH_NOT_POSSIBLE,
			"cannot set limits: this user has no control group");
		return th_hint(
			err, "tidyhull doctor tells what gives this user one");
	}
	limits_read(resources, &limits);
	rc = limits.failed ? th_fail_memory(err)
			   : apply_again(group, &limits, err);
	limits_release(&limits);
	return rc ? -1 : apply_unified(group, resources, err);
}

/* ---- devices ---- */

static int restrict_devices(struct th_cgroup *group,
	const struct th_resources *resources, bool needed, struct th_error *err)
{
	if (!resources->device_count)
		return 0;
	if ((group->fd >= 0 &&
		    device_filter_attach(group->fd, resources->devices,
			    resources->device_count) == 0) ||
		(group->path[0] && group_restrict_old(group, resources) == 0))
		return 0;
	if (!needed)
		return 0;
	return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
		"cannot restrict the container's devices: this host offers "
		"neither device programs (control groups version 2) nor the "
		"devices controller (version 1)");
}

/* ---- the whole ---- */

/* What holds the processes together without version 2: the freezer, if a batch
 * engine has not kept that to itself, or whatever can be had. */
static const struct hierarchy *holding_v1(void)
{
	static const char *const names[] = {
		"freezer", "pids", "memory", "devices", "cpu"};

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++) {
		const struct hierarchy *one = hierarchy_v1(names[i]);

		if (one && one->writable)
			return one;
	}
	return NULL;
}

static int make_groups(
	const char *path, struct th_cgroup *group, struct th_error *err)
{
	const struct hierarchy *v2 = hierarchy_v2(), *v1;

	if (v2 && v2->writable) {
		snprintf(group->path, sizeof(group->path), "%s", path);
		return open_v2(v2, path, group, err);
	}
	v1 = holding_v1();
	if (v1) {
		snprintf(group->path, sizeof(group->path), "%s", path);
		if (group_add_old(v1, path, group))
			return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot create the control group %s", path);
	}
	return 0;
}

int th_cgroup_make(const char *path, const struct th_resources *resources,
	bool need_devices, struct th_cgroup *group, struct th_error *err)
{
	memset(group, 0, sizeof(*group));
	group->fd = -1;
	if (make_groups(path, group, err) ||
		th_cgroup_limit(group, resources, err) ||
		restrict_devices(group, resources, need_devices, err)) {
		struct th_strings made = group->made;

		/* Taken over, so that closing leaves it. */
		memset(&group->made, 0, sizeof(group->made));
		th_cgroup_close(group);
		th_cgroup_remove_made(&made);
		th_strings_release(&made);
		return -1;
	}
	/* Where limits are kept by version 1, programs look for them there: in
	 * its memory, and nowhere unless all others are there, too. */
	if (group->v1_count && !th_resources_empty(resources))
		group_add_all_old(group);
	make_room_at_top(path);
	return 0;
}

void th_cgroup_missing(const char *path, struct th_strings *missing)
{
	const struct hierarchy *list;
	size_t count = hierarchies(&list);
	char folder[FOLDER_MAX];

	for (size_t i = 0; i < count; i++) {
		size_t top = strlen(list[i].mount);

		if (!list[i].writable)
			continue;
		group_folder(&list[i], path, folder);
		for (char *at = folder + top + 1;; at++) {
			char held = *at;

			if (held != '/' && held)
				continue;
			*at = '\0';
			/* Without memory it is left behind, no more. */
			if (access(folder, F_OK))
				th_strings_add(missing, folder);
			*at = held;
			if (!held)
				break;
		}
	}
}

void th_cgroup_open(const char *path, struct th_cgroup *group)
{
	const struct hierarchy *list;
	size_t count = hierarchies(&list);
	char folder[FOLDER_MAX];

	memset(group, 0, sizeof(*group));
	group->fd = -1;
	snprintf(group->path, sizeof(group->path), "%s", path);
	for (size_t i = 0; i < count; i++) {
		group_folder(&list[i], path, folder);
		if (list[i].v2)
			group->fd = open(
				folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
		else if (access(folder, F_OK) == 0 &&
			group->v1_count < TH_CGROUP_V1_MAX)
			group->v1[group->v1_count++] = strdup(folder);
	}
	while (group->v1_count && !group->v1[group->v1_count - 1])
		group->v1_count--;
}

int th_cgroup_attach(
	const struct th_cgroup *group, pid_t pid, struct th_error *err)
{
	char text[24], folder[FOLDER_MAX];

	if (group->fd < 0)
		return 0;
	snprintf(text, sizeof(text), "%d", (int)pid);
	group_folder(hierarchy_v2(), group->path, folder);
	if (group_write(folder, "cgroup.procs", text))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot move the process into %s", folder);
	return 0;
}

void th_cgroup_close(struct th_cgroup *group)
{
	th_close(&group->fd);
	for (size_t i = 0; i < group->v1_count; i++)
		free(group->v1[i]);
	group->v1_count = 0;
	group->path[0] = '\0';
	th_strings_release(&group->made);
}

static void kill_all(bool v2, const char *folder)
{
	struct th_error ignored = {0}; /* tried again */
	char path[FOLDER_MAX + 32];
	struct th_buf text;

	if (v2 && group_write(folder, "cgroup.kill", "1") == 0)
		return;
	/* A frozen process is killed when it is thawed. */
	group_write(folder, "freezer.state", "THAWED");
	snprintf(path, sizeof(path), "%s/cgroup.procs", folder);
	th_buf_init(&text, 4u << 20);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		char *rest = NULL;

		for (char *pid = strtok_r(text.data, "\n", &rest); pid;
			pid = strtok_r(NULL, "\n", &rest)) {
			if (atoi(pid) > 1)
				kill(atoi(pid), SIGKILL);
		}
	}
	th_buf_release(&text);
}

/* A job's place was made with all that is above it. */
static void remove_made_above(const struct hierarchy *hierarchy, char *folder)
{
	size_t top = strlen(hierarchy->mount);
	char *slash;

	while ((slash = strrchr(folder, '/')) > folder + top) {
		char value[4];

		*slash = '\0';
		if (getxattr(folder, MADE_HERE, value, sizeof(value)) != 1 ||
			rmdir(folder))
			break;
	}
}

/* rmdir answers EBUSY for as long as a process of the group has not been
 * reaped, which takes a moment after its kill. The kill is repeated: a process
 * may have forked between the reading of the list and the signal. */
static int remove_from(
	const struct hierarchy *hierarchy, const char *path, int levels)
{
	char folder[FOLDER_MAX], *slash;
	size_t top = strlen(hierarchy->mount) + 1;

	if (strncmp(path, "//", 2) != 0)
		top += strlen(hierarchy->base);
	group_folder(hierarchy, path, folder);
	if (rmdir(folder) && errno != ENOENT) {
		if (errno != EBUSY)
			return -1;
		kill_all(hierarchy->v2, folder);
		if (rmdir(folder) && errno != ENOENT)
			return errno == EBUSY ? 0 : -1;
	}
	while (--levels > 0 && (slash = strrchr(folder, '/')) > folder + top) {
		*slash = '\0';
		if (rmdir(folder) && errno != ENOENT)
			break;
	}
	remove_made_above(hierarchy, folder);
	return 1;
}

int th_cgroup_remove_step(const char *path, int levels)
{
	const struct hierarchy *list;
	size_t count = hierarchies(&list);
	bool busy = false, refused = false;

	for (size_t i = 0; i < count; i++) {
		int rc = 1;

		/* A place elsewhere has an owner of its own. */
		if (list[i].writable ||
			(list[i].v2 && strncmp(path, "//", 2) == 0))
			rc = remove_from(&list[i], path, levels);
		busy |= rc == 0;
		refused |= rc < 0;
	}
	return busy ? 0 : refused ? -1 : 1;
}

bool th_cgroup_remove(const char *path, int levels)
{
	const struct timespec step = {.tv_nsec = LEAVE_STEP_NS};
	int rc = 0;

	for (int tries = 0; tries < LEAVE_TRIES; tries++) {
		rc = th_cgroup_remove_step(path, levels);
		if (rc)
			break;
		nanosleep(&step, NULL);
	}
	return rc > 0;
}

/* True where a later folder of the list lies below it. */
static bool is_above(const struct th_strings *made, size_t at)
{
	size_t len = strlen(made->items[at]);

	for (size_t i = at + 1; i < made->count; i++) {
		if (strncmp(made->items[i], made->items[at], len) == 0 &&
			made->items[i][len] == '/')
			return true;
	}
	return false;
}

static bool is_v2(const char *folder)
{
	const struct hierarchy *v2 = hierarchy_v2();

	return v2 && strncmp(folder, v2->mount, strlen(v2->mount)) == 0;
}

bool th_cgroup_remove_made(const struct th_strings *made)
{
	const struct timespec step = {.tv_nsec = LEAVE_STEP_NS};
	bool gone = true;

	for (size_t i = made->count; i > 0; i--) {
		const char *folder = made->items[i - 1];
		/* In one that is above the group others may have theirs. */
		bool leaf = !is_above(made, i - 1);
		int tries = 0;

		while (rmdir(folder) && errno != ENOENT) {
			if (!leaf || errno != EBUSY || tries == LEAVE_TRIES) {
				gone &= !leaf;
				break;
			}
			if (tries++ % 20 == 0)
				kill_all(is_v2(folder), folder);
			nanosleep(&step, NULL);
		}
	}
	return gone;
}
