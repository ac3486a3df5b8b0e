#include "sandbox/clone.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/sched.h>
#include <sched.h>
#include <signal.h>
#include <stdint.h>
#include <sys/syscall.h>
#include <unistd.h>

pid_t clone_process(int namespaces, int cgroup, int further, int *pidfd)
{
	struct clone_args args = {0};
	pid_t pid;

	args.flags =
		(uint64_t)(unsigned int)(namespaces | further) | CLONE_PIDFD;
	args.pidfd = (uint64_t)(uintptr_t)pidfd;
	/* A sibling sends what its parent would. */
	args.exit_signal = further & CLONE_PARENT ? 0 : SIGCHLD;
	if (cgroup >= 0) {
		args.flags |= CLONE_INTO_CGROUP;
		args.cgroup = (uint64_t)(unsigned int)cgroup;
	}
	pid = (pid_t)syscall(SYS_clone3, &args, sizeof(args));
	if (pid > 0)
		fcntl(*pidfd, F_SETFD, FD_CLOEXEC);
	return pid;
}

pid_t clone_numbered(pid_t number)
{
	struct clone_args args = {0};

	if (number == 0)
		return fork();
	args.exit_signal = SIGCHLD;
	args.set_tid = (uint64_t)(uintptr_t)&number;
	args.set_tid_size = 1;
	return (pid_t)syscall(SYS_clone3, &args, sizeof(args));
}
