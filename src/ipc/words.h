/* What messages say, field by field: JSON (RFC 8259), so that either side may
 * be of another version. A reader takes what it knows and lets the rest be;
 * what is missing is 0.
 *
 * The words of SIGNAL, STOP, WAIT and STATE, and of the answers DONE, FAILED,
 * ENDED and STATE, are frozen: a command of any version can end a keeper of any
 * other. Members may be added to them, and none is ever given up or given
 * another meaning. */
#ifndef TH_IPC_WORDS_H
#define TH_IPC_WORDS_H

#include <stdbool.h>

#include "ipc/channel.h"
#include "store/container_state.h"

/* {"code": n, "trouble": n, "errno": n, "message": "...", "hint": "..."}. The
 * text is to be freed; NULL: no memory. */
char *th_words_of_error(const struct th_error *err);
/* Takes the error that a message tells; always returns -1. */
int th_words_error(const struct th_message *message, struct th_error *err);

/* {"outcome": n, "code": n, "by-force": n, "sessions": n, "wait-ms": n} */
char *th_words_of_ending(const struct th_ending *ending);
/* False where it is none. */
bool th_words_ending(
	const struct th_message *message, struct th_ending *ending);

/* {"rows": n, "columns": n} */
char *th_words_of_size(struct th_size size);
bool th_words_size(const struct th_message *message, struct th_size *size);

/* Sends up to TH_CHANNEL_FDS sockets, with what they listen at: [{"protocol":
 * "...", "address": "...", "host-port": n, "port": n}]. -1 with errno. */
int th_words_send_ports(int fd, enum th_message_type type,
	const struct th_port_row *rows, const int *fds, size_t count);
/* How many are told of; 0 also where it is no such message. */
size_t th_words_ports(const struct th_message *message,
	struct th_port_row rows[TH_CHANNEL_FDS]);

/* Sends an error, an ending or a size; -1 with errno. */
int th_words_send(int fd, enum th_message_type type, char *text);

#endif
