/* An image that is being made: what an earlier one has, with further layers and
 * another config. */
#ifndef TH_IMAGE_DRAFT_H
#define TH_IMAGE_DRAFT_H

#include <jansson.h>

#include "base/cancel.h"
#include "image/stack.h"
#include "oci/image_config.h"
#include "oci/manifest.h"
#include "store/image_state.h"
#include "store/store.h"

struct th_draft_layer {
	char diff_id[TH_DIGEST_TEXT];
	char blob[TH_DIGEST_TEXT];
	uint64_t size_bytes; /* of the blob */
	uint64_t tree_bytes; /* 0: not known */
	enum th_compression compression;
};

struct th_draft {
	/* The image's config (OCI Image Specification, config.md), to be
	 * changed at will but for "rootfs" and "history"; owned. */
	json_t *config;
	json_t *annotations; /* of the manifest; owned, or NULL */
	struct th_draft_layer *layers; /* owned; the lowest first */
	size_t layer_count;
};

/* Begins with the image of that digest, or with nothing (NULL) for this host's
 * platform. To be released, also after a failure. */
int th_draft_open(struct th_store *store, const char *image,
	struct th_draft *draft, struct th_error *err);
void th_draft_release(struct th_draft *draft);

/* Puts a layer, which is staged, on top, with a line of history; NULL: there
 * is only the line. created: RFC 3339; what: "created_by". */
int th_draft_add(struct th_draft *draft, const struct th_draft_layer *layer,
	const char *created, const char *what, struct th_error *err);

/* Stages a layer that was written: its blob (a file named from the store's root
 * on) and its unpacked tree (a folder; NULL: it is there already). */
struct th_layer_notes;
int th_draft_stage(struct th_store *store, const struct th_draft_layer *layer,
	const char *blob, const char *tree, const struct th_layer_notes *notes,
	struct th_error *err);

/* Makes the image. digest receives that of its manifest; step and name as for
 * th_image_commit, which says what becomes durable. The same draft gives the
 * same bytes. Callers hold the store and th_store_use_images. */
int th_draft_commit(struct th_store *store, struct th_draft *draft,
	const struct th_step_key *step, const char *name,
	struct th_cancel cancel, char digest[TH_DIGEST_TEXT],
	struct th_error *err);

#endif
