/* Images, their tags and layers in the state. */
#ifndef TH_STORE_IMAGE_STATE_H
#define TH_STORE_IMAGE_STATE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/error.h"
#include "oci/digest.h"
#include "store/store.h"

/* A tree's name: a digest, with the kind behind it (image/stack.h). */
#define TH_TREE_TEXT (TH_DIGEST_TEXT + 16)

struct th_image_layer {
	char diff_id[TH_DIGEST_TEXT];
	char tree[TH_TREE_TEXT]; /* unpacked; "" where others hide all of it */
	char blob[TH_DIGEST_TEXT];
	uint64_t size_bytes; /* of the blob */
	uint64_t tree_bytes; /* of the unpacked tree on the disk; 0: unknown */
};

struct th_image_row {
	char digest[TH_DIGEST_TEXT]; /* of the manifest */
	char config[TH_DIGEST_TEXT];
	char media[128]; /* of the manifest; only written */
	char platform[100]; /* "linux/amd64" */
	char created[64];
	uint64_t manifest_bytes;
	uint64_t blob_bytes; /* manifest, config and layers together */
	int64_t pulled_us;
	/* The tree on top of those of the layers, and that which has the root's
	 * attributes; both may be "". Only written, see th_image_state_trees.
	 */
	char folders[TH_TREE_TEXT], root[TH_TREE_TEXT];
	int64_t containers; /* how many use it; only read */
	struct th_strings tags; /* full names, only read */
	/* Only read: blobs and trees on the disk, and how much of that other
	 * images have as well. */
	uint64_t disk_bytes, shared_bytes;
};

void th_image_rows_free(struct th_image_row *rows, size_t count);

/* Adds the image (again: nothing changes) and gives it the name (NULL: none),
 * which is taken from the image that had it. index (NULL: none) is the digest
 * of the index that led to it. Writes the layout's index anew. */
int th_image_state_add(struct th_store *store, const struct th_image_row *image,
	const struct th_image_layer *layers, size_t layer_count,
	const char *name, const char *index, struct th_error *err);

/* A step of a build: all that goes into it, and three parts of that. */
struct th_step_key {
	char key[TH_HASH_TEXT];
	char parent[TH_DIGEST_TEXT]; /* the image before it, or "" */
	char text[TH_HASH_TEXT]; /* what it says */
	char content[TH_HASH_TEXT]; /* files from outside */
};

/* Adds what a step of a build has made: an image without a name that is not
 * listed, and not synced. */
int th_image_state_add_step(struct th_store *store,
	const struct th_image_row *image, const struct th_image_layer *layers,
	size_t layer_count, const struct th_step_key *step,
	struct th_error *err);

/* Whether the image is there (1), and has the name (or name is NULL: 2); 0, -1.
 */
int th_image_state_is(struct th_store *store, const char *digest,
	const char *name, struct th_error *err);

/* Gives the image another name. before receives the digest of the image that
 * had it, or is left empty. TH_NOT_FOUND where the image is gone. */
int th_image_state_tag(struct th_store *store, const char *digest,
	const char *name, char before[TH_DIGEST_TEXT], struct th_error *err);

/* Writes index.json anew where whoever should have done it died before. */
int th_image_state_repair(struct th_store *store, struct th_error *err);

/* Whether something removed from the state may still lie on the disk. */
int th_image_state_reclaim_due(
	struct th_store *store, bool *due, struct th_error *err);
int th_image_state_reclaimed(struct th_store *store, struct th_error *err);

/* All that images need: digests of blobs into blobs, names of trees into trees;
 * sorted. */
int th_image_state_needed(struct th_store *store, struct th_strings *blobs,
	struct th_strings *trees, struct th_error *err);

/* The images that text may mean: a full name; a name whose host is left out;
 * the beginning of a digest (at least four digits, with or without
 * "sha256:"). Where text is NULL all images, but for those that are only the
 * outcome of a build's step. Free with th_image_rows_free. */
int th_image_state_find(struct th_store *store, const char *text,
	struct th_image_row **rows, size_t *count, struct th_error *err);
/* The same, without what they take on the disk and who uses them. */
int th_image_state_find_brief(struct th_store *store, const char *text,
	struct th_image_row **rows, size_t *count, struct th_error *err);

/* The layers of an image, the lowest first; to be freed. */
int th_image_state_layers(struct th_store *store, const char *digest,
	struct th_image_layer **layers, size_t *count, struct th_error *err);

/* The trees that an image's root is stacked of, the lowest first; and the name
 * of that which has the root's attributes, or "". */
int th_image_state_trees(struct th_store *store, const char *digest,
	struct th_strings *trees, char root[TH_TREE_TEXT],
	struct th_error *err);

/* The other images that have a layer, by their first names, or their digests
 * where they have none. */
int th_image_state_sharers(struct th_store *store, const char *diff_id,
	const char *except, struct th_strings *names, struct th_error *err);
/* The names of all images. */
int th_image_state_names(
	struct th_store *store, struct th_strings *names, struct th_error *err);

/* Takes the name away; the image goes with its last name. Returns 1 where
 * the image went too, 0 where it has other names, -1. What lies on the disk is
 * for th_image_reclaim. */
int th_image_state_untag(
	struct th_store *store, const char *name, struct th_error *err);
/* Takes the image with all its names out of the state. TH_IN_USE where
 * containers use it. */
int th_image_state_remove(
	struct th_store *store, const char *digest, struct th_error *err);
/* The same for one that has no name and is used by nobody: 1 removed, 0 where
 * that is not so (any more), -1. */
int th_image_state_remove_nameless(
	struct th_store *store, const char *digest, struct th_error *err);

#endif
