/* Signals to the program, and the stop with its grace period. */
#include <fcntl.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "keeper/keeper.h"
#include "sandbox/deliver.h"
#include "sandbox/rights.h"

/* The process of the program below its reaper: the oldest child, which the
 * kernel lists first. A descriptor of it, or -1. */
static int open_program(pid_t reaper)
{
	struct th_error ignored = {0}; /* then it is none */
	char path[64], parent[32];
	struct th_buf text;
	pid_t pid = 0;
	int fd = -1;

	snprintf(path, sizeof(path), "/proc/%d/task/%d/children", (int)reaper,
		(int)reaper);
	th_buf_init(&text, 1 << 20);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) == 1 && text.len)
		pid = (pid_t)strtol(text.data, NULL, 10);
	th_buf_release(&text);
	if (pid > 0)
		fd = (int)syscall(SYS_pidfd_open, pid, 0);
	if (fd < 0)
		return -1;
	/* The number may have been another's by then. */
	snprintf(path, sizeof(path), "/proc/%d/status", (int)pid);
	snprintf(parent, sizeof(parent), "\nPPid:\t%d\n", (int)reaper);
	th_error_clear(&ignored);
	th_buf_init(&text, 65536);
	if (th_file_read(AT_FDCWD, path, &text, &ignored) != 1 ||
		!strstr(text.data, parent))
		th_close(&fd);
	th_buf_release(&text);
	return fd;
}

/* The reaper hears all signals but the two that nobody hears: it is not the one
 * to be stopped. */
static void stop_program(const struct keeper *keeper)
{
	int fd = open_program(keeper->sandbox.pid);

	if (fd >= 0)
		syscall(SYS_pidfd_send_signal, fd, SIGSTOP, NULL, 0);
	th_close(&fd);
}

void keeper_signal(struct keeper *keeper, int number)
{
	/* A reaper hears all of them, and the program below it is no first
	 * process. */
	bool is_first = !keeper->options.reaper &&
		keeper->bundle.namespaces & CLONE_NEWPID;
	int instead;

	if (!keeper_runs(keeper))
		return;
	if (keeper->options.reaper && number == SIGSTOP) {
		stop_program(keeper);
		return;
	}
	instead = th_deliver(
		keeper->sandbox.pid, keeper->sandbox.pidfd, is_first, number);
	if (instead)
		keeper->stopping.stands_for = instead;
}

void keeper_send_signal(
	struct keeper *keeper, int number, bool holds, const char *actor)
{
	struct stopping *stopping = &keeper->stopping;

	stopping->sent = number;
	stopping->sent_holds = holds;
	stopping->sent_ms = th_clock_mono_ms();
	snprintf(stopping->sent_by, sizeof(stopping->sent_by), "%s", actor);
	keeper_signal(keeper, number);
}

void keeper_begin_stop(struct keeper *keeper, int number, int64_t grace_ms,
	const struct th_cause *cause, const char *actor)
{
	struct stopping *stopping = &keeper->stopping;

	if (!stopping->asked) {
		stopping->cause = *cause;
		snprintf(stopping->actor, sizeof(stopping->actor), "%s", actor);
		if (!stopping->once_more && !stopping->ailing)
			keeper_notify_stopping(keeper);
	}
	stopping->asked = true;
	stopping->force_ms = th_clock_mono_ms() + grace_ms;
	if (keeper->state == STATE_RUNNING)
		keeper_enter(keeper, STATE_STOPPING);
	keeper_signal(keeper, number);
	/* The signal waits for it when it wakes up. */
	keeper_thaw(keeper);
}

void keeper_force(struct keeper *keeper)
{
	keeper->stopping.by_force = true;
	syscall(SYS_pidfd_send_signal, keeper->sandbox.pidfd, SIGKILL, NULL, 0);
}

void keeper_forget_stop(struct keeper *keeper)
{
	memset(&keeper->stopping, 0, sizeof(keeper->stopping));
}

void keeper_end_bound(struct keeper *keeper)
{
	th_rights_raise();
	keeper_begin_stop(keeper, SIGKILL, 0,
		&(struct th_cause){.kind = TH_CAUSE_COMMAND_GONE}, "keeper");
	th_rights_rest();
}
