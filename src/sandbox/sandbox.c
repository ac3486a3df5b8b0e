#include "sandbox/sandbox.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/sched.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "base/path.h"
#include "sandbox/child.h"
#include "sandbox/clone.h"
#include "sandbox/filter.h"
#include "sandbox/run_hooks.h"
#include "sandbox/idmap.h"
#include "sandbox/inside.h"
#include "sandbox/listener.h"
#include "sandbox/mounts.h"
#include "sandbox/message.h"

static void empty(struct th_sandbox *sandbox)
{
	memset(sandbox, 0, sizeof(*sandbox));
	sandbox->pidfd = sandbox->channel = -1;
	sandbox->console = sandbox->status = -1;
}

/* ---- birth ---- */

/* A detached copy: it can be passed into the new mount namespace by descriptor,
 * and the path to the store need not be open to whoever the process becomes. */
static int open_root(const struct th_sandbox_options *options, int *root_fd,
	struct th_error *err)
{
	char *path = th_path_absolute(
		options->bundle_path, options->bundle->root_path);

	if (!path)
		return th_fail_memory(err);
	*root_fd = open_tree(AT_FDCWD, path,
		OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC | AT_RECURSIVE);
	if (*root_fd < 0)
		th_fail_sys(
			err, TH_FAILED, errno, "cannot open the root %s", path);
	free(path);
	return *root_fd < 0 ? -1 : 0;
}

static int join_namespaces(
	const struct th_bundle *bundle, const int *joins, struct th_error *err)
{
	/* The user namespace first: it gives the right to join the others. */
	for (int user = 1; user >= 0; user--) {
		for (size_t i = 0; i < bundle->join_count; i++) {
			int flag = bundle->joins[i].flag;

			if ((flag == CLONE_NEWUSER) != user)
				continue;
			/* Something else, or of another type. */
			if (setns(joins[i], flag) && errno == EINVAL)
				return th_fail(err, TH_FAILED,
					"%.300s is not a namespace of the "
					"type \"%s\"",
					bundle->joins[i].path,
					th_namespace_type(flag));
			if (setns(joins[i], flag))
				return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
					"cannot join the namespace %.300s",
					bundle->joins[i].path);
			if (user && (setresgid(0, 0, 0) || setresuid(0, 0, 0)))
				return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
					"cannot become root of the user "
					"namespace %.300s",
					bundle->joins[i].path);
		}
	}
	return 0;
}

static int open_joins(
	const struct th_bundle *bundle, int *joins, struct th_error *err)
{
	for (size_t i = 0; i < bundle->join_count; i++) {
		joins[i] = open(bundle->joins[i].path, O_RDONLY | O_CLOEXEC);
		if (joins[i] < 0)
			return th_fail_sys(err, TH_NOT_FOUND, errno,
				"cannot open the namespace %.300s",
				bundle->joins[i].path);
	}
	return 0;
}

/* The version 2 group that it is born into; who has joined other namespaces has
 * no right to that any more. */
static int group_of(const struct child *child)
{
	const struct th_sandbox_options *options = child->options;

	return options->cgroup && !options->bundle->join_count
		? options->cgroup->fd
		: -1;
}

/* Children are born into it, and its clocks are set before the first one is
 * (time_namespaces(7)): it cannot come with the birth itself. */
static int new_time(const struct th_bundle *bundle, struct th_error *err)
{
	int fd, rc = 0;

	if (!(bundle->namespaces & CLONE_NEWTIME))
		return 0;
	if (unshare(CLONE_NEWTIME))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot create a time namespace");
	if (!bundle->time_offsets)
		return 0;
	fd = open("/proc/self/timens_offsets", O_WRONLY | O_CLOEXEC);
	if (fd < 0 ||
		th_write_all(
			fd, bundle->time_offsets, strlen(bundle->time_offsets)))
		rc = th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set the offsets of the time namespace");
	th_close(&fd);
	return rc;
}

/* Namespaces that exist are joined by a helper, which then gives birth to the
 * container's process as its own sibling. It also enters the groups of version
 * 1, as it has the right to, and to move a process that is there already takes
 * the kernel ten times as long. */
static void run_helper(
	struct child *child, const int *joins, int namespaces, int report)
{
	const struct th_bundle *bundle = child->options->bundle;
	struct setup_message born = {.kind = SETUP_BORN};
	struct th_error error = {0};
	int pidfd = -1;

	if ((!child->enters ||
		    th_cgroup_enter_old(child->options->cgroup, &error) == 0) &&
		join_namespaces(bundle, joins, &error) == 0 &&
		new_time(bundle, &error) == 0) {
		born.pid = clone_process(
			namespaces, group_of(child), CLONE_PARENT, &pidfd);
		if (born.pid == 0) {
			close(report);
			child_run(child);
		}
		if (born.pid > 0) {
			/* Nobody would ever know of it. */
			if (!setup_send(report, &born, sizeof(born), pidfd))
				syscall(SYS_pidfd_send_signal, pidfd, SIGKILL,
					NULL, 0);
		} else {
			th_fail_sys(&error, TH_NOT_POSSIBLE, errno,
				"cannot create the container's namespaces");
		}
	}
	setup_fail(report, &error);
	_exit(0);
}

