/* What the new process and its parent say to one another, over a local socket
 * that keeps the bounds of messages. For the sandbox module only. */
#ifndef TH_SANDBOX_MESSAGE_H
#define TH_SANDBOX_MESSAGE_H

#include <stdbool.h>
#include <sys/types.h>

#include "base/error.h"

enum setup_kind {
	SETUP_BORN, /* pid: the container's process; fd: its pidfd */
	SETUP_HOOKS, /* the parent's hooks have their turn; it waits */
	SETUP_READY, /* fd: the terminal's master, or none */
	SETUP_FILTER, /* number: the descriptor that the filter's listener is
			to become; it waits until that is taken */
	SETUP_FAILED
};

struct setup_message {
	enum setup_kind kind;
	pid_t pid;
	int number;
	struct th_error error;
};

/* Sends data, whole or not at all, with a descriptor (-1: none). */
bool setup_send(int socket, const void *data, size_t len, int fd);
/* fd -1: none. */
void setup_tell(int channel, const struct setup_message *message, int fd);
/* Tells a failure, or nothing where there is none. */
void setup_fail(int channel, const struct th_error *error);
/* True where a message or the end comes within the time. */
bool setup_comes(int channel, int timeout_ms);
/* True with a message; *fd is the caller's, or -1. False at the end. */
bool setup_hear(int channel, struct setup_message *message, int *fd);

/* The parent lets the process go on, and says who it is to the host. */
bool setup_go(int channel, pid_t pid);
/* Waits for that; false at the end of the channel. */
bool setup_await(int channel, pid_t *pid);

#endif
