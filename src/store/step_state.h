/* What steps of builds have made, remembered by what went into them. */
#ifndef TH_STORE_STEP_STATE_H
#define TH_STORE_STEP_STATE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "oci/digest.h"
#include "store/image_state.h"
#include "store/store.h"
#include "tidyhull/image.h"

/* The image that the step of the key has made: 1, 0, -1. One that was not
 * synced before the host was started again does not count. */
int th_step_state_find(struct th_store *store, const char *key,
	char image[TH_DIGEST_TEXT], struct th_error *err);

/* Why a step that is not remembered is not: what is known of one that says the
 * same. */
int th_step_state_reason(struct th_store *store, const struct th_step_key *step,
	enum th_step_reason *reason, struct th_error *err);

/* Notes that a build has just used them. */
int th_step_state_used(struct th_store *store, const struct th_strings *keys,
	struct th_error *err);

/* Whether some are not synced yet; and notes that all are that were there at
 * that time. */
int th_step_state_unsynced(
	struct th_store *store, bool *unsynced, struct th_error *err);
int th_step_state_synced(
	struct th_store *store, int64_t time_us, struct th_error *err);

/* Forgets what was not synced before the host's last start. */
int th_step_state_forget_lost(struct th_store *store, struct th_error *err);

/* Those that no image has, and were not used after before_us: how many, and
 * what their removal would free, about. */
int th_step_state_count(struct th_store *store, int64_t before_us,
	size_t *count, uint64_t *bytes, struct th_error *err);
/* Forgets them; their files are for th_image_reclaim_due. */
int th_step_state_forget(
	struct th_store *store, int64_t before_us, struct th_error *err);

#endif
