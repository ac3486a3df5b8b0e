/* A first process of our own: it passes signals on to the program, and takes
 * in the processes that lose their parent, which most programs never do. */
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "sandbox/inside.h"

static void tell_status(int fd, int status)
{
	if (fd >= 0 && write(fd, &status, sizeof(status)) < 0) {
		/* Nobody waits for it any more. */
	}
}

/* Takes in all that have ended. True with the program's status. */
static bool take_in(pid_t program, int *status)
{
	bool ended = false;
	int one;
	pid_t pid;

	while ((pid = waitpid(-1, &one, WNOHANG)) > 0) {
		if (pid == program) {
			*status = one;
			ended = true;
		}
	}
	return ended;
}

static void watch(pid_t program, int status_fd, const sigset_t *all)
{
	int status = 0;

	for (;;) {
		siginfo_t info;
		int number = sigwaitinfo(all, &info);

		if (number == SIGCHLD) {
			if (take_in(program, &status))
				break;
		} else if (number > 0) {
			kill(program, number);
		}
	}
	tell_status(status_fd, status);
	_exit(WIFSIGNALED(status) ? 128 + WTERMSIG(status)
				  : WEXITSTATUS(status));
}

/* The arguments that it was forked with are none of the container's business.
 */
static void rename_self(void)
{
	char text[4096];
	int fd = open("/proc/self/cmdline", O_RDONLY | O_CLOEXEC);
	ssize_t len = fd < 0 ? -1 : read(fd, text, sizeof(text));

	prctl(PR_SET_NAME, "reaper");
	if (len > 8) {
		memset(program_invocation_name, 0, (size_t)len);
		memcpy(program_invocation_name, "reaper", 6);
	}
	th_close(&fd);
}

/* Only the status pipe stays open, so that the ends of the program's streams
 * are seen. */
static void let_go(int status_fd)
{
	int null = open("/dev/null", O_RDWR | O_CLOEXEC);

	for (int i = 0; i < 3 && null >= 0; i++)
		dup2(null, i);
	if (status_fd >= 0 && status_fd != 3) {
		dup3(status_fd, 3, O_CLOEXEC);
		status_fd = 3;
	}
	syscall(SYS_close_range, status_fd >= 0 ? 4 : 3, ~0u, 0);
}

int th_inside_reaper(bool terminal, int status, struct th_error *err)
{
	sigset_t all, before;
	pid_t pid;

	if (terminal) {
		/* The terminal goes over to the program's own session. */
		signal(SIGHUP, SIG_IGN);
		ioctl(0, TIOCNOTTY);
		signal(SIGHUP, SIG_DFL);
	}
	sigfillset(&all);
	sigprocmask(SIG_SETMASK, &all, &before);
	pid = fork();
	if (pid < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot start the program below its reaper");
	if (pid > 0) {
		rename_self();
		let_go(status);
		watch(pid, status >= 0 ? 3 : -1, &all);
	}
	setsid();
	if (terminal)
		ioctl(0, TIOCSCTTY, 0);
	sigprocmask(SIG_SETMASK, &before, NULL);
	return 0;
}
