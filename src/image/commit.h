/* The last step of a pull or a build: what is staged becomes an image. */
#ifndef TH_IMAGE_COMMIT_H
#define TH_IMAGE_COMMIT_H

#include "image/stack.h"
#include "oci/image_config.h"
#include "oci/manifest.h"

struct th_commit {
	const struct th_buf *manifest_body, *config_body;
	const char *digest; /* of the manifest */
	const struct th_manifest *manifest; /* the two, read */
	const struct th_image_config *config;
	const struct th_stack *stack; /* settled */
	/* What the layers' own trees take on the disk; 0: not known. */
	const uint64_t *tree_bytes;
	const char *index; /* the digest of the index that led to it, or NULL */
	const char *name; /* or NULL */
	/* The step of a build that it is the outcome of: then nothing is
	 * synced, and it has no name. Or NULL. */
	const struct th_step_key *step;
};

/* Puts blobs and trees in their places and adds the image to the state. All of
 * it is on the disk before the state knows of it, but for a step's. Callers
 * hold th_store_use_images. */
int th_image_commit(struct th_store *store, const struct th_commit *commit,
	struct th_error *err);

/* Writes to the disk what steps have left unsynced; from then on they count
 * beyond the next start of the host. */
int th_image_sync_steps(struct th_store *store, struct th_error *err);

#endif