/* What the helper tells comes by a way of its own: the newborn must not keep it
 * open where the helper is killed before it could tell. */
static int birth_by_helper(struct child *child, int namespaces, int channel,
	struct th_sandbox *sandbox, struct th_error *err)
{
	const struct th_bundle *bundle = child->options->bundle;
	int joins[8] = {-1, -1, -1, -1, -1, -1, -1, -1}, helper_fd = -1;
	struct setup_message message = {0};
	int report[2] = {-1, -1};
	pid_t helper = -1;
	int rc = -1;

	if (open_joins(bundle, joins, err))
		goto out;
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, report) == 0)
		helper = clone_process(0, -1, 0, &helper_fd);
	if (helper == 0) {
		close(channel);
		close(report[0]);
		run_helper(child, joins, namespaces, report[1]);
	}
	if (helper < 0) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot start the container's process");
		goto out;
	}
	th_close(&child->channel);
	th_close(&report[1]);
	if (!setup_hear(report[0], &message, &sandbox->pidfd))
		th_fail(err, TH_FAILED,
			"the process that joins namespaces has died");
	else if (message.kind == SETUP_FAILED)
		*err = message.error;
	else
		rc = 0;
	sandbox->pid = rc ? 0 : message.pid;
	/* The helper is done in any case: it must not stay behind as a zombie
	 * that the loop would take for the container. */
	while (waitpid(helper, NULL, 0) < 0 && errno == EINTR)
		;
out:
	th_close(&helper_fd);
	th_close(&report[0]);
	th_close(&report[1]);
	for (size_t i = 0; i < bundle->join_count; i++)
		th_close(&joins[i]);
	return rc;
}

static int birth(struct child *child, int channel, struct th_sandbox *sandbox,
	struct th_error *err)
{
	const struct th_bundle *bundle = child->options->bundle;
	/* A cgroup namespace is rooted at the group that its maker is in when
	 * it is made: the child makes it, after it was moved. */
	int namespaces =
		bundle->namespaces & ~(CLONE_NEWCGROUP | CLONE_NEWTIME);
	pid_t pid;

	if (bundle->join_count || (child->waits && child->enters) ||
		bundle->namespaces & CLONE_NEWTIME)
		return birth_by_helper(
			child, namespaces, channel, sandbox, err);
	pid = clone_process(namespaces, group_of(child), 0, &sandbox->pidfd);
	if (pid == 0) {
		close(channel);
		child_run(child);
	}
	th_close(&child->channel);
	if (pid < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot create the container's namespaces");
	sandbox->pid = pid;
	return 0;
}

/* What only the parent can do for the newborn. */
static int provide(const struct th_sandbox_options *options,
	const struct th_sandbox *sandbox, struct th_error *err)
{
	const struct th_bundle *bundle = options->bundle;

	/* Groups before maps: from the moment the process goes on, whatever it
	 * starts must be counted. */
	if (options->cgroup && bundle->join_count &&
		th_cgroup_attach(options->cgroup, sandbox->pid, err))
		return -1;
	if (bundle->namespaces & CLONE_NEWUSER &&
		th_idmap_write(sandbox->pid, &bundle->uids, &bundle->gids, err))
		return -1;
	if (!setup_go(sandbox->channel, sandbox->pid))
		return th_fail(err, TH_FAILED,
			"the container's first process has died");
	return 0;
}

static int prepare(const struct th_sandbox_options *options,
	struct child *child, struct th_sandbox *sandbox, int *channel,
	struct th_error *err)
{
	const struct th_bundle *bundle = options->bundle;
	int pair[2], status[2];

	if (th_labels_check(bundle, err))
		return -1;
	if (bundle->namespaces & CLONE_NEWUSER && !bundle->uids.count)
		return th_fail(err, TH_FAILED,
			"config.json asks for a user namespace, but does not "
			"have uidMappings and gidMappings");
	/* Sources with mapped IDs, or for a new user namespace, can only be
	 * cloned with rights that the process no longer has. */
	if (th_mounts_need_parent(bundle)) {
		if (!child->mount_fds &&
			th_mounts_open(bundle, options->bundle_path, -1,
				&child->mount_fds, err))
			return -1;
		if (child->root_fd < 0 && !options->overlay &&
			open_root(options, &child->root_fd, err))
			return -1;
	}
	if (options->reaper && pipe2(status, O_CLOEXEC) == 0) {
		sandbox->status = status[0];
		child->status = status[1];
	}
	/* SEQPACKET keeps the bounds of messages and, unlike a datagram socket,
	 * tells the end: execve closes the last copy of the other side. */
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot create a channel to the container");
	*channel = pair[0];
	child->channel = pair[1];
	return 0;
}

int th_sandbox_create(const struct th_sandbox_options *options,
	struct th_sandbox *sandbox, struct th_error *err)
{
	const struct th_bundle *bundle = options->bundle;
	struct child child = {.options = options,
		.channel = -1,
		.root_fd = options->root_mount,
		.mount_fds = options->mount_fds,
		.status = -1};
	int channel = -1, rc = -1;

