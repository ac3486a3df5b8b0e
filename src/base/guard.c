#include "base/guard.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"

#define DISMISSED 'x'

int th_guard_post(void (*watch)(void *owner), void *owner, int *end)
{
	sigset_t all;
	int pair[2], sys;
	pid_t pid;

	if (pipe2(pair, O_CLOEXEC))
		return -1;
	pid = fork();
	if (pid == 0) {
		/* In a session of its own no terminal stops it. */
		setsid();
		sigfillset(&all);
		sigprocmask(SIG_SETMASK, &all, NULL);
		dup2(pair[0], 1);
		syscall(SYS_close_range, 2, ~0u, 0);
		watch(owner);
		_exit(0);
	}
	sys = errno;
	close(pair[0]);
	if (pid < 0) {
		close(pair[1]);
		errno = sys;
		return -1;
	}
	*end = pair[1];
	return 0;
}

int th_guard_hears(void)
{
	char byte;
	ssize_t got;

	do
		got = read(1, &byte, 1);
	while (got < 0 && errno == EINTR);
	return got == 1 ? (unsigned char)byte : -1;
}

void th_guard_tell(int end, char byte)
{
	if (end >= 0 && write(end, &byte, 1) != 1) {
		/* It has gone, and is not needed any more. */
	}
}

void th_guard_dismiss(int *end)
{
	th_guard_tell(*end, DISMISSED);
	th_close(end);
}
