/* partial/: what pulls have brought that is not part of an image yet.
 *
 *   partial/HEX               a blob as far as it came; nothing of it is
 * believed partial/HEX.whole-BOOT    a blob whose digest was right
 *   partial/HEX.tree-BOOT     an unpacked layer whose diff ID was right
 *   partial/HEX.notes-BOOT    what it leaves to lower layers (layer/notes.h)
 *   partial/HEX.own-BOOT, HEX.ownnotes-BOOT, HEX.folders-BOOT   the same of a
 *                             chain of layers (image/stack.h), by its chain ID
 *   partial/HEX.lock          held by whoever brings the layer of that blob
 *
 * BOOT is the running kernel's: what was found right but not yet synced counts
 * only until the next boot. An interrupted pull leaves all this, so that the
 * next one goes on from there; "sweep" removes it.
 *
 * Callers hold th_store_use_images. */
#ifndef TH_IMAGE_STAGE_H
#define TH_IMAGE_STAGE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/cancel.h"
#include "base/hash.h"
#include "base/source.h"
#include "layer/notes.h"
#include "oci/digest.h"
#include "store/store.h"

/* Takes what an earlier boot left for what it is: blobs become unbelieved
 * again, trees go. */
void th_stage_begin(struct th_store *store);

/* Waits until nobody else brings the blob's layer, and holds its lock. waits
 * (may be NULL) is called once where it has to wait. */
int th_stage_lock(struct th_store *store, const char *blob,
	struct th_cancel cancel, void (*waits)(void *owner), void *owner,
	int *lock, struct th_error *err);
void th_stage_unlock(struct th_store *store, const char *blob, int *lock);

/* True where it is there and right: staged, or in an image. */
bool th_stage_has_blob(
	const struct th_store *store, const char *blob, uint64_t size_bytes);
bool th_stage_has_tree(const struct th_store *store, const char *tree);
/* True where such a tree is a lender's (image/borrow.h), as only a user's can
 * be. */
bool th_stage_is_borrowed(const struct th_store *store, const char *tree);
/* Opens such a tree; -1 with an error. */
int th_stage_open_tree(
	const struct th_store *store, const char *tree, struct th_error *err);
/* Opens such a blob for reading; -1 with an error. */
int th_stage_open_blob(
	const struct th_store *store, const char *blob, struct th_error *err);

/* A blob that is being brought. What an earlier try has brought is given by
 * the source first, then what comes from the origin: all of it is hashed, and
 * what is new is written. Hold the layer's lock. */
struct th_incoming {
	struct th_source source; /* first: the two are one */
	struct th_store *store;
	struct th_source *from; /* set by the caller before the old is at end */
	int fd;
	char digest[TH_DIGEST_TEXT];
	uint64_t size_bytes; /* as the manifest says */
	uint64_t old_bytes; /* what was there before */
	uint64_t read_bytes; /* of the old, so far */
	uint64_t have_bytes; /* old that was read, and new */
	uint64_t flushed_bytes;
	bool spoiled; /* it is not what it should be, and was thrown away */
	bool ended_early; /* bytes are missing; those that came are kept */
	struct th_hash *hash;
	void *buffer;
	void (*progress)(void *owner, uint64_t have_bytes);
	void *owner;
};
int th_incoming_begin(struct th_store *store, struct th_incoming *incoming,
	const char *digest, uint64_t size_bytes, struct th_error *err);
/* Reads the source to its end and checks digest and size. Where they are
 * wrong the blob is thrown away. */
int th_incoming_finish(struct th_incoming *incoming, struct th_error *err);
/* Closes it; what has come stays. */
void th_incoming_end(struct th_incoming *incoming);
/* Throws what has come of a blob away, or a staged one. */
void th_stage_drop_part(struct th_store *store, const char *blob);
void th_stage_drop_blob(struct th_store *store, const char *blob);
/* Puts the unpacked layer (a folder, named from the store's root on) among
 * what is staged; one that is there already is as good. tree: a diff ID, or a
 * chain ID with the kind behind it (image/stack.h). */
int th_stage_keep_tree(struct th_store *store, const char *tree,
	const char *path, struct th_error *err);
/* The same for a blob whose digest was taken while it was written (a file,
 * synced or not). */
int th_stage_keep_blob(struct th_store *store, const char *blob,
	const char *path, struct th_error *err);
/* The notes on a layer by its diff ID; kept before its tree is. */
int th_stage_keep_notes(struct th_store *store, const char *tree,
	const struct th_layer_notes *notes, struct th_error *err);
int th_stage_read_notes(const struct th_store *store, const char *tree,
	struct th_layer_notes *notes, struct th_error *err);
/* Gives a staged blob or tree its place among those of images. Only for what
 * was synced; what is in its place already is left alone. */
int th_stage_place_blob(
	struct th_store *store, const char *blob, struct th_error *err);
int th_stage_place_tree(
	struct th_store *store, const char *tree, struct th_error *err);

#endif
