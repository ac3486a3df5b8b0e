/* One new layer, from an archive that is written to its blob and its tree. */
#ifndef TH_BUILD_NEW_LAYER_H
#define TH_BUILD_NEW_LAYER_H

#include "image/draft.h"
#include "layer/produce.h"
#include "layer/tar_write.h"

struct th_new_layer {
	struct th_store *store;
	enum th_compression compression;
	int level;
	const struct th_strings *never; /* as for th_produce */
	struct th_cancel cancel;
	/* Writes the entries. */
	int (*fill)(void *owner, struct th_tar_out *out, struct th_error *err);
	void *owner;
	/* filled: */
	struct th_draft_layer layer;
	uint64_t plain_bytes;
	bool empty; /* nothing was written, and there is no layer */
};

/* Makes it, and stages blob and tree; after a failure nothing is left. Callers
 * hold the store and th_store_use_images. */
int th_new_layer(struct th_new_layer *new, struct th_error *err);

#endif
