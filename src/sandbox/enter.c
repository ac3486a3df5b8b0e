#include "sandbox/enter.h"

#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"

#define RANGES_MAX 16
#define FILE_MAX_BYTES (1u << 20)

struct ranges {
	struct {
		uint32_t start, count;
	} items[RANGES_MAX];
	size_t count;
	uint64_t total;
};

/* The lines "name:start:count" or "uid:start:count" (subuid(5)). */
static void read_ranges(
	const char *path, const char *name, uid_t uid, struct ranges *ranges)
{
	struct th_error ignored = {0}; /* then there are none */
	struct th_buf text;
	char number[16];

	memset(ranges, 0, sizeof(*ranges));
	snprintf(number, sizeof(number), "%u", uid);
	th_buf_init(&text, FILE_MAX_BYTES);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) != 1) {
		th_buf_release(&text);
		return;
	}
	for (const char *at = text.data; *at;) {
		size_t len = strcspn(at, ":\n");
		unsigned long long start, count;

		if (at[len] == ':' && ranges->count < RANGES_MAX &&
			((len == strlen(name) && strncmp(at, name, len) == 0) ||
				(len == strlen(number) &&
					strncmp(at, number, len) == 0)) &&
			sscanf(at + len, ":%llu:%llu", &start, &count) == 2 &&
			count && start + count <= UINT32_MAX) {
			ranges->items[ranges->count].start = (uint32_t)start;
			ranges->items[ranges->count++].count = (uint32_t)count;
			ranges->total += count;
		}
		at += strcspn(at, "\n");
		at += *at == '\n';
	}
	th_buf_release(&text);
}

static const char *tool(const char *name, char path[64])
{
	static const char *const folders[] = {"/usr/bin", "/bin", "/usr/sbin"};

	for (size_t i = 0; i < sizeof(folders) / sizeof(*folders); i++) {
		snprintf(path, 64, "%s/%s", folders[i], name);
		if (access(path, X_OK) == 0)
			return path;
	}
	return NULL;
}

void th_subordinate_find(
	const char *name, uid_t uid, struct th_subordinate *found)
{
	struct ranges users, groups;
	char path[64];

	read_ranges("/etc/subuid", name, uid, &users);
	read_ranges("/etc/subgid", name, uid, &groups);
	found->users = users.total;
	found->groups = groups.total;
	found->tools = tool("newuidmap", path) && tool("newgidmap", path);
}

/* Runs the set-user-ID helper for the process; its exit code. */
static int run_tool(const char *name, pid_t target, uint32_t own,
	const struct ranges *ranges)
{
	char path[64], numbers[RANGES_MAX * 3 + 4][16];
	const char *args[RANGES_MAX * 3 + 6];
	static char *const env[] = {NULL};
	size_t count = 0, n = 0;
	uint32_t inside = 1;
	int status = 0;
	pid_t pid;

	args[count++] = tool(name, path);
	snprintf(numbers[n], 16, "%d", (int)target);
	args[count++] = numbers[n++];
	args[count++] = "0";
	snprintf(numbers[n], 16, "%u", own);
	args[count++] = numbers[n++];
	args[count++] = "1";
	for (size_t i = 0; i < ranges->count; i++) {
		snprintf(numbers[n], 16, "%u", inside);
		args[count++] = numbers[n++];
		snprintf(numbers[n], 16, "%u", ranges->items[i].start);
		args[count++] = numbers[n++];
		snprintf(numbers[n], 16, "%u", ranges->items[i].count);
		args[count++] = numbers[n++];
		inside += ranges->items[i].count;
	}
	args[count] = NULL;
	/* vfork: the caller may be large, and the child does nothing else. */
	pid = vfork();
	if (pid == 0) {
		execve(path, (char *const *)(uintptr_t)args, env);
		_exit(127);
	}
	while (pid > 0 && waitpid(pid, &status, 0) < 0 && errno == EINTR)
		;
	return pid > 0 && WIFEXITED(status) ? WEXITSTATUS(status) : 1;
}

