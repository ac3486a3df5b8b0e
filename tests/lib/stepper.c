#include "lib/stepper.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <sys/ptrace.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#define OPTIONS                                                                \
	(PTRACE_O_TRACESYSGOOD | PTRACE_O_TRACEFORK | PTRACE_O_TRACEVFORK |    \
		PTRACE_O_TRACECLONE | PTRACE_O_TRACEEXEC)

struct walk {
	const struct step *step;
	long count;
	bool hit;
	pid_t refused; /* its call is on the way, and will have failed */
};

static bool is_program(pid_t pid, const char *name)
{
	char path[64], comm[64] = "";
	FILE *file;

	snprintf(path, sizeof(path), "/proc/%d/comm", (int)pid);
	file = fopen(path, "re");
	if (file && fgets(comm, sizeof(comm), file))
		comm[strcspn(comm, "\n")] = '\0';
	if (file)
		fclose(file);
	return strncmp(comm, name, 15) == 0;
}

static bool is_file(pid_t pid, uint64_t fd)
{
	char path[64];
	struct stat st;

	/* Its own output is no part of what it does. */
	snprintf(path, sizeof(path), "/proc/%d/fd/%d", (int)pid, (int)fd);
	return fd > 2 && stat(path, &st) == 0 && S_ISREG(st.st_mode);
}

static bool changes(pid_t pid, const struct __ptrace_syscall_info *info)
{
	const uint64_t *args = info->entry.args;

	switch (info->entry.nr) {
	case SYS_openat:
		return (args[2] & (O_CREAT | O_TRUNC)) != 0;
	case SYS_write:
	case SYS_pwrite64:
		return is_file(pid, args[0]);
	case SYS_mkdirat:
	case SYS_renameat2:
	case SYS_unlinkat:
	case SYS_linkat:
	case SYS_symlinkat:
	case SYS_fchmod:
	case SYS_fchown:
	case SYS_fchmodat:
	case SYS_fchownat:
	case SYS_ftruncate:
	case SYS_fsync:
	case SYS_fdatasync:
	case SYS_syncfs:
	case SYS_sendto:
	case SYS_sendmsg:
	case SYS_bind:
	case SYS_mount:
	case SYS_umount2:
	case SYS_move_mount:
	case SYS_fsmount:
	case SYS_unshare:
	case SYS_setns:
	case SYS_clone:
	case SYS_clone3:
#ifdef SYS_renameat
	case SYS_renameat:
#endif
#ifdef SYS_mkdir
	case SYS_mkdir:
	case SYS_rename:
	case SYS_unlink:
	case SYS_rmdir:
	case SYS_fork:
	case SYS_vfork:
#endif
		return true;
	default:
		return false;
	}
}

/* The number of a call that there is not: nothing happens. */
static bool refuse(pid_t pid)
{
#ifdef __x86_64__
	struct user_regs_struct regs;

	if (ptrace(PTRACE_GETREGS, pid, NULL, &regs))
		return false;
	regs.orig_rax = (unsigned long long)-1;
	return ptrace(PTRACE_SETREGS, pid, NULL, &regs) == 0;
#else
	(void)pid;
	return false;
#endif
}

static void answer(pid_t pid, int error)
{
#ifdef __x86_64__
	struct user_regs_struct regs;

	if (ptrace(PTRACE_GETREGS, pid, NULL, &regs))
		return;
	regs.rax = (unsigned long long)-error;
	ptrace(PTRACE_SETREGS, pid, NULL, &regs);
#else
	(void)pid;
	(void)error;
#endif
}

static void look_at_call(struct walk *walk, pid_t pid)
{
	struct __ptrace_syscall_info info;

	if (ptrace(PTRACE_GET_SYSCALL_INFO, pid, sizeof(info), &info) <= 0)
		return;
	if (info.op == PTRACE_SYSCALL_INFO_EXIT && pid == walk->refused) {
		answer(pid, walk->step->error);
		walk->refused = 0;
	}
	if (info.op != PTRACE_SYSCALL_INFO_ENTRY || walk->hit ||
		!changes(pid, &info) || !is_program(pid, walk->step->program) ||
		walk->count++ != walk->step->number)
		return;
	walk->hit = true;
	if (!walk->step->error)
		kill(pid, SIGKILL);
	else if (refuse(pid))
		walk->refused = pid;
}

static void look_at_stop(struct walk *walk, pid_t pid, int status)
{
	int number = WSTOPSIG(status), event = status >> 16;

	if (number == (SIGTRAP | 0x80)) {
		look_at_call(walk, pid);
		number = 0;
	} else if (event == PTRACE_EVENT_STOP && number != SIGTRAP) {
		/* Stopped by a signal, and it stays so. */
		ptrace(PTRACE_LISTEN, pid, NULL, NULL);
		return;
	} else if (event) {
		number = 0;
	}
	ptrace(PTRACE_SYSCALL, pid, NULL, (void *)(intptr_t)number);
}

/* In a process of its own: it is told of no other's children, and whatever it
 * follows goes on alone when it ends. */
static int walk_along(pid_t child, int go, struct walk *walk)
{
	int status = 0;
	pid_t pid;

	if (ptrace(PTRACE_SEIZE, child, NULL, (void *)OPTIONS) ||
		ptrace(PTRACE_INTERRUPT, child, NULL, NULL))
		return 1;
	close(go);
	while ((pid = waitpid(-1, &status, __WALL)) > 0 || errno == EINTR) {
		if (pid < 0)
			continue;
		if (WIFSTOPPED(status))
			look_at_stop(walk, pid, status);
		else if (pid == child)
			return 0;
	}
	return 1;
}

int step_through(pid_t child, int go, const struct step *step, bool *hit)
{
	struct walk walk = {.step = step};
	int status = 0, told = 0;
	pid_t tracer = fork();

	if (tracer == 0) {
		told = walk_along(child, go, &walk);
		_exit(told ? 2 : walk.hit);
	}
	close(go);
	while (waitpid(tracer, &told, 0) < 0 && errno == EINTR)
		;
	while (waitpid(child, &status, 0) < 0 && errno == EINTR)
		;
	*hit = WIFEXITED(told) && WEXITSTATUS(told) == 1;
	if (!WIFEXITED(told) || WEXITSTATUS(told) == 2)
		return 99;
	return WIFSIGNALED(status) ? 128 + WTERMSIG(status)
				   : WEXITSTATUS(status);
}
