/* Sessions: further processes in the namespaces of a container.
 *
 * A helper does all that takes power: it enters the namespaces, opens the
 * terminal, and becomes what the container's processes may be, before it gives
 * birth to the session, as its own sibling, in the container's PID namespace.
 * So whatever runs inside never sees a process that can do more than itself:
 * the helper has no number there. And since a container may stop what it sees
 * (SIGSTOP), nothing is waited for without a deadline. */
#include <errno.h>
#include <fcntl.h>
#include <linux/close_range.h>
#include <sched.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/inherit.h"
#include "sandbox/child.h"
#include "sandbox/clone.h"
#include "sandbox/inside.h"
#include "sandbox/message.h"

/* How long a session may take from its birth to its program. */
#define START_MS 3000
/* How long the helper may: it may have to wait for a disk. */
#define HELPER_MS 10000

/* Where the session's descriptors lie, and those that the helper has besides.
 */
#define CHANNEL 3
#define PROGRAM 4
#define OWN 5

static int enter(const struct th_join_options *options, struct th_error *err)
{
	int others = options->namespaces & ~CLONE_NEWPID;

	/* The PID namespace counts for children only. */
	if ((options->namespaces & CLONE_NEWPID &&
		    setns(options->target_pidfd, CLONE_NEWPID)) ||
		(others && setns(options->target_pidfd, others)))
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot enter the container");
	if (options->namespaces & CLONE_NEWUSER &&
		(setresgid(0, 0, 0) || setresuid(0, 0, 0))) {
		/* One without root: its capabilities are enough. */
	}
	/* A change of IDs makes a process readable to others again. */
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	return 0;
}

/* The channel, the program and the helper's own socket take fixed places;
 * nothing else of the keeper stays open. */
static void place(const struct th_join_options *options, int channel, int own)
{
	int program = options->program >= 0
		? fcntl(options->program, F_DUPFD_CLOEXEC, 16)
		: -1;

	channel = fcntl(channel, F_DUPFD_CLOEXEC, 16);
	own = fcntl(own, F_DUPFD_CLOEXEC, 16);
	dup3(channel, CHANNEL, O_CLOEXEC);
	if (program >= 0)
		dup3(program, PROGRAM, O_CLOEXEC);
	else
		close(PROGRAM);
	dup3(own, OWN, O_CLOEXEC);
	syscall(SYS_close_range, OWN + 1, ~0u, 0);
}

/* What becomes of the process that is seen inside: only its own session and
 * the program are left to do. */
static void run_session(const struct th_join_options *options)
{
	const struct th_process *process = options->process;
	struct th_error error = {0};

	close(OWN);
	setsid();
	if (!process->terminal || th_inside_take_terminal(&error) == 0) {
		/* A lent program is static: nothing is opened by its name. */
		if (options->program >= 0)
			th_inside_exec_given(process, PROGRAM, &error);
		else
			th_inside_exec(process, &error);
	}
	setup_fail(CHANNEL, &error);
	_exit(1);
}

/* clone and not clone3: the container's filter, which holds already, lets
 * through what it can look into. */
static pid_t give_birth(int *pidfd)
{
	return (pid_t)syscall(
		SYS_clone, CLONE_PARENT | CLONE_PIDFD, NULL, pidfd, NULL, NULL);
}

static void run_helper(
	const struct th_join_options *options, int channel, int own)
{
	const struct th_process *process = options->process;
	struct th_inside_filter filter = {
		.program = options->filter, .flags = options->filter_flags};
	struct setup_message born = {.kind = SETUP_BORN};
	struct setup_message ready = {.kind = SETUP_READY};
	struct th_error error = {0};
	int console = -1, pidfd = -1;

	th_inherit_no_signals();
	/* What it starts must not escape the groups. */
	if (th_inside_score(process, &error) ||
		(options->cgroup &&
			th_cgroup_enter_old(options->cgroup, &error)) ||
		(!process->terminal &&
			child_place_streams(options->stdio, &error)) ||
		enter(options, &error) ||
		(process->terminal &&
			th_inside_terminal(&console, false, &error)))
		goto fail;
	if (console >= 0)
		setup_tell(own, &ready, console);
	place(options, channel, own);
	own = OWN;
	if (th_inside_identity(process, &filter, &error))
		goto fail;
	born.pid = give_birth(&pidfd);
	if (born.pid == 0)
		run_session(options);
	if (born.pid > 0) {
		setup_tell(own, &born, pidfd);
		_exit(0);
	}
	th_fail_sys(&error, TH_FAILED, errno,
		"cannot start a process in the container");
fail:
	setup_fail(own, &error);
	_exit(1);
}

