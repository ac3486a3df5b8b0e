/* Volumes: folders of the store that outlive containers. */
#ifndef TH_STORE_VOLUME_STATE_H
#define TH_STORE_VOLUME_STATE_H

#include "base/buffer.h"
#include "store/container_state.h"
#include "store/store.h"

struct th_volume_row {
	char name[TH_NAME_MAX];
	/* The container that it goes with; "" for one with a name of its own.
	 */
	char own[TH_ID_LENGTH + 1];
	int64_t created_us;
	int64_t used_us; /* now, where a container that runs has it; 0: never */
	int64_t users; /* containers that have it mounted, running or not */
};

/* Makes the volume where it is missing: 1 made, 0 it was there, -1. */
int th_volume_make(
	struct th_store *store, const char *name, struct th_error *err);
/* The same in steps, so that nobody sees it before it is filled, and nothing is
 * left of it where its maker fails or dies. The store must be held for all of
 * them; stage is one maker's own word (an ID).
 *
 * First a folder that nobody else looks at: */
int th_volume_stage(struct th_store *store, const char *stage, const char *name,
	struct th_error *err);
/* where it lies (an absolute path, to be freed): */
char *th_volume_staged_path(
	const struct th_store *store, const char *stage, const char *name);
/* Then, in the transaction that makes it known, to its place: 1 done, 0
 * somebody has made one of the name, -1. */
int th_volume_place(struct th_store *store, const char *stage, const char *name,
	const char *own, struct th_error *err);
/* At last, whatever became of the transaction: what lies where follows the
 * state. Removals end the same way; also done for dead makers and removers. */
void th_volume_settle(struct th_store *store, const char *stage);
/* 1 there is one of the name, 0, -1. */
int th_volume_known(
	struct th_store *store, const char *name, struct th_error *err);
/* Makes its folder where somebody has taken it away. */
int th_volume_mend(
	struct th_store *store, const char *name, struct th_error *err);
/* Those of the name, or whose name was made up and begins with it; all where
 * text is NULL, oldest first; to be freed. */
int th_volume_list(struct th_store *store, const char *text,
	struct th_volume_row **rows, size_t *count, struct th_error *err);
/* Notes that the container has it mounted at target, until the container is
 * removed. TH_NOT_FOUND where the volume was removed meanwhile. */
int th_volume_use(struct th_store *store, const char *name,
	const char *container, const char *target, struct th_error *err);
/* The volume that goes with the container and is mounted at target: 1, 0, -1.
 */
int th_volume_of(struct th_store *store, const char *container,
	const char *target, char name[TH_NAME_MAX], struct th_error *err);
/* The names of the containers that have it. */
int th_volume_users(struct th_store *store, const char *name,
	struct th_strings *names, struct th_error *err);
/* Removes the volume and what is in it: TH_IN_USE where a container has it. */
int th_volume_remove(
	struct th_store *store, const char *name, struct th_error *err);
/* Removes those that go with the container; the store must be held, or locked
 * as a whole. */
void th_volume_drop_own(struct th_store *store, const char *container);

/* Where its files lie, as an absolute path; to be freed. */
char *th_volume_path(const struct th_store *store, const char *name);

/* The end of names in tmp/ that th_volume_settle is for. */
#define TH_VOLUME_STAGE ".volumes"

#endif
