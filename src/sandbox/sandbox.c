#include "sandbox/sandbox.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/close_range.h>
#include <linux/sched.h>
#include <net/if.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "sandbox/inside.h"

static pid_t clone_process(int flags, int cgroup, int *pidfd)
{
	struct clone_args args = {0};
	pid_t pid;

	args.flags = (uint64_t)(unsigned int)flags | CLONE_PIDFD;
	args.pidfd = (uint64_t)(uintptr_t)pidfd;
	args.exit_signal = SIGCHLD;
	if (cgroup >= 0) {
		args.flags |= CLONE_INTO_CGROUP;
		args.cgroup = (uint64_t)(unsigned int)cgroup;
	}
	pid = (pid_t)syscall(SYS_clone3, &args, sizeof(args));
	if (pid > 0)
		fcntl(*pidfd, F_SETFD, FD_CLOEXEC);
	return pid;
}

/* One message each way: an error (code 0: all well), perhaps with the
 * terminal's master. */
static void tell(int channel, const struct th_error *result, int fd)
{
	struct iovec part = {.iov_base = (void *)(uintptr_t)result,
		.iov_len = sizeof(*result)};
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(int))];
	} control;
	struct msghdr message = {.msg_iov = &part, .msg_iovlen = 1};

	if (fd >= 0) {
		struct cmsghdr *header;

		memset(&control, 0, sizeof(control));
		message.msg_control = &control;
		message.msg_controllen = sizeof(control);
		header = CMSG_FIRSTHDR(&message);
		header->cmsg_level = SOL_SOCKET;
		header->cmsg_type = SCM_RIGHTS;
		header->cmsg_len = CMSG_LEN(sizeof(int));
		memcpy(CMSG_DATA(header), &fd, sizeof(int));
	}
	sendmsg(channel, &message, MSG_NOSIGNAL);
}

/* 1 with a message, 0 at the end of the channel. */
static int hear(int channel, struct th_error *result, int *fd)
{
	struct iovec part = {.iov_base = result, .iov_len = sizeof(*result)};
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(int))];
	} control;
	struct msghdr message = {.msg_iov = &part,
		.msg_iovlen = 1,
		.msg_control = &control,
		.msg_controllen = sizeof(control)};
	struct cmsghdr *header;
	ssize_t len;

	do
		len = recvmsg(channel, &message, MSG_CMSG_CLOEXEC);
	while (len < 0 && errno == EINTR);
	if (len != (ssize_t)sizeof(*result))
		return 0;
	header = CMSG_FIRSTHDR(&message);
	if (header && header->cmsg_type == SCM_RIGHTS)
		memcpy(fd, CMSG_DATA(header), sizeof(int));
	return 1;
}

/* The keeper's signal mask and handlers must not reach the program. */
static void reset_signals(void)
{
	sigset_t none;

	for (int i = 1; i < NSIG; i++)
		signal(i, SIG_DFL);
	sigemptyset(&none);
	sigprocmask(SIG_SETMASK, &none, NULL);
}

/* Puts the streams at 0, 1 and 2, without treading on one another. */
static int place_streams(const int stdio[3], struct th_error *err)
{
	int high[3];

	for (int i = 0; i < 3; i++) {
		high[i] = fcntl(stdio[i], F_DUPFD_CLOEXEC, 3);
		if (high[i] < 0)
			goto fail;
	}
	for (int i = 0; i < 3; i++) {
		if (dup2(high[i], i) < 0)
			goto fail;
	}
	return 0;
fail:
	return th_fail_sys(
		err, TH_FAILED, errno, "cannot join the container's streams");
}

