/* Reading a log, while it is written and afterwards. */
#ifndef TH_CONTAINER_HISTORY_H
#define TH_CONTAINER_HISTORY_H

#include <stdatomic.h>

#include "base/random.h"
#include "container/log.h"
#include "store/store.h"

enum th_streams { TH_STREAMS_BOTH, TH_STREAMS_OUT, TH_STREAMS_ERR };

struct th_history_options {
	int64_t since_us, until_us; /* 0: no bound */
	long last; /* only so many entries at the end; -1: all */
	enum th_streams streams;
	bool follow; /* go on until no keeper is there any more */
	/* Only what stands before this place; bytes -1: no bound. */
	struct th_log_place end;
	const atomic_bool *cancel; /* ends following; may be NULL */
};
/* No bound at all. */
#define TH_HISTORY_ALL                                                         \
	{                                                                      \
		.last = -1, .end = {.bytes = -1 }                              \
	}

struct th_history;

/* Opens the log of a container (session NULL) or of one of its sessions.
 * options must stay. One that was never written has no entries. */
int th_history_open(struct th_store *store, const char *id, const char *session,
	const struct th_history_options *options, struct th_history **history,
	struct th_error *err);
/* The next entry, oldest first; its data is valid until the next call. 1, 0
 * where there is none by now, -1. */
int th_history_next(struct th_history *history, struct th_log_entry *entry,
	struct th_error *err);
/* True where th_history_next has given 0 and will never give more. */
bool th_history_over(struct th_history *history);
/* True where it is read from its beginning and the beginning is not there any
 * more: it grew beyond what is kept. */
bool th_history_cut(const struct th_history *history);
/* Waits a moment for more. */
void th_history_wait(struct th_history *history);
void th_history_close(struct th_history *history);

#endif