static int64_t deadline(int after_ms)
{
	return th_clock_mono_ms() + after_ms;
}

static void end_helper(struct th_joining *joining, bool kill_it)
{
	if (joining->helper <= 0)
		return;
	if (kill_it)
		syscall(SYS_pidfd_send_signal, joining->helper_fd, SIGKILL,
			NULL, 0);
	while (waitpid(joining->helper, NULL, __WALL) < 0 && errno == EINTR)
		;
	joining->helper = 0;
	th_close(&joining->helper_fd);
	th_close(&joining->own);
}

int th_join_begin(const struct th_join_options *options,
	struct th_joining *joining, struct th_error *err)
{
	int group = options->cgroup ? options->cgroup->fd : -1;
	int pair[2] = {-1, -1}, own[2] = {-1, -1};

	memset(joining, 0, sizeof(*joining));
	joining->own = joining->helper_fd = -1;
	joining->made.pidfd = joining->made.channel = -1;
	joining->made.console = joining->made.status = -1;
	/* Two, as the session may speak before the helper does. The session
	 * holds the only other end of the first, close-on-exec: its end is the
	 * proof that the program runs. */
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair) ||
		socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, own)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot create a channel to the session");
		th_close(&pair[0]);
		th_close(&pair[1]);
		return -1;
	}
	joining->made.channel = pair[0];
	joining->own = own[0];
	joining->until_ms = deadline(HELPER_MS);
	joining->helper = clone_process(0, group, 0, &joining->helper_fd);
	if (joining->helper == 0) {
		close(pair[0]);
		close(own[0]);
		run_helper(options, pair[1], own[1]);
	}
	/* The end of either channel must be seen. */
	th_close(&pair[1]);
	th_close(&own[1]);
	if (joining->helper > 0)
		return 0;
	th_fail_sys(err, TH_FAILED, errno,
		"cannot start a process in the container");
	th_join_abandon(joining);
	return -1;
}

int th_join_fd(const struct th_joining *joining)
{
	return joining->helper > 0 ? joining->own : joining->made.channel;
}

/* What the helper has to say: the terminal, the session. */
static int hear_helper(struct th_joining *joining, struct th_error *err)
{
	struct setup_message message;
	int fd;

	if (!setup_comes(joining->own, 0))
		return th_clock_mono_ms() < joining->until_ms
			? 0
			: th_fail(err, TH_FAILED,
				  "the session took too long to be set up");
	if (!setup_hear(joining->own, &message, &fd))
		return th_fail(
			err, TH_FAILED, "the session died while it was set up");
	if (message.kind == SETUP_FAILED) {
		*err = message.error;
		return -1;
	}
	if (message.kind == SETUP_READY) {
		joining->made.console = fd;
		return 0;
	}
	joining->made.pid = message.pid;
	joining->made.pidfd = fd;
	joining->until_ms = deadline(START_MS);
	end_helper(joining, false);
	return 0;
}

/* The end of the channel: the program has taken over. */
static int hear_session(struct th_joining *joining, struct th_error *err)
{
	struct setup_message message;
	int none = -1;

	if (!setup_comes(joining->made.channel, 0))
		return th_clock_mono_ms() < joining->until_ms
			? 0
			: th_fail(err, TH_FAILED,
				  "the session was held up inside the "
				  "container "
				  "before its program began, and was ended");
	if (!setup_hear(joining->made.channel, &message, &none))
		return 1;
	th_close(&none);
	*err = message.error;
	return -1;
}

int th_join_step(struct th_joining *joining, struct th_sandbox *sandbox,
	struct th_error *err)
{
	int rc = joining->helper > 0 ? hear_helper(joining, err)
				     : hear_session(joining, err);

	if (rc < 0)
		th_join_abandon(joining);
	if (rc > 0) {
		th_close(&joining->made.channel);
		*sandbox = joining->made;
	}
	return rc;
}

void th_join_abandon(struct th_joining *joining)
{
	end_helper(joining, true);
	th_close(&joining->own);
	th_sandbox_abandon(&joining->made);
}
