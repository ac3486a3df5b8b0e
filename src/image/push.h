/* Pushing: an image of the store into a registry. */
#ifndef TH_IMAGE_PUSH_H
#define TH_IMAGE_PUSH_H

#include "image/pull.h"

struct th_push_options {
	const struct th_registry_options *registries;
	uint64_t chunk_bytes; /* larger blobs go in chunks; 0: never */
	void (*progress)(void *owner, const struct th_layer_progress *layers,
		size_t count);
	void *owner;
};

struct th_pushed {
	char name[TH_REFERENCE_MAX + 256]; /* full */
	char digest[TH_DIGEST_TEXT];
	size_t layer_count, there_count, mounted_count;
	uint64_t sent_bytes;
};

/* Brings the image to the reference, which has a host: the blobs that are
 * missing there, and the manifest, last, under the reference's tag or its own
 * digest. Nothing is visible there before all of it is. */
int th_push(struct th_store *store, const struct th_image_row *image,
	const struct th_reference *ref, const struct th_push_options *options,
	struct th_pushed *pushed, struct th_error *err);

#endif