/* Stays outside and has the maps written when the parent is inside. */
static void help(int channel, pid_t parent, uid_t uid, gid_t gid,
	const struct ranges *users, const struct ranges *groups)
{
	char byte;
	bool ok;

	if (read(channel, &byte, 1) != 1)
		_exit(1);
	ok = run_tool("newuidmap", parent, uid, users) == 0 &&
		run_tool("newgidmap", parent, gid, groups) == 0;
	_exit(ok ? 0 : 1);
}

static int write_text(const char *path, const char *text)
{
	int fd = open(path, O_WRONLY | O_CLOEXEC);
	ssize_t len = (ssize_t)strlen(text);
	int rc = fd >= 0 && write(fd, text, (size_t)len) == len ? 0 : -1;

	th_close(&fd);
	return rc;
}

static int map_single(uid_t uid, gid_t gid)
{
	char users[32], groups[32];

	snprintf(users, sizeof(users), "0 %u 1", uid);
	snprintf(groups, sizeof(groups), "0 %u 1", gid);
	return write_text("/proc/self/setgroups", "deny") ||
			write_text("/proc/self/uid_map", users) ||
			write_text("/proc/self/gid_map", groups)
		? -1
		: 0;
}

static int refuse(int sys, struct th_error *err)
{
	th_fail_sys(err, TH_NOT_POSSIBLE, sys,
		"unprivileged users cannot create user namespaces here");
	return th_hint(err,
		"the administrator can allow it: the sysctl "
		"user.max_user_namespaces must be above 0; see: tidyhull "
		"doctor");
}

static int unshare_with_helper(uid_t uid, gid_t gid, const struct ranges *users,
	const struct ranges *groups, bool *single, struct th_error *err)
{
	int pair[2], status = 0;
	pid_t parent = getpid(), helper;

	if (socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, pair))
		return th_fail_sys(err, TH_FAILED, errno, "cannot start");
	helper = fork();
	if (helper == 0) {
		close(pair[0]);
		help(pair[1], parent, uid, gid, users, groups);
	}
	close(pair[1]);
	/* The helper was forked before: it has to be outside, where the
	 * set-user-ID tools have their rights. */
	if (helper < 0 || unshare(CLONE_NEWUSER | CLONE_NEWNS)) {
		close(pair[0]);
		return refuse(errno, err);
	}
	if (write(pair[0], "", 1) != 1) {
		/* The helper's exit code will tell. */
	}
	while (waitpid(helper, &status, 0) < 0 && errno == EINTR)
		;
	close(pair[0]);
	if (WIFEXITED(status) && WEXITSTATUS(status) == 0)
		return 0;
	/* The files say more than the host allows. */
	*single = true;
	return map_single(uid, gid) ? refuse(errno, err) : 0;
}

int th_user_enter(const char *name, uid_t uid, gid_t gid, bool *single,
	struct th_error *err)
{
	struct ranges users, groups;
	char path[64];

	read_ranges("/etc/subuid", name, uid, &users);
	read_ranges("/etc/subgid", name, uid, &groups);
	*single = !users.count || !groups.count || !tool("newuidmap", path) ||
		!tool("newgidmap", path);
	if (!*single) {
		if (unshare_with_helper(uid, gid, &users, &groups, single, err))
			return -1;
	} else if (unshare(CLONE_NEWUSER | CLONE_NEWNS) ||
		map_single(uid, gid)) {
		return refuse(errno, err);
	}
	/* The capabilities came with the namespace; the IDs are still those of
	 * the outside until they are set. */
	if (setresgid(0, 0, 0) || setresuid(0, 0, 0))
		return refuse(errno, err);
	return 0;
}

int th_user_join(int users, struct th_error *err)
{
	if (setns(users, CLONE_NEWUSER) || unshare(CLONE_NEWNS) ||
		setresgid(0, 0, 0) || setresuid(0, 0, 0))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot enter the user namespace of your containers");
	return 0;
}
