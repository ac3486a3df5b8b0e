/* The first process of a container whose program cannot be one: it passes
 * signals on to the program, and takes in the processes that lose their parent.
 *
 * A program of its own, carried inside the keeper (sandbox/reaper.c), so that
 * nothing of the keeper's memory is in it; without a C library, as it is there
 * once for each such container. Before anything else runs beside it, it has no
 * capability but the one for signals, gains none by execve, cannot be looked
 * into, and can make a dozen system calls.
 *
 *   descriptor 3: the program's wait status goes there
 *   descriptor 4: brings the program's process ID; a byte back lets it start */
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <signal.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/prctl.h>
#include <sys/syscall.h>

#include "base/architecture.h"

#define STATUS_FD 3
#define GATE_FD 4
#define NO_HANG 1 /* WNOHANG, wait(2) */
#define TRY_AGAIN (-4) /* -EINTR */

__asm__(TH_START_REAPER);

#define CALL(number, a, b, c, d)                                               \
	th_call(number, (long)(a), (long)(b), (long)(c), (long)(d))

void reaper(void);

static void end(int code)
{
	for (;;)
		CALL(SYS_exit_group, code, 0, 0, 0);
}

#define ALLOW(number)                                                          \
	BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, number, 0, 1),                     \
		BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW)

/* Whatever takes this process over can do no more than this. */
static void restrict_calls(void)
{
	static struct sock_filter filter[] = {
		BPF_STMT(BPF_LD | BPF_W | BPF_ABS,
			offsetof(struct seccomp_data, arch)),
		BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, TH_AUDIT_ARCH, 1, 0),
		BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_KILL_PROCESS),
		BPF_STMT(BPF_LD | BPF_W | BPF_ABS,
			offsetof(struct seccomp_data, nr)),
		ALLOW(SYS_rt_sigtimedwait), ALLOW(SYS_wait4), ALLOW(SYS_kill),
		ALLOW(SYS_read), ALLOW(SYS_write), ALLOW(SYS_close),
		ALLOW(SYS_rt_sigreturn), ALLOW(SYS_restart_syscall),
		ALLOW(SYS_exit), ALLOW(SYS_exit_group),
		BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_KILL_PROCESS)};
	struct sock_fprog program = {sizeof(filter) / sizeof(*filter), filter};

	CALL(SYS_prctl, PR_SET_DUMPABLE, 0, 0, 0);
	CALL(SYS_prctl, PR_SET_NO_NEW_PRIVS, 1, 0, 0);
	if (CALL(SYS_prctl, PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &program, 0))
		end(1);
}

/* The program's process ID, and the word that it may start. */
static int open_gate(void)
{
	int program = 0;
	char go = 'g';
	long got;

	do
		got = CALL(SYS_read, GATE_FD, &program, sizeof(program), 0);
	while (got == TRY_AGAIN);
	if (got != sizeof(program))
		end(1);
	CALL(SYS_write, GATE_FD, &go, 1, 0);
	CALL(SYS_close, GATE_FD, 0, 0, 0);
	return program;
}

/* Takes in all that have ended. 1 with the program's status. */
static int take_in(int program, int *status)
{
	int ended = 0, one = 0;
	long pid;

	while ((pid = CALL(SYS_wait4, -1, &one, NO_HANG, 0)) > 0) {
		if (pid == program) {
			*status = one;
			ended = 1;
		}
	}
	return ended;
}

void reaper(void)
{
	/* All signals are blocked since before the program was there; they are
	 * taken one at a time. SIGCHLDs may be merged, so that each means "look
	 * at all children". */
	uint64_t all = ~(uint64_t)0;
	int program, status = 0;

	CALL(SYS_prctl, PR_SET_NAME, "reaper", 0, 0);
	CALL(SYS_prctl, PR_SET_PDEATHSIG, SIGKILL, 0, 0);
	restrict_calls();
	program = open_gate();
	for (;;) {
		long number = CALL(
			SYS_rt_sigtimedwait, &all, NULL, NULL, sizeof(all));

		if (number == SIGCHLD) {
			if (take_in(program, &status))
				break;
		} else if (number > 0) {
			CALL(SYS_kill, program, number, 0, 0);
		}
	}
	CALL(SYS_write, STATUS_FD, &status, sizeof(status), 0);
	/* As a shell tells it: 128 and the signal, or the exit code. */
	end(status & 0x7f ? 128 + (status & 0x7f) : status >> 8 & 0xff);
}
