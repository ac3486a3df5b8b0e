/* An image's layers, one on the other: their trees are stacked by an overlay,
 * and show what applying the archives one after the other gives (OCI Image
 * Specification, layer.md).
 *
 * A layer is unpacked on its own, together with others, and images share the
 * tree. Mostly that is all. What depends on lower layers is settled here, when
 * all trees are there:
 *
 *   DIFFID          the layer's own tree
 *   CHAINID.own     instead of it, where the layer had to be applied on those
 *                   below: entries behind their links, hard links to their
 *                   files, the same layer a second time
 *   CHAINID.folders on top of all of an image's: folders that no entry of the
 *                   topmost layer names, with the attributes that a lower one
 *                   gives them
 *
 * The chain ID (config.md, "Layer ChainID") stands for a layer together with
 * all that are below: images that stack it on others have trees of their own.
 */
#ifndef TH_IMAGE_STACK_H
#define TH_IMAGE_STACK_H

#include <stddef.h>
#include <stdint.h>

#include "image/fetch.h"
#include "store/image_state.h"

/* What stands behind the chain ID in their names. */
#define TH_TREE_OWN ".own"
#define TH_TREE_FOLDERS ".folders"

struct th_stacked {
	struct th_layer_job *fetch; /* how the layer is read again */
	char tree[TH_TREE_TEXT]; /* receives its name; "" where it is hidden */
	uint64_t tree_bytes; /* receives what a new one takes; 0: not new */
};

struct th_stack {
	struct th_stacked *layers; /* the lowest first */
	size_t count;
	char folders[TH_TREE_TEXT]; /* receives the topmost tree, or "" */
	/* Receives that which has the root's attributes, or "". */
	char root[TH_TREE_TEXT];
	size_t reached; /* receives the number of layers that were settled */
};

/* Chooses the trees, and stages (image/stage.h) those that are missing; the
 * layers' own ones are staged or in images. Callers hold th_store_use_images.
 */
int th_stack_settle(
	struct th_store *store, struct th_stack *stack, struct th_error *err);

/* The chain ID of the layers up to the last. */
int th_chain_id(char *const *diff_ids, size_t count, char chain[TH_DIGEST_TEXT],
	struct th_error *err);

#endif
