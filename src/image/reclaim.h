/* Getting disk space back: what no image has any more, and what pulls left. */
#ifndef TH_IMAGE_RECLAIM_H
#define TH_IMAGE_RECLAIM_H

#include <stdint.h>

#include "base/cancel.h"
#include "store/image_state.h"

/* Removes blobs and trees that no image has, where the state says that there
 * may be some and nobody brings or makes an image just now; otherwise whoever
 * comes last does it. What cannot be removed is left for the next time. */
void th_image_reclaim_due(struct th_store *store);

/* After the store was opened: what a killed command has left half done. */
void th_image_repair(struct th_store *store);

/* What lies about. */
struct th_litter {
	size_t blob_count, tree_count; /* that no image has */
	size_t partial_count; /* downloads and layers of unfinished pulls */
	uint64_t blob_bytes, tree_bytes, partial_bytes;
	/* Images without a name that no container uses. */
	struct th_image_row *images; /* owned */
	size_t image_count;
	uint64_t image_bytes; /* that their removal would free */
	size_t step_count; /* that builds remember, and no image is made of */
	uint64_t step_bytes;
};

/* Looks, and changes nothing. What was touched after before_us is left out. */
int th_litter_find(struct th_store *store, int64_t before_us,
	struct th_litter *litter, struct th_error *err);
void th_litter_release(struct th_litter *litter);
/* Removes what was found. TH_IN_USE where a pull runs. Whoever waits is told
 * how many bytes have gone; cancelled, the rest stays, and that is no error. */
int th_litter_remove(struct th_store *store, const struct th_litter *litter,
	int64_t before_us, struct th_cancel cancel, struct th_error *err);

#endif
