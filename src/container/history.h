/* Reading a container's log, while it runs and afterwards. */
#ifndef TH_CONTAINER_HISTORY_H
#define TH_CONTAINER_HISTORY_H

#include <stdatomic.h>

#include "keeper/log.h"
#include "store/store.h"

struct th_history_options {
	int64_t since_us, until_us; /* 0: no bound */
	long last; /* only so many entries at the end; -1: all */
	bool follow; /* go on until the container has ended */
	const atomic_bool *cancel; /* ends following; may be NULL */
};

/* Calls take for each entry, oldest first; take returns false to end it. A
 * container that was never started has none. */
int th_history_read(struct th_store *store, const char *id,
	const struct th_history_options *options,
	bool (*take)(void *owner, const struct th_log_entry *entry),
	void *owner, struct th_error *err);

#endif