static int enter_root(
	const struct th_sandbox_options *options, struct th_error *err)
{
	const struct th_bundle *bundle = options->bundle;
	char *path = th_path_absolute(options->bundle_path, bundle->root_path);
	int source = -1, rootfd = -1, rc = -1;

	if (!path)
		return th_fail_memory(err);
	if (mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL))
		goto fail;
	source = options->root_mount >= 0
		? options->root_mount
		: open_tree(AT_FDCWD, path,
			  OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC | AT_RECURSIVE);
	if (source < 0 ||
		move_mount(source, "", AT_FDCWD, path, MOVE_MOUNT_F_EMPTY_PATH))
		goto fail;
	rootfd = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (rootfd < 0)
		goto fail;
	if (th_inside_mounts(bundle, rootfd, err) ||
		th_inside_devices(bundle, rootfd, err))
		goto out;
	if (fchdir(rootfd) || syscall(SYS_pivot_root, ".", ".") ||
		umount2(".", MNT_DETACH) || chdir("/"))
		goto fail;
	rc = 0;
	goto out;
fail:
	th_fail_sys(err, TH_FAILED, errno, "cannot enter the root %s", path);
out:
	th_close(&rootfd);
	free(path);
	return rc;
}

static void write_setting(const char *path, const char *text)
{
	int fd = open(path, O_WRONLY | O_CLOEXEC);

	if (fd < 0)
		return;
	if (write(fd, text, strlen(text)) < 0) {
		/* A kernel without it: nothing is lost but a comfort. */
	}
	close(fd);
}

/* The loopback device, and echo requests without a capability. */
static void prepare_network(void)
{
	struct ifreq request = {0};
	int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);

	memcpy(request.ifr_name, "lo", 3);
	request.ifr_flags = IFF_UP;
	if (fd >= 0)
		ioctl(fd, SIOCSIFFLAGS, &request);
	th_close(&fd);
	write_setting("/proc/sys/net/ipv4/ping_group_range", "0 2147483647");
}

static int set_up(const struct th_sandbox_options *options, int *console,
	struct th_error *err)
{
	const struct th_bundle *bundle = options->bundle;
	int rootfd, folder, rc;

	if (!bundle->process.terminal && place_streams(options->stdio, err))
		return -1;
	if (enter_root(options, err))
		return -1;
	if (bundle->namespaces & CLONE_NEWNET)
		prepare_network();
	if ((bundle->hostname &&
		    sethostname(bundle->hostname, strlen(bundle->hostname))) ||
		(bundle->domainname &&
			setdomainname(bundle->domainname,
				strlen(bundle->domainname))))
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot set the host name");
	if (bundle->process.terminal && th_inside_terminal(console, true, err))
		return -1;
	rootfd = open("/", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	/* An image may name a working folder that it does not hold; where it
	 * cannot be made, entering it will say why. */
	folder = th_path_make_in_root(rootfd, bundle->process.cwd, true);
	th_close(&folder);
	rc = th_inside_protect(bundle, rootfd, err);
	th_close(&rootfd);
	return rc;
}

/* The parent's end is closed: it died before it could be our killer. */
static void die_with_parent(int channel)
{
	char byte;

	prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
	if (recv(channel, &byte, 1, MSG_DONTWAIT | MSG_PEEK) == 0)
		_exit(1);
}

static void run_inside(const struct th_sandbox_options *options, int channel)
{
	struct th_error result = {0};
	int console = -1;
	char go;

	setsid();
	reset_signals();
	die_with_parent(channel);
	set_up(options, &console, &result);
	tell(channel, &result, console);
	th_close(&console);
	if (result.code || recv(channel, &go, 1, 0) != 1)
		_exit(1);
	close_range(3, ~0u, CLOSE_RANGE_CLOEXEC);
	if (th_inside_identity(&options->bundle->process, &result) == 0) {
		/* A change of user has taken the signal back. */
		die_with_parent(channel);
		th_inside_exec(&options->bundle->process, &result);
	}
	tell(channel, &result, -1);
	_exit(1);
}

int th_sandbox_create(const struct th_sandbox_options *options,
	struct th_sandbox *sandbox, struct th_error *err)
{
	int pair[2];
	pid_t pid;

