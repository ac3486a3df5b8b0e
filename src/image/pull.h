/* Pulling: from a registry into the store. */
#ifndef TH_IMAGE_PULL_H
#define TH_IMAGE_PULL_H

#include <stdatomic.h>

#include "oci/manifest.h"
#include "oci/reference.h"
#include "registry/config.h"
#include "store/image_state.h"
#include "store/store.h"

enum th_layer_phase {
	TH_LAYER_WAITING,
	TH_LAYER_HERE, /* was in the store already */
	TH_LAYER_TRANSFER, /* downloading, verifying and unpacking at once */
	TH_LAYER_DONE
};

struct th_layer_progress {
	char blob[TH_DIGEST_TEXT];
	enum th_layer_phase phase;
	uint64_t done_bytes;
	uint64_t size_bytes;
};

struct th_pull_options {
	const struct th_config *config;
	struct th_platform platform; /* os empty: this host's */
	/* Called whenever something changed, from one thread at a time. */
	void (*progress)(void *owner, const struct th_layer_progress *layers,
		size_t count);
	void *owner;
	atomic_bool *cancel; /* set by anybody to give up; not NULL */
};

struct th_pulled {
	char name[TH_REFERENCE_MAX + 256]; /* full */
	char digest[TH_DIGEST_TEXT];
	size_t layer_count, here_count;
	uint64_t transfer_bytes;
};

/* The registries to ask for a reference: its own host, or those marked for
 * search that have it. *hosts gets all that have it. TH_NOT_FOUND with all
 * that were asked. */
int th_pull_locate(const struct th_config *config,
	const struct th_reference *ref, struct th_strings *hosts,
	struct th_error *err);

/* Pulls a reference that has a host. Blobs are downloaded in parallel, each
 * verified and unpacked while it arrives; nothing of the image is listed
 * before all of it is there, and after a failure nothing is left behind. */
int th_pull(struct th_store *store, const struct th_reference *ref,
	const struct th_pull_options *options, struct th_pulled *pulled,
	struct th_error *err);

#endif
