/* What commands and a keeper say to one another: messages over a local
 * socket that keeps their bounds (SOCK_SEQPACKET). */
#ifndef TH_IPC_CHANNEL_H
#define TH_IPC_CHANNEL_H

#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"

#define TH_CHANNEL_VERSION 3
#define TH_CHANNEL_PAYLOAD (64 * 1024)
#define TH_CHANNEL_REQUEST (4u << 20) /* all parts of a request */
#define TH_CHANNEL_FDS 4 /* three streams, and a program of the caller's */

/* The numbers are for ever; what each message says is in ipc/words.h, what it
 * asks for is JSON, too. */
enum th_message_type {
	/* command -> keeper */
	TH_SAY_INPUT = 1, /* bytes for the program's standard input */
	TH_SAY_INPUT_END = 2,
	TH_SAY_RESIZE = 3, /* {"rows": n, "columns": n} */
	TH_SAY_SIGNAL = 4, /* {"signal": n, "actor": "..."} */
	TH_SAY_STOP = 5, /* {"signal": n, "grace-ms": n, "actor": "..."} */
	TH_SAY_EXEC = 6, /* a session, with its three streams */
	TH_SAY_PAUSE = 7, /* {"actor": "..."} */
	TH_SAY_RESUME = 8,
	TH_SAY_ADJUST = 9, /* {"resources": {...}, "limit": "...", "actor"} */
	TH_SAY_RELOAD = 10, /* the state has another policy or probe for it */
	TH_SAY_ATTACH = 11, /* as RESIZE; from now on as after the start */
	TH_SAY_LEAVE = 12, /* it goes, and its input is not at its end */
	TH_SAY_RESTART = 13, /* as stop; and then it is started again */
	TH_SAY_START = 14, /* {"actor": "..."}: do not wait any longer */
	TH_SAY_WAIT = 15, /* {"until": "end" or "ready", "session": "..."} */
	TH_SAY_SESSION_SIGNAL = 16, /* {"session", "signal", "actor"} */
	TH_SAY_ROOT = 17, /* its root folder is wanted */
	TH_SAY_NETWORK = 18, /* its network namespace is wanted */
	TH_SAY_PART =
		19, /* a session's beginning, where it is too long for one */
	TH_SAY_RECORD =
		20, /* the log is to have what the program has written */
	/* Its ports are wanted for the container that takes its place; and the
	 * same messages as an answer, and to the keeper of that one: up to
	 * TH_CHANNEL_FDS sockets and what they listen at; none at the end. */
	TH_SAY_PORTS = 21,
	/* The state was lost and is made anew: it is to be told again. */
	TH_SAY_TAKE_UP = 22,
	TH_SAY_STATE = 23, /* what is true of it, whatever the state says */
	/* keeper -> command */
	TH_TELL_STARTED = 100, /* nothing, or an error that is a warning */
	TH_TELL_FAILED = 101, /* an error */
	TH_TELL_OUT = 102, /* bytes of the program's standard output */
	TH_TELL_ERR = 103,
	TH_TELL_ENDED = 104, /* an ending */
	TH_TELL_SESSION = 105, /* a session runs; with its terminal if any */
	TH_TELL_DONE = 106, /* a request was carried out */
	TH_TELL_PLACE = 107, /* "FILE BYTES" of the log: what came before stands
				there */
	/* A descriptor of it comes along; the number of its user ID 0. */
	TH_TELL_ROOT = 108,
	TH_TELL_AGAIN = 109, /* an ending; it starts again */
	TH_TELL_NETWORK = 110, /* a descriptor of it comes along */
	TH_TELL_PORTS = 111, /* see TH_SAY_PORTS */
	TH_TELL_STATE = 112 /* as the file of container/outcome.h, or {} */
};

struct th_size {
	uint16_t rows, columns;
};

/* How the program, or a session, ended. */
struct th_ending {
	int32_t outcome; /* enum th_outcome */
	int32_t code;
	int32_t by_force; /* a stop needed the hard kill */
	int32_t sessions; /* so many sessions ended with it */
	int32_t wait_ms; /* of TH_TELL_AGAIN: until the next try */
};

struct th_message {
	uint16_t version;
	uint16_t type;
	uint32_t len;
	char data[TH_CHANNEL_PAYLOAD + 1]; /* a NUL stands behind what came */
};

/* Sends one message, with up to TH_CHANNEL_FDS descriptors; -1 with errno
 * (EAGAIN where the socket does not block and is full, EPIPE at the end). */
int th_channel_send(int fd, enum th_message_type type, const void *data,
	size_t len, const int *fds, int fd_count);

/* True for what is understood across versions (ipc/words.h). */
bool th_channel_is_frozen(unsigned int type);

/* Receives one message. Descriptors that came with it go to fds (at most
 * TH_CHANNEL_FDS, the caller's to close; -1 for the rest). Returns 1, 0 at
 * the end, -1 (errno EAGAIN: none there; otherwise err says more, also where
 * the other side speaks another version: of that, what is frozen is taken). */
int th_channel_receive(int fd, struct th_message *message,
	int fds[TH_CHANNEL_FDS], struct th_error *err);

/* The keeper's socket of a container: listening, or connected to it. */
int th_channel_listen(int run_fd, const char *id, struct th_error *err);
/* 1 connected, 0 where no keeper listens, -1. */
int th_channel_connect(
	int run_fd, const char *id, int *fd, struct th_error *err);

#endif
