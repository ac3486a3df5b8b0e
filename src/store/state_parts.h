/* What the parts of the containers' state share. For the store module only. */
#ifndef TH_STORE_STATE_PARTS_H
#define TH_STORE_STATE_PARTS_H

#include <stddef.h>

#include "base/buffer.h"
#include "store/container_state.h"

/* A column of the current row as text of at most size bytes. */
void state_copy(char *to, size_t size, struct th_query *query, int column);
/* Reads all rows of the query, each of size bytes, by read, and ends the query.
 * *list is to be freed; untouched where it fails. */
int state_rows(struct th_query *query, size_t size,
	void (*read)(struct th_query *query, void *item), void **list,
	size_t *count, struct th_error *err);
/* The first column of a query's rows, added to names; ends the query. */
int state_read_names(
	struct th_query *query, struct th_strings *names, struct th_error *err);
/* The first column of all rows of a query with one text to fill in. */
int state_names(struct th_db *db, struct th_strings *names,
	struct th_error *err, const char *sql, const char *key);
/* Records one event, with the name that the container has at this time; at_us
 * 0: now. */
int state_add_event(struct th_db *db, const char *id, int64_t at_us,
	const char *from, const char *to, const struct th_cause *cause,
	const char *actor, const char *outcome, int code, struct th_error *err);

/* event_fold.c: keeps the events of the container within bounds. */
int state_fold_events(struct th_db *db, const char *id, struct th_error *err);

#endif
