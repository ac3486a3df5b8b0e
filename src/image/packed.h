/* One portable file that holds images: an OCI image layout in a tar archive
 * (OCI Image Specification, image-layout.md), or such a layout as a folder. */
#ifndef TH_IMAGE_PACKED_H
#define TH_IMAGE_PACKED_H

#include <stdbool.h>

#include "base/buffer.h"
#include "base/cancel.h"
#include "base/source.h"
#include "oci/manifest.h"
#include "oci/reference.h"
#include "store/store.h"

struct th_packed;

/* An image that the layout's index lists. */
struct th_packed_image {
	char digest[TH_DIGEST_TEXT]; /* of its manifest or index */
	char name[TH_REFERENCE_MAX + 256]; /* "" where it has none */
	/* How it is run where the file is executed (image/pack.h), or NULL; the
	 * packed file's. */
	char *settings;
};

/* True where text is the path of a file or folder rather than a reference:
 * it begins with "/", "./" or "../", or is a file that ends in ".tar". */
bool th_packed_is_path(const char *text);

/* Opens the file or folder at path and finds its blobs. One that is compressed
 * or cannot be read twice ("-" is standard input) is first copied below the
 * store's tmp/, or into /tmp where store is NULL; that can be cancelled. */
int th_packed_open(struct th_store *store, const char *path,
	struct th_cancel cancel, struct th_packed **packed,
	struct th_error *err);
void th_packed_close(struct th_packed *packed);

/* The images, in the index's order; those of one digest stand there once for
 * each name. Borrowed. */
const struct th_packed_image *th_packed_images(
	const struct th_packed *packed, size_t *count);

/* A small blob as a whole; its digest is not checked. */
int th_packed_document(const struct th_packed *packed, const char *digest,
	struct th_buf *body, struct th_error *err);

/* A blob from the byte offset on; for one thread. */
struct th_packed_reader;
int th_packed_blob(const struct th_packed *packed, const char *digest,
	uint64_t offset, struct th_packed_reader **reader,
	struct th_error *err);
struct th_source *th_packed_reader_source(struct th_packed_reader *reader);
void th_packed_reader_free(struct th_packed_reader *reader);

#endif
