/* Commands that are connected to the keeper. */
#ifndef TH_KEEPER_CLIENTS_H
#define TH_KEEPER_CLIENTS_H

#include <stdbool.h>
#include <sys/stat.h>

#include "base/buffer.h"
#include "base/loop.h"
#include "ipc/words.h"

struct keeper;
struct session;

/* A message on its way. */
struct waiting {
	struct waiting *next;
	enum th_message_type type;
	uint32_t len;
	char data[];
};

struct client {
	struct keeper *keeper;
	struct client *next, **place;
	struct th_watch watch;
	bool attached; /* gets the program's output */
	bool left; /* said that its input is not at its end */
	bool holds; /* the container is paused for as long as it is there */
	bool waits_for_end; /* of the container, or of its session */
	bool waits_for_ready, waits_for_start;
	struct session *session;
	struct th_buf parts; /* of a request that comes in several */
	/* Messages that did not fit into the socket yet, the first one first.
	 */
	struct waiting *pending, **pending_end;
	size_t pending_count;
};

/* A client that reads slowly, after the container is done. */
struct late {
	struct late *next;
	int fd;
	struct waiting *first; /* owned; what it was told before, or NULL */
	struct th_ending ending;
};

struct clients {
	struct client *first;
	int blocked; /* those with a pending message */
	int64_t read_ms; /* when one of those has read something */
	struct late *late; /* those that have not read the end yet */
	struct th_watch listener;
	struct stat socket; /* the listener's file, as it was made */
};

int keeper_listen(struct keeper *keeper, struct th_error *err);
void keeper_stop_listening(struct keeper *keeper);
void keeper_add_client(struct keeper *keeper, int fd, bool attached);
void keeper_drop_client(struct client *client);
void keeper_tell(struct client *client, enum th_message_type type,
	const void *data, size_t len);
void keeper_tell_error(struct client *client, const struct th_error *err);
void keeper_tell_ending(struct client *client, enum th_message_type type,
	const struct th_ending *ending);
/* How it ended, now or by keeper_tell_late: the client is to be dropped. */
void keeper_tell_end(struct client *client, const struct th_ending *ending);
/* Calls act for each, which may drop it. */
void keeper_each_client(struct keeper *keeper,
	void (*act)(struct client *client, const void *with), const void *with);
/* The end of all, to whoever waits for anything; all are dropped. */
void keeper_tell_all_end(struct keeper *keeper, const struct th_ending *ending);
/* The end of a run, to those who see the output, where another one follows. */
void keeper_tell_again(struct keeper *keeper, const struct th_ending *ending);
/* Whoever waits for the start hears of it; why: it failed, or NULL. */
void keeper_tell_start(struct keeper *keeper, const struct th_error *why);
/* It is ready, to whoever waits for that. */
void keeper_tell_ready(struct keeper *keeper);
/* Gives the slow ones what is left for them, as they read it. When nothing of
 * the container is held any more. */
void keeper_tell_late(struct keeper *keeper);

#endif
