/* Further commands in the container. */
#ifndef TH_KEEPER_SESSIONS_H
#define TH_KEEPER_SESSIONS_H

#include <stdbool.h>
#include <sys/types.h>

#include "base/loop.h"
#include "base/random.h"
#include "container/log.h"
#include "ipc/words.h"
#include "sandbox/sandbox.h"

struct client;
struct keeper;
struct th_session_row;

struct session {
	struct keeper *keeper;
	struct session *next, **place;
	struct th_watch watch; /* its process */
	struct client *client; /* NULL when it has gone */
	char id[TH_ID_LENGTH + 1];
	pid_t pid; /* 0 while it is set up */
	struct th_joining joining;
	struct th_session_row *row; /* for the state; NULL once it is there */
	struct th_size size;
	/* In the background: */
	bool background;
	struct th_watch out, err;
	struct th_log log;
};

struct sessions {
	struct session *first;
	int ended; /* with the program */
};

void keeper_start_session(struct client *client,
	const struct th_message *message, int fds[TH_CHANNEL_FDS]);
void keeper_end_sessions(struct keeper *keeper);
struct session *keeper_find_session(struct keeper *keeper, const char *id);
void keeper_remove_session_log(struct keeper *keeper, const char *id);
/* Writes what their programs have written to their logs. */
void keeper_record_sessions(struct keeper *keeper);
/* Milliseconds until one that is set up has taken too long, or -1; and what is
 * to be done then. */
int64_t keeper_sessions_due(const struct keeper *keeper);
void keeper_sessions_work(struct keeper *keeper);

#endif
