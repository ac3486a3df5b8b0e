/* Layers of a lender (store/lender.h) in a store: links to its unpacked trees
 * and its blobs, staged (image/stage.h) like those that were downloaded.
 *
 * In an unprivileged user's containers their owner is nobody: the kernel lets
 * nothing be created in such a folder, as the copy of it could not be given to
 * its owner. So the store's CHAINID.folders (image/stack.h) has all folders of
 * borrowed layers once more, as the user's own. What stays: a file of theirs
 * can be replaced or removed, but not be changed in place. */
#ifndef TH_IMAGE_BORROW_H
#define TH_IMAGE_BORROW_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "store/store.h"

/* Stages what the lender has: 1 done, 0 where it has none, or the store no
 * lender, -1. An unpacked layer comes with its notes. */
int th_borrow_tree(
	struct th_store *store, const char *tree, struct th_error *err);
bool th_borrow_has_blob(
	const struct th_store *store, const char *blob, uint64_t size_bytes);
int th_borrow_blob(struct th_store *store, const char *blob,
	uint64_t size_bytes, struct th_error *err);

/* Adds the paths of all folders in the tree, but for those in a folder that
 * cannot be read. */
int th_borrow_list_folders(
	int tree, struct th_strings *paths, struct th_error *err);

#endif
