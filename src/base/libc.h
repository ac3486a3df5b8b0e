/* What C libraries do not have in common: all of it stands here. */
#ifndef TH_BASE_LIBC_H
#define TH_BASE_LIBC_H

#include <malloc.h>
#include <sys/mount.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#ifdef __GLIBC__

#include <sys/pidfd.h>

typedef __rlimit_resource_t th_rlimit_kind;

/* One heap for all threads: keepers are many. */
static inline void th_libc_one_heap(void)
{
	mallopt(M_ARENA_MAX, 1);
}

#else

#include <linux/mount.h>
#include <pthread.h>
#include <signal.h>
#include <stddef.h>
#include <stdint.h>
#include <time.h>

typedef int th_rlimit_kind;

static inline void th_libc_one_heap(void)
{
}

static inline int malloc_trim(size_t pad)
{
	(void)pad;
	return 0;
}

/* By the clock that they have for it, which may be set meanwhile. */
static inline int pthread_clockjoin_np(pthread_t thread, void **result,
	clockid_t clock, const struct timespec *until)
{
	struct timespec now, real;
	int64_t left_ns;

	clock_gettime(clock, &now);
	clock_gettime(CLOCK_REALTIME, &real);
	left_ns = (until->tv_sec - now.tv_sec) * 1000000000LL + until->tv_nsec -
		now.tv_nsec;
	left_ns = (left_ns > 0 ? left_ns : 0) + real.tv_nsec;
	real.tv_sec += (time_t)(left_ns / 1000000000);
	real.tv_nsec = (long)(left_ns % 1000000000);
	return pthread_timedjoin_np(thread, result, &real);
}

/* "TERM"; NULL for a number that has none. */
static inline const char *sigabbrev_np(int number)
{
	static const char *const names[] = {[SIGHUP] = "HUP",
		[SIGINT] = "INT",
		[SIGQUIT] = "QUIT",
		[SIGILL] = "ILL",
		[SIGTRAP] = "TRAP",
		[SIGABRT] = "ABRT",
		[SIGBUS] = "BUS",
		[SIGFPE] = "FPE",
		[SIGKILL] = "KILL",
		[SIGUSR1] = "USR1",
		[SIGSEGV] = "SEGV",
		[SIGUSR2] = "USR2",
		[SIGPIPE] = "PIPE",
		[SIGALRM] = "ALRM",
		[SIGTERM] = "TERM",
		[SIGSTKFLT] = "STKFLT",
		[SIGCHLD] = "CHLD",
		[SIGCONT] = "CONT",
		[SIGSTOP] = "STOP",
		[SIGTSTP] = "TSTP",
		[SIGTTIN] = "TTIN",
		[SIGTTOU] = "TTOU",
		[SIGURG] = "URG",
		[SIGXCPU] = "XCPU",
		[SIGXFSZ] = "XFSZ",
		[SIGVTALRM] = "VTALRM",
		[SIGPROF] = "PROF",
		[SIGWINCH] = "WINCH",
		[SIGIO] = "POLL",
		[SIGPWR] = "PWR",
		[SIGSYS] = "SYS"};

	return number > 0 && number < (int)(sizeof(names) / sizeof(*names))
		? names[number]
		: NULL;
}

/* System calls that others have functions for. */

static inline int fsopen(const char *type, unsigned int flags)
{
	return (int)syscall(SYS_fsopen, type, flags);
}

static inline int fsconfig(
	int fd, unsigned int what, const char *key, const void *value, int aux)
{
	return (int)syscall(SYS_fsconfig, fd, what, key, value, aux);
}

static inline int fsmount(int fd, unsigned int flags, unsigned int attributes)
{
	return (int)syscall(SYS_fsmount, fd, flags, attributes);
}

static inline int move_mount(int from, const char *path, int to,
	const char *target, unsigned int flags)
{
	return (int)syscall(SYS_move_mount, from, path, to, target, flags);
}

static inline int open_tree(int fd, const char *path, unsigned int flags)
{
	return (int)syscall(SYS_open_tree, fd, path, flags);
}

static inline int mount_setattr(int fd, const char *path, unsigned int flags,
	struct mount_attr *attr, size_t size)
{
	return (int)syscall(SYS_mount_setattr, fd, path, flags, attr, size);
}

static inline int close_range(unsigned int first, unsigned int last, int flags)
{
	return (int)syscall(SYS_close_range, first, last, flags);
}

static inline int execveat(int fd, const char *path, char *const args[],
	char *const env[], int flags)
{
	return (int)syscall(SYS_execveat, fd, path, args, env, flags);
}

static inline int pidfd_open(pid_t pid, unsigned int flags)
{
	return (int)syscall(SYS_pidfd_open, pid, flags);
}

static inline int pidfd_send_signal(
	int fd, int number, siginfo_t *info, unsigned int flags)
{
	return (int)syscall(SYS_pidfd_send_signal, fd, number, info, flags);
}

#endif

#endif
