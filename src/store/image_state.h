/* Images, their tags and layers in the state. */
#ifndef TH_STORE_IMAGE_STATE_H
#define TH_STORE_IMAGE_STATE_H

#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "oci/digest.h"
#include "store/store.h"

struct th_image_layer {
	char diff_id[TH_DIGEST_TEXT];
	char blob[TH_DIGEST_TEXT];
	uint64_t size_bytes; /* of the blob */
};

struct th_image_row {
	char digest[TH_DIGEST_TEXT]; /* of the manifest */
	char config[TH_DIGEST_TEXT];
	char platform[100]; /* "linux/amd64" */
	char created[64];
	uint64_t manifest_bytes;
	uint64_t blob_bytes; /* manifest, config and layers together */
	int64_t pulled_us;
	int64_t containers; /* how many use it; only read */
	struct th_strings tags; /* full names, only read */
};

void th_image_rows_free(struct th_image_row *rows, size_t count);

/* Adds the image (again: nothing changes) and gives it the name, which is
 * taken from the image that had it. Writes the layout's index anew. */
int th_image_state_add(struct th_store *store, const struct th_image_row *image,
	const struct th_image_layer *layers, size_t layer_count,
	const char *name, struct th_error *err);

/* The images that text may mean: a full name; a name whose host is left out;
 * the beginning of a digest (at least four digits, with or without
 * "sha256:"). All images where text is NULL. Free with th_image_rows_free. */
int th_image_state_find(struct th_store *store, const char *text,
	struct th_image_row **rows, size_t *count, struct th_error *err);

/* The layers of an image, the lowest first; to be freed. */
int th_image_state_layers(struct th_store *store, const char *digest,
	struct th_image_layer **layers, size_t *count, struct th_error *err);

/* Takes the name away; the image goes with its last name. Returns 1 where
 * the image went too, 0 where it has other names, -1. */
int th_image_state_untag(
	struct th_store *store, const char *name, struct th_error *err);
/* Takes the image with all its names out of the state. TH_IN_USE where
 * containers use it. */
int th_image_state_remove(
	struct th_store *store, const char *digest, struct th_error *err);

#endif
