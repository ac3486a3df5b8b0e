/* What the new process and its parent say to one another, over a local socket
 * that keeps the bounds of messages. For the sandbox module only. */
#ifndef TH_SANDBOX_WORDS_H
#define TH_SANDBOX_WORDS_H

#include <stdbool.h>
#include <sys/types.h>

#include "base/error.h"

enum word_kind {
	WORD_BORN, /* pid: the container's process; fd: its pidfd */
	WORD_HOOKS, /* the parent's hooks have their turn; it waits */
	WORD_READY, /* fd: the terminal's master, or none */
	WORD_FILTER, /* number: the descriptor that the filter's listener is
			to become; it waits until that is taken */
	WORD_FAILED
};

struct word {
	enum word_kind kind;
	pid_t pid;
	int number;
	struct th_error error;
};

/* Sends data, whole or not at all, with a descriptor (-1: none). */
bool word_send(int socket, const void *data, size_t len, int fd);
/* fd -1: none. */
void word_tell(int channel, const struct word *word, int fd);
/* Tells a failure, or nothing where there is none. */
void word_fail(int channel, const struct th_error *error);
/* True with a word; *fd is the caller's, or -1. False at the end. */
bool word_hear(int channel, struct word *word, int *fd);

/* The parent lets the process go on, and says who it is to the host. */
bool word_go(int channel, pid_t pid);
/* Waits for that; false at the end of the channel. */
bool word_await(int channel, pid_t *pid);

#endif
