#include "sandbox/idmap.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/sched.h>
#include <sched.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"

static int write_map(pid_t pid, const char *name, const struct th_id_maps *maps)
{
	struct th_buf text;
	char path[64];
	int fd, rc;

	th_buf_init(&text, 65536);
	for (size_t i = 0; i < maps->count; i++)
		th_buf_addf(&text, "%u %u %u\n", maps->items[i].inside,
			maps->items[i].outside, maps->items[i].size);
	snprintf(path, sizeof(path), "/proc/%d/%s", (int)pid, name);
	fd = open(path, O_WRONLY | O_CLOEXEC);
	/* The kernel takes a map in one write only. */
	rc = fd >= 0 && !text.failed &&
			write(fd, text.data, text.len) == (ssize_t)text.len
		? 0
		: -1;
	th_close(&fd);
	th_buf_release(&text);
	return rc;
}

static void deny_groups(pid_t pid)
{
	char path[64];
	int fd;

	snprintf(path, sizeof(path), "/proc/%d/setgroups", (int)pid);
	fd = open(path, O_WRONLY | O_CLOEXEC);
	if (fd >= 0 && write(fd, "deny", 4) < 0) {
		/* The map will tell. */
	}
	th_close(&fd);
}

int th_idmap_write(pid_t pid, const struct th_id_maps *uids,
	const struct th_id_maps *gids, struct th_error *err)
{
	if (write_map(pid, "uid_map", uids))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot map the user IDs of the container");
	if (write_map(pid, "gid_map", gids) == 0)
		return 0;
	/* Without the privilege a group can be mapped when groups cannot be
	 * changed any more (user_namespaces(7)). */
	deny_groups(pid);
	if (write_map(pid, "gid_map", gids))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot map the group IDs of the container");
	return 0;
}

#define STACK_BYTES 4096

/* Killed with its parent, or else it would hold all that the parent had.
 * Nothing that sets errno: it is the parent's, too. */
static int sleep_on(void *arg)
{
	const pid_t *parent = arg;

	prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
	while (syscall(SYS_getppid) == *parent)
		syscall(SYS_ppoll, NULL, 0, NULL, NULL, 0);
	return 0;
}

int th_idmap_namespace(const struct th_id_maps *uids,
	const struct th_id_maps *gids, struct th_error *err)
{
	_Alignas(16) char stack[STACK_BYTES];
	char path[64];
	pid_t pid, own = getpid();
	int fd = -1;

	/* A user namespace lives as long as a process or a descriptor holds it:
	 * this one sleeps until the descriptor is there. It shares our memory,
	 * as copying that takes longer than all the rest. */
	pid = clone(sleep_on, stack + sizeof(stack),
		CLONE_VM | CLONE_NEWUSER | SIGCHLD, &own);
	if (pid < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot create a user namespace for mapped IDs");
	if (th_idmap_write(pid, uids, gids, err) == 0) {
		snprintf(path, sizeof(path), "/proc/%d/ns/user", (int)pid);
		fd = open(path, O_RDONLY | O_CLOEXEC);
		if (fd < 0)
			th_fail_sys(err, TH_FAILED, errno,
				"cannot open a user namespace");
	}
	kill(pid, SIGKILL);
	while (waitpid(pid, NULL, 0) < 0 && errno == EINTR)
		;
	return fd;
}

size_t th_idmap_read(const char *path, struct th_id_map lines[TH_ID_MAP_LINES])
{
	struct th_error ignored = {0}; /* then there are none */
	struct th_buf text;
	size_t count = 0;

	th_buf_init(&text, 65536);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		for (const char *at = text.data;
			*at && count < TH_ID_MAP_LINES;) {
			struct th_id_map *line = &lines[count];

			count += sscanf(at, "%u %u %u", &line->inside,
					 &line->outside, &line->size) == 3;
			at += strcspn(at, "\n");
			at += *at == '\n';
		}
	}
	th_buf_release(&text);
	return count;
}

/* The part of a mapping that lies in a line of this namespace's own map. */
static uint32_t take_part(const struct th_id_map *from, uint32_t done,
	const struct th_id_map *line, struct th_id_map *part)
{
	uint32_t first = from->outside + done, left = from->size - done;

	if (first < line->outside || first - line->outside >= line->size)
		return 0;
	part->inside = from->inside + done;
	part->outside = line->inside + (first - line->outside);
	part->size = line->size - (first - line->outside);
	if (part->size > left)
		part->size = left;
	return part->size;
}

static int add_map(struct th_id_maps *maps, const struct th_id_map *one)
{
	struct th_id_map *items =
		realloc(maps->items, (maps->count + 1) * sizeof(*maps->items));

	if (!items)
		return -1;
	items[maps->count++] = *one;
	maps->items = items;
	return 0;
}

int th_idmap_from_caller(
	const char *map, struct th_id_maps *maps, struct th_error *err)
{
	struct th_id_map lines[TH_ID_MAP_LINES], part;
	size_t count = th_idmap_read(map, lines);
	struct th_id_maps made = {0};

	for (size_t i = 0; i < maps->count; i++) {
		uint32_t done = 0;

		while (done < maps->items[i].size) {
			uint32_t step = 0;

			for (size_t k = 0; !step && k < count; k++)
				step = take_part(&maps->items[i], done,
					&lines[k], &part);
			if (!step) {
				free(made.items);
				return th_fail(err, TH_NOT_POSSIBLE,
					"the ID %u in the container's mappings "
					"is neither yours nor one of your "
					"subordinate IDs",
					maps->items[i].outside + done);
			}
			if (add_map(&made, &part)) {
				free(made.items);
				return th_fail_memory(err);
			}
			done += step;
		}
	}
	free(maps->items);
	*maps = made;
	return 0;
}

bool th_idmap_is_own(void)
{
	struct th_id_map lines[TH_ID_MAP_LINES];

	return th_idmap_read("/proc/self/uid_map", lines) != 1 ||
		lines[0].inside || lines[0].outside ||
		lines[0].size != UINT32_MAX;
}
