/* Pulling: from a registry or a packed file into the store. */
#ifndef TH_IMAGE_PULL_H
#define TH_IMAGE_PULL_H

#include "image/fetch.h"
#include "image/origin.h"
#include "store/image_state.h"

struct th_layer_progress {
	char blob[TH_DIGEST_TEXT];
	enum th_layer_phase phase;
	uint64_t done_bytes;
	uint64_t size_bytes;
	/* When the transfer began, by th_clock_mono_ms, and with how much. */
	int64_t began_ms;
	uint64_t began_bytes;
};

struct th_pull_options {
	const struct th_registry_options *registries;
	struct th_platform platform; /* os empty: this host's */
	/* Called whenever something changed, from one thread at a time. */
	void (*progress)(void *owner, const struct th_layer_progress *layers,
		size_t count);
	void *owner;
};

struct th_pulled {
	char name[TH_REFERENCE_MAX + 256]; /* full */
	char digest[TH_DIGEST_TEXT];
	char from[256]; /* the mirror that gave it; or empty */
	size_t layer_count, here_count;
	uint64_t transfer_bytes;
	struct th_strings notes; /* what else is to be told; owned */
};
void th_pulled_release(struct th_pulled *pulled);

/* Pulls a reference that has a host. Blobs are downloaded in parallel, each
 * verified and unpacked while it arrives; nothing of the image is listed
 * before all of it is there. What a failed or killed pull has brought and found
 * right is taken up by the next one. */
int th_pull(struct th_store *store, const struct th_reference *ref,
	const struct th_pull_options *options, struct th_pulled *pulled,
	struct th_error *err);

/* The same for an image of a packed file. name: what it is to be called, or
 * NULL for its own name; an image without a name is found by its digest. */
int th_pull_packed(struct th_store *store, const struct th_packed *packed,
	const struct th_packed_image *image, const char *name,
	const struct th_pull_options *options, struct th_pulled *pulled,
	struct th_error *err);

#endif
