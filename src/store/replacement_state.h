/* Containers that are made anew: the successor takes the name and the volumes
 * of the one before it, and gives them back where it comes to nothing. */
#ifndef TH_STORE_REPLACEMENT_STATE_H
#define TH_STORE_REPLACEMENT_STATE_H

#include <stdbool.h>

#include "store/container_state.h"

enum th_stage {
	TH_STAGE_MADE, /* the successor is there, under its ID */
	TH_STAGE_SWAPPED, /* it has the name */
	TH_STAGE_DONE, /* the one before it is to be removed */
	TH_STAGE_GIVEN_UP /* the successor is to be removed */
};

struct th_replacement_row {
	char successor[TH_ID_LENGTH + 1];
	char container[TH_ID_LENGTH + 1]; /* the one before it */
	char maker[TH_ID_LENGTH + 1]; /* the lock of the command that does it */
	enum th_stage stage;
	bool up; /* the one before it ran when it began */
};

/* Notes that the successor, which is in the state under its ID as its name, is
 * to take the place of the container; up: of one that runs. TH_IN_USE where
 * another command is at the same container. */
int th_replacement_begin(struct th_db *db, const char *successor,
	const char *container, const char *maker, bool up,
	struct th_error *err);
/* Name and own volumes go to the successor (or, with back, to the one before
 * it), with an event for each; in one transaction. */
int th_replacement_swap(struct th_db *db, const struct th_replacement_row *row,
	bool back, const char *actor, struct th_error *err);
/* It is decided, in one of the two ways: the other container is to be removed,
 * and with it what is known of the replacement. One that is given up leaves the
 * container due to be started again where it ran; note says so. */
int th_replacement_decide(struct th_db *db,
	const struct th_replacement_row *row, enum th_stage stage,
	const char *failure, const char *actor, struct th_error *err);
/* The IPv4 address that the one before the successor had on the network: 1, 0,
 * -1. */
int th_replacement_address(struct th_db *db, const char *successor,
	const char *network, char address[TH_ADDRESS_TEXT],
	struct th_error *err);
/* All there are, or the one that has the container (its ID) on either side; to
 * be freed. */
int th_replacement_list(struct th_db *db, const char *id,
	struct th_replacement_row **rows, size_t *count, struct th_error *err);

#endif
