/* Puts the reaper (src/reaper/main.c) into the place of a container's first
 * process. It is carried along as bytes, and executed from memory that nobody
 * can change any more: what runs beside it can open its program, by
 * /proc/1/exe, but not write to it. */
#include <errno.h>
#include <fcntl.h>
#include <linux/capability.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <grp.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "sandbox/clone.h"
#include "sandbox/inside.h"

/* The program, as it was linked. */
__asm__(".section .rodata\n"
	".balign 16\n"
	"reaper_begin:\n"
	".incbin \"" TH_REAPER_FILE "\"\n"
	"reaper_end:\n"
	".previous\n");
extern const char reaper_begin[], reaper_end[];

#ifndef MFD_EXEC
#define MFD_EXEC 0x10u
#endif

static int sealed_program(void)
{
	size_t len = (uintptr_t)reaper_end - (uintptr_t)reaper_begin;
	int fd = memfd_create(
		"reaper", MFD_CLOEXEC | MFD_ALLOW_SEALING | MFD_EXEC);

	/* Before Linux 6.3 memory can be executed without being asked for. */
	if (fd < 0 && errno == EINVAL)
		fd = memfd_create("reaper", MFD_CLOEXEC | MFD_ALLOW_SEALING);
	if (fd >= 0 &&
		(th_write_all(fd, reaper_begin, len) ||
			fcntl(fd, F_ADD_SEALS,
				F_SEAL_WRITE | F_SEAL_GROW | F_SEAL_SHRINK |
					F_SEAL_SEAL)))
		th_close(&fd);
	return fd;
}

/* None but the one to signal processes of other users, and that only where the
 * container may have it: otherwise the reaper is of the program's user. The
 * bounding set counts where root executes, the ambient set where the first user
 * is not root. */
static int drop_capabilities(const struct th_process *process)
{
	const uint64_t keep = process->bounding & (uint64_t)1 << CAP_KILL;
	struct __user_cap_header_struct header = {
		_LINUX_CAPABILITY_VERSION_3, 0};
	struct __user_cap_data_struct data[2] = {{0}};

	for (int i = 0; th_capability_name(i); i++) {
		if (!(keep & (uint64_t)1 << i) &&
			prctl(PR_CAPBSET_DROP, i, 0, 0, 0) && errno != EINVAL)
			return -1;
	}
	if (!keep && setresuid(process->uid, process->uid, process->uid))
		return -1;
	data[0].effective = data[0].permitted = data[0].inheritable =
		(uint32_t)keep;
	if (syscall(SYS_capset, &header, data))
		return -1;
	if (keep)
		prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_RAISE, CAP_KILL, 0, 0);
	return prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
}

/* Only what it needs stays open, so that the ends of the program's streams
 * are seen: 3 the status, 4 the gate, 5 the program itself. */
static void place(int status, int gate, int program)
{
	int null = open("/dev/null", O_RDWR | O_CLOEXEC);
	int wanted[3] = {status, gate, program};

	for (int i = 0; i < 3 && null >= 0; i++)
		dup2(null, i);
	/* Up and out of the way of each other first. */
	for (int i = 0; i < 3; i++)
		wanted[i] = fcntl(
			wanted[i] >= 0 ? wanted[i] : null, F_DUPFD_CLOEXEC, 16);
	for (int i = 0; i < 3; i++)
		dup3(wanted[i], 3 + i, i == 2 ? O_CLOEXEC : 0);
	syscall(SYS_close_range, 6, ~0u, 0);
}

static void become_reaper(
	const struct th_process *process, int status, int gate, int program)
{
	static char name[] = "reaper";
	char *const args[] = {name, NULL}, *const env[] = {NULL};

	place(status, gate, program);
	/* Groups cannot be changed in a namespace of a single ID. */
	if (setgroups(0, NULL)) {
		/* There are none then, or they stay. */
	}
	if (drop_capabilities(process) == 0)
		execveat(5, "", args, env, AT_EMPTY_PATH);
	/* The gate closes with this process, and the program with it. */
	_exit(127);
}

/* The program waits until the reaper is what it is to be. */
static int pass_gate(int gate)
{
	int self = getpid();
	char go = 0;
	ssize_t got;

	if (write(gate, &self, sizeof(self)) != sizeof(self))
		return -1;
	do
		got = read(gate, &go, 1);
	while (got < 0 && errno == EINTR);
	return got == 1 ? 0 : -1;
}

int th_inside_reaper(const struct th_process *process, pid_t program_pid,
	int status, struct th_error *err)
{
	sigset_t all, before;
	int pair[2] = {-1, -1}, program = sealed_program();
	pid_t pid;

	if (program < 0 ||
		socketpair(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0, pair)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot prepare the container's reaper");
		th_close(&program);
		return -1;
	}
	if (process->terminal) {
		/* The terminal goes over to the program's own session. */
		signal(SIGHUP, SIG_IGN);
		ioctl(0, TIOCNOTTY);
		signal(SIGHUP, SIG_DFL);
	}
	/* Blocked before the fork, so that no signal is lost between it and the
	 * reaper's first look. */
	sigfillset(&all);
	sigprocmask(SIG_SETMASK, &all, &before);
	pid = clone_numbered(program_pid);
	if (pid > 0)
		become_reaper(process, status, pair[0], program);
	th_close(&program);
	th_close(&pair[0]);
	if (pid < 0 || pass_gate(pair[1])) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot start the program below its reaper");
		th_close(&pair[1]);
		return -1;
	}
	th_close(&pair[1]);
	setsid();
	if (process->terminal)
		ioctl(0, TIOCSCTTY, 0);
	sigprocmask(SIG_SETMASK, &before, NULL);
	return 0;
}