	empty(sandbox);
	sandbox->options = options;
	/* In a user namespace of its own it has no right to that any more. */
	child.waits = bundle->namespaces & (CLONE_NEWUSER | CLONE_NEWTIME) ||
		bundle->join_count;
	child.enters = options->cgroup && options->cgroup->v1_count;
	if (prepare(options, &child, sandbox, &channel, err) == 0)
		rc = birth(&child, channel, sandbox, err);
	sandbox->channel = channel;
	th_mounts_close(bundle, child.mount_fds);
	th_close(&child.channel);
	th_close(&child.status);
	if (child.root_fd != options->root_mount)
		th_close(&child.root_fd);
	if (rc == 0 && child.waits)
		rc = provide(options, sandbox, err);
	if (rc)
		th_sandbox_abandon(sandbox);
	return rc;
}

void th_sandbox_abandon(struct th_sandbox *sandbox)
{
	if (sandbox->pid > 0) {
		kill(sandbox->pid, SIGKILL);
		/* __WALL: a process made with CLONE_PARENT or another exit
		 * signal counts as a clone child. */
		while (waitpid(sandbox->pid, NULL, __WALL) < 0 &&
			errno == EINTR)
			;
	}
	sandbox->pid = 0;
	th_close(&sandbox->pidfd);
	th_close(&sandbox->channel);
	th_close(&sandbox->console);
	th_close(&sandbox->status);
}

/* ---- getting ready ---- */

static int run_hooks(const struct th_sandbox_options *options, pid_t pid,
	struct th_error *err)
{
	char *state = th_hooks_state(options->bundle, options->id, "creating",
		pid, options->bundle_path);
	int rc;

	if (!state)
		return th_fail_memory(err);
	rc = th_hooks_run(options->bundle, TH_HOOK_PRESTART, state, err);
	if (rc == 0)
		rc = th_hooks_run(
			options->bundle, TH_HOOK_CREATE_RUNTIME, state, err);
	free(state);
	return rc;
}

int th_sandbox_ready(struct th_sandbox *sandbox, struct th_error *err)
{
	struct setup_message message = {.kind = SETUP_FAILED};
	int fd;

	for (;;) {
		if (!setup_hear(sandbox->channel, &message, &fd)) {
			th_fail(err, TH_FAILED,
				"the container's first process died while it "
				"was set up");
			break;
		}
		if (message.kind == SETUP_READY) {
			sandbox->console = fd;
			return 0;
		}
		th_close(&fd);
		if (message.kind == SETUP_FAILED) {
			*err = message.error;
			break;
		}
		if (run_hooks(sandbox->options, sandbox->pid, err) ||
			!setup_go(sandbox->channel, sandbox->pid))
			break;
	}
	if (!err->code)
		th_fail(err, TH_FAILED,
			"the container's first process has died");
	th_sandbox_abandon(sandbox);
	return -1;
}

/* ---- the start ---- */

int th_sandbox_leave_waiting(struct th_sandbox *sandbox, struct th_error *err)
{
	if (setup_go(sandbox->channel, sandbox->pid))
		return 0;
	return th_fail(
		err, TH_FAILED, "the container's first process has died");
}

/* Until the program has taken over, or cannot. */
static int follow_start(const struct th_bundle *bundle, const char *id,
	const char *bundle_path, pid_t pid, int pidfd, int channel,
	struct th_error *err)
{
	struct setup_message message;
	int fd;

	if (!setup_go(channel, pid))
		return th_fail(err, TH_FAILED,
			"the container's first process died before its start");
	/* The end of the channel: the program has taken over. */
	while (setup_hear(channel, &message, &fd)) {
		th_close(&fd);
		if (message.kind != SETUP_FILTER) {
			*err = message.error;
			return -1;
		}
		if (th_listener_hand_over(bundle, id, bundle_path, pid, pidfd,
			    message.number, err) ||
			!setup_go(channel, pid))
			return -1;
	}
	return 0;
}

int th_sandbox_start(struct th_sandbox *sandbox, struct th_error *err)
{
	const struct th_sandbox_options *options = sandbox->options;
	int rc =
		follow_start(options->bundle, options->id, options->bundle_path,
			sandbox->pid, sandbox->pidfd, sandbox->channel, err);

	th_close(&sandbox->channel);
	if (rc)
		th_sandbox_abandon(sandbox);
	return rc;
}

int th_sandbox_start_waiting(const struct th_bundle *bundle, const char *id,
	const char *bundle_path, pid_t pid, int connection,
	struct th_error *err)
{
	int pidfd = (int)syscall(SYS_pidfd_open, pid, 0), rc;

	if (pidfd < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"the container's process is gone");
	rc = follow_start(bundle, id, bundle_path, pid, pidfd, connection, err);
	th_close(&pidfd);
	return rc;
}
