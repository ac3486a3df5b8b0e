#include "sandbox/deliver.h"

#include <fcntl.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"

/* A line of /proc/PID/status that holds a set of signals. */
static uint64_t signal_set(pid_t pid, const char *name)
{
	char path[48], *at;
	struct th_error ignored = {0}; /* then none */
	struct th_buf buf;
	uint64_t set = 0;

	snprintf(path, sizeof(path), "/proc/%d/status", (int)pid);
	th_buf_init(&buf, 65536);
	if (th_file_read(AT_FDCWD, path, &buf, &ignored) == 1) {
		at = strstr(buf.data, name);
		if (at)
			set = strtoull(at + strlen(name), NULL, 16);
	}
	th_buf_release(&buf);
	return set;
}

static bool ends_by_default(int number)
{
	switch (number) {
	case SIGCHLD:
	case SIGCONT:
	case SIGURG:
	case SIGWINCH:
	case SIGSTOP:
	case SIGTSTP:
	case SIGTTIN:
	case SIGTTOU:
		return false;
	default:
		return true;
	}
}

static bool is_heard(pid_t pid, int number)
{
	uint64_t bit = (uint64_t)1 << (number - 1);

	return (signal_set(pid, "SigCgt:") | signal_set(pid, "SigIgn:") |
		       signal_set(pid, "SigBlk:")) &
		bit;
}

int th_deliver(pid_t pid, int pidfd, bool is_first, int number)
{
	bool by_hand = is_first && number != SIGKILL &&
		ends_by_default(number) && !is_heard(pid, number);

	syscall(SYS_pidfd_send_signal, pidfd, by_hand ? SIGKILL : number, NULL,
		0);
	return by_hand ? number : 0;
}
