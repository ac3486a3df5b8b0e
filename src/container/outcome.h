/* How the last run of a container ended, on the disk beside its plan, until the
 * state has it and beyond: the keeper writes it before anything else, so that
 * neither its own death nor a full or locked database loses an end. */
#ifndef TH_CONTAINER_OUTCOME_H
#define TH_CONTAINER_OUTCOME_H

#include "store/container_state.h"

/* A change to TH_STATE_STOPPED, or to TH_STATE_WAITING for the next run. */
struct th_end {
	int64_t started_us; /* the run that it is the end of */
	struct th_change change; /* its actor is the text below */
	char actor[128];
};

/* Makes room for it in the container's folder, so that a full disk takes it:
 * called while it starts. Returns a descriptor, or -1. */
int th_outcome_reserve(int folder, struct th_error *err);
/* Writes the end over what is there; sync: until it is on the disk. */
int th_outcome_write(
	int fd, const struct th_end *end, bool sync, struct th_error *err);
/* Says nothing any more: the next run has begun. */
void th_outcome_clear(int fd);
/* Reads what is in the folder: 1, 0 where there is none that is whole, -1. */
int th_outcome_read(int folder, struct th_end *end, struct th_error *err);

/* The same as text, as a keeper tells it; NULL without memory. To be freed. */
char *th_end_format(const struct th_end *end);
/* Back from it: 1, 0 where it is none. */
int th_end_parse(const char *text, size_t len, struct th_end *end);
/* The end as the row has it that the state will have. */
void th_end_apply(const struct th_end *end, struct th_container_row *row);

#endif
