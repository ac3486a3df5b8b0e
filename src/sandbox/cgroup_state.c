/* What control groups tell, and their freezer. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "sandbox/cgroup.h"
#include "sandbox/hierarchy.h"

/* The group's folder in the hierarchy that has the file, or NULL: text needs
 * TH_FD_PATH bytes where it is the version 2 one. */
static const char *find(
	const struct th_cgroup *group, const char *file, char text[TH_FD_PATH])
{
	char path[1200];

	if (group->fd >= 0 && faccessat(group->fd, file, F_OK, 0) == 0)
		return th_fd_path(group->fd, "", text);
	for (size_t i = 0; i < group->v1_count; i++) {
		snprintf(path, sizeof(path), "%s/%s", group->v1[i], file);
		if (access(path, F_OK) == 0)
			return group->v1[i];
	}
	return NULL;
}

static long long number(const struct th_cgroup *group, const char *file,
	const char *key, long long missing)
{
	char text[TH_FD_PATH];
	const char *folder = find(group, file, text);

	return folder ? group_number(folder, file, key, missing) : missing;
}

int64_t th_cgroup_memory_kills(const struct th_cgroup *group)
{
	long long kills = number(group, "memory.events", "oom_kill ", -1);

	if (kills < 0)
		kills = number(group, "memory.oom_control", "oom_kill ", 0);
	return kills;
}

int64_t th_cgroup_processes_refused(const struct th_cgroup *group)
{
	return number(group, "pids.events", "max ", 0);
}

/* ---- the freezer ---- */

bool th_cgroup_can_freeze(const struct th_cgroup *group)
{
	char text[TH_FD_PATH];

	return find(group, "cgroup.freeze", text) ||
		find(group, "freezer.state", text);
}

bool th_cgroup_is_frozen(const struct th_cgroup *group)
{
	struct th_error ignored = {0}; /* then it is not known to be */
	char text[TH_FD_PATH], path[1200];
	bool v2 = find(group, "cgroup.freeze", text);
	const char *file = v2 ? "cgroup.events" : "freezer.state";
	const char *folder = find(group, file, text);
	struct th_buf content;
	bool frozen;

	snprintf(path, sizeof(path), "%s/%s", folder ? folder : "", file);
	th_buf_init(&content, 4096);
	frozen = folder &&
		th_file_read(AT_FDCWD, path, &content, &ignored) == 1 &&
		strstr(content.data, v2 ? "frozen 1" : "FROZEN");
	th_buf_release(&content);
	return frozen;
}

int th_cgroup_freeze(
	const struct th_cgroup *group, bool freeze, struct th_error *err)
{
	char text[TH_FD_PATH];
	bool v2 = find(group, "cgroup.freeze", text);
	const char *file = v2 ? "cgroup.freeze" : "freezer.state";
	const char *folder = find(group, file, text);
	const char *word =
		v2 ? (freeze ? "1" : "0") : (freeze ? "FROZEN" : "THAWED");

	if (!folder) {
		th_fail(err, TH_NOT_POSSIBLE,
			"cannot freeze it: this user has no control group with "
			"a freezer");
		return th_hint(err, "tidyhull doctor explains what is needed");
	}
	if (group_write(folder, file, word) == 0)
		return 0;
	return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
		"cannot %s the container's control group",
		freeze ? "freeze" : "thaw");
}

/* ---- usage ---- */

/* The sum of what stands behind key on all lines: one per disk. */
static int64_t sum(
	const struct th_cgroup *group, const char *file, const char *key)
{
	struct th_error ignored = {0}; /* then not counted */
	char text[TH_FD_PATH], path[1200];
	const char *folder = find(group, file, text), *at;
	struct th_buf content;
	int64_t total = 0;

	if (!folder)
		return TH_UNSET;
	snprintf(path, sizeof(path), "%s/%s", folder, file);
	th_buf_init(&content, 1 << 20);
	if (th_file_read(AT_FDCWD, path, &content, &ignored) == 1) {
		for (at = strstr(content.data, key); at; at = strstr(at, key)) {
			at += strlen(key);
			total += strtoll(at, NULL, 10);
		}
	}
	th_buf_release(&content);
	return total;
}

void th_cgroup_usage(const struct th_cgroup *group, struct th_usage *usage)
{
	memset(usage, 0, sizeof(*usage));
	usage->cpu_us = number(group, "cpu.stat", "usage_usec ", TH_UNSET);
	if (usage->cpu_us == TH_UNSET) {
		usage->cpu_us = number(group, "cpuacct.usage", "", TH_UNSET);
		if (usage->cpu_us != TH_UNSET)
			usage->cpu_us /= 1000;
	}
	usage->memory_bytes = number(group, "memory.current", "",
		number(group, "memory.usage_in_bytes", "", TH_UNSET));
	usage->memory_limit = number(group, "memory.max", "",
		number(group, "memory.limit_in_bytes", "", TH_UNSET));
	/* Version 1 writes "none" as the largest number of whole pages. */
	if (usage->memory_limit > INT64_MAX / 2)
		usage->memory_limit = TH_UNSET;
	usage->processes = number(group, "pids.current", "", TH_UNSET);
	usage->processes_limit = number(group, "pids.max", "", TH_UNSET);
	usage->read_bytes = sum(group, "io.stat", "rbytes=");
	usage->written_bytes = sum(group, "io.stat", "wbytes=");
	if (usage->read_bytes == TH_UNSET) {
		usage->read_bytes =
			sum(group, "blkio.throttle.io_service_bytes", " Read ");
		usage->written_bytes = sum(
			group, "blkio.throttle.io_service_bytes", " Write ");
	}
}

int th_cgroup_processes(const struct th_cgroup *group, pid_t **pids,
	size_t *count, struct th_error *err)
{
	char text[TH_FD_PATH], path[1200];
	const char *folder = group->fd >= 0 || group->v1_count
		? find(group, "cgroup.procs", text)
		: NULL;
	struct th_buf content;
	size_t n = 0;
	int rc;

	if (!folder)
		return 0;
	snprintf(path, sizeof(path), "%s/cgroup.procs", folder);
	th_buf_init(&content, 4u << 20);
	rc = th_file_read(AT_FDCWD, path, &content, err);
	if (rc == 1) {
		char *at = content.data;

		*pids = calloc(content.len / 2 + 1, sizeof(**pids));
		while (*pids && *at) {
			long pid = strtol(at, &at, 10);

			/* 0: one that our PID namespace does not see. */
			if (pid > 0)
				(*pids)[n++] = (pid_t)pid;
			at += *at != '\0';
		}
		rc = *pids ? 1 : th_fail_memory(err);
		*count = n;
	}
	th_buf_release(&content);
	return rc;
}
