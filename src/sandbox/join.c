/* Sessions: further processes in the namespaces of a container. */
#include <errno.h>
#include <fcntl.h>
#include <linux/close_range.h>
#include <sched.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "sandbox/child.h"
#include "sandbox/clone.h"
#include "sandbox/idmap.h"
#include "sandbox/inside.h"
#include "sandbox/words.h"

static void run_joined(const struct th_join_options *options, int channel)
{
	const struct th_process *process = options->process;
	struct th_inside_filter filter = {
		.program = options->filter, .flags = options->filter_flags};
	struct word ready = {.kind = WORD_READY};
	struct th_error error = {0};
	pid_t self;
	int console = -1;

	setsid();
	child_reset_signals();
	/* What it starts must not escape the groups that it is put into. */
	if (options->cgroup && options->cgroup->v1_count &&
		!word_await(channel, &self))
		_exit(1);
	if (!process->terminal && child_place_streams(options->stdio, &error))
		goto fail;
	if (setns(options->target_pidfd, options->namespaces & ~CLONE_NEWPID)) {
		th_fail_sys(
			&error, TH_FAILED, errno, "cannot enter the container");
		goto fail;
	}
	if (options->namespaces & CLONE_NEWUSER) {
		/* Root of its user namespace from here on. */
		if (setresgid(0, 0, 0) || setresuid(0, 0, 0)) {
			/* One without root: its capabilities are enough. */
		}
		prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	}
	if (process->terminal && th_inside_terminal(&console, false, &error))
		goto fail;
	word_tell(channel, &ready, console);
	th_close(&console);
	if (channel != 3) {
		dup3(channel, 3, O_CLOEXEC);
		channel = 3;
	}
	if (options->program >= 0) {
		/* A static one: nothing is opened by its name any more. */
		dup3(options->program, 4, O_CLOEXEC);
		syscall(SYS_close_range, 5, ~0u, 0);
		if (th_inside_identity(process, &filter, &error) == 0)
			th_inside_exec_given(process, 4, &error);
	} else {
		syscall(SYS_close_range, 4, ~0u, 0);
		if (th_inside_identity(process, &filter, &error) == 0)
			th_inside_exec(process, &error);
	}
fail:
	word_fail(channel, &error);
	_exit(1);
}

/* The PID namespace counts for children only, so this process borrows it for
 * the moment of the clone. */
static pid_t birth(const struct th_join_options *options, int group,
	int pair[2], int *pidfd)
{
	int own = open("/proc/self/ns/pid", O_RDONLY | O_CLOEXEC);
	pid_t pid = -1;

	if (own >= 0 &&
		(!(options->namespaces & CLONE_NEWPID) ||
			setns(options->target_pidfd, CLONE_NEWPID) == 0)) {
		pid = clone_process(0, group, 0, pidfd);
		if (pid == 0) {
			close(pair[0]);
			run_joined(options, pair[1]);
		}
		setns(own, CLONE_NEWPID);
	}
	th_close(&own);
	return pid;
}

/* An ordinary user could not come back from it: a helper goes in, and gives
 * birth to the session as its own sibling. */
static pid_t birth_by_helper(const struct th_join_options *options, int group,
	int pair[2], int *pidfd)
{
	struct word born = {.kind = WORD_BORN}, heard = {0};
	int helper_fd = -1, made = -1, own[2];
	pid_t helper;

	/* A channel of its own: the session may speak before the helper does.
	 */
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, own))
		return -1;
	helper = clone_process(0, -1, 0, &helper_fd);
	if (helper == 0) {
		if (setns(options->target_pidfd,
			    options->namespaces & CLONE_NEWPID) == 0 ||
			!(options->namespaces & CLONE_NEWPID))
			born.pid = clone_process(0, group, CLONE_PARENT, &made);
		else
			born.pid = -1;
		if (born.pid == 0) {
			close(pair[0]);
			run_joined(options, pair[1]);
		}
		word_tell(own[1], &born, made);
		_exit(0);
	}
	close(own[1]);
	if (helper < 0 || !word_hear(own[0], &heard, pidfd) ||
		heard.kind != WORD_BORN)
		heard.pid = -1;
	close(own[0]);
	if (helper < 0)
		return -1;
	while (waitpid(helper, NULL, 0) < 0 && errno == EINTR)
		;
	th_close(&helper_fd);
	return heard.pid;
}

int th_sandbox_join(const struct th_join_options *options,
	struct th_sandbox *sandbox, struct th_error *err)
{
	int group = options->cgroup ? options->cgroup->fd : -1;
	struct word word = {0};
	int pair[2], none = -1;
	pid_t pid = -1;

	memset(sandbox, 0, sizeof(*sandbox));
	sandbox->pidfd = sandbox->channel = -1;
	sandbox->console = sandbox->status = -1;
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot make a channel to the session");
	pid = th_idmap_is_own()
		? birth_by_helper(options, group, pair, &sandbox->pidfd)
		: birth(options, group, pair, &sandbox->pidfd);
	close(pair[1]);
	sandbox->channel = pair[0];
	if (pid < 0) {
		th_close(&sandbox->channel);
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot start a process in the container");
	}
	sandbox->pid = pid;
	if (options->cgroup && options->cgroup->v1_count &&
		(th_cgroup_attach(options->cgroup, pid, false, err) ||
			!word_go(sandbox->channel, pid))) {
		th_fail(err, TH_FAILED, "the session died while it was set up");
		th_sandbox_abandon(sandbox);
		return -1;
	}
	if (!word_hear(sandbox->channel, &word, &sandbox->console))
		th_fail(err, TH_FAILED, "the session died while it was set up");
	else if (word.kind == WORD_FAILED ||
		word_hear(sandbox->channel, &word, &none))
		*err = word.error;
	else
		th_close(&sandbox->channel);
	th_close(&none);
	if (!err->code)
		return 0;
	th_sandbox_abandon(sandbox);
	return -1;
}