	sandbox->pid = 0;
	sandbox->pidfd = sandbox->channel = sandbox->console = -1;
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot make a channel to the container");
	pid = clone_process(
		options->bundle->namespaces, options->cgroup, &sandbox->pidfd);
	if (pid == 0) {
		close(pair[0]);
		run_inside(options, pair[1]);
	}
	close(pair[1]);
	sandbox->channel = pair[0];
	if (pid < 0) {
		th_close(&sandbox->channel);
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot make the container's namespaces");
	}
	sandbox->pid = pid;
	return 0;
}

void th_sandbox_abandon(struct th_sandbox *sandbox)
{
	if (sandbox->pid > 0) {
		kill(sandbox->pid, SIGKILL);
		while (waitpid(sandbox->pid, NULL, 0) < 0 && errno == EINTR)
			;
	}
	sandbox->pid = 0;
	th_close(&sandbox->pidfd);
	th_close(&sandbox->channel);
	th_close(&sandbox->console);
}

int th_sandbox_ready(struct th_sandbox *sandbox, struct th_error *err)
{
	struct th_error result = {0};

	if (!hear(sandbox->channel, &result, &sandbox->console)) {
		th_fail(err, TH_FAILED,
			"the container's first process died while it was set "
			"up");
	} else if (result.code) {
		*err = result;
	} else {
		return 0;
	}
	th_sandbox_abandon(sandbox);
	return -1;
}

int th_sandbox_start(struct th_sandbox *sandbox, struct th_error *err)
{
	struct th_error result = {0};
	int none = -1;

	if (send(sandbox->channel, "", 1, MSG_NOSIGNAL) != 1) {
		th_fail(err, TH_FAILED,
			"the container's first process died before its start");
	} else if (hear(sandbox->channel, &result, &none)) {
		*err = result;
	} else {
		/* The end of the channel: the program has taken over. */
		th_close(&sandbox->channel);
		return 0;
	}
	th_sandbox_abandon(sandbox);
	return -1;
}

static void run_joined(const struct th_join_options *options, int channel)
{
	const struct th_process *process = options->process;
	struct th_error result = {0};
	int console = -1;

	setsid();
	reset_signals();
	if (!process->terminal && place_streams(options->stdio, &result))
		goto fail;
	if (setns(options->target_pidfd, options->namespaces & ~CLONE_NEWPID)) {
		th_fail_sys(&result, TH_FAILED, errno,
			"cannot enter the container");
		goto fail;
	}
	if (process->terminal && th_inside_terminal(&console, false, &result))
		goto fail;
	close_range(3, ~0u, CLOSE_RANGE_CLOEXEC);
	tell(channel, &result, console);
	th_close(&console);
	if (th_inside_identity(process, &result) == 0)
		th_inside_exec(process, &result);
fail:
	tell(channel, &result, -1);
	_exit(1);
}

int th_sandbox_join(const struct th_join_options *options,
	struct th_sandbox *sandbox, struct th_error *err)
{
	struct th_error result = {0};
	int pair[2], own = -1, none = -1;
	pid_t pid = -1;

	sandbox->pid = 0;
	sandbox->pidfd = sandbox->channel = sandbox->console = -1;
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot make a channel to the session");
	/* The PID namespace counts for children only, so this process borrows
	 * it for the moment of the clone. */
	own = open("/proc/self/ns/pid", O_RDONLY | O_CLOEXEC);
	if (own >= 0 &&
		(!(options->namespaces & CLONE_NEWPID) ||
			setns(options->target_pidfd, CLONE_NEWPID) == 0)) {
		pid = clone_process(0, options->cgroup, &sandbox->pidfd);
		if (pid == 0) {
			close(pair[0]);
			run_joined(options, pair[1]);
		}
		setns(own, CLONE_NEWPID);
	}
	th_close(&own);
	close(pair[1]);
	sandbox->channel = pair[0];
	if (pid < 0) {
		th_close(&sandbox->channel);
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot start a process in the container");
	}
	sandbox->pid = pid;
	if (!hear(sandbox->channel, &result, &sandbox->console)) {
		th_fail(err, TH_FAILED, "the session died while it was set up");
	} else if (result.code || hear(sandbox->channel, &result, &none)) {
		*err = result;
	} else {
		th_close(&sandbox->channel);
		return 0;
	}
	th_sandbox_abandon(sandbox);
	return -1;
}
