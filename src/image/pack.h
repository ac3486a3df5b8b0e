/* Packing: images of the store into one portable file. */
#ifndef TH_IMAGE_PACK_H
#define TH_IMAGE_PACK_H

#include "base/cancel.h"
#include "store/image_state.h"

struct th_pack_item {
	const struct th_image_row *image;
	const char *name; /* the only one to be packed, or NULL: all it has */
};

/* The annotation of an image in the index that says how it is run where the
 * file itself is executed: a JSON object of settings. */
#define TH_PACK_SETTINGS "tidyhull.settings"

/* Writes the images as an OCI image layout in a tar archive (OCI Image
 * Specification, image-layout.md) to path, or to standard output ("-"). The
 * same images give the same bytes. Every blob is verified on its way. A file
 * that is there already is TH_IN_USE, unless replace says so; it stays as it
 * was until the new one is whole. size_bytes receives the file's. */
int th_pack(struct th_store *store, const struct th_pack_item *items,
	size_t count, const char *path, bool replace, struct th_cancel cancel,
	uint64_t *size_bytes, struct th_error *err);

/* The same of one image, as a file that can be executed as well: its first
 * entry begins with a line for the shell. settings: for the annotation. */
int th_pack_runnable(struct th_store *store, const struct th_pack_item *item,
	const char *settings, const char *path, bool replace,
	struct th_cancel cancel, uint64_t *size_bytes, struct th_error *err);

#endif
