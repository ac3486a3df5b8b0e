/* OCI image layouts made for a test, out of the demo images. All folders lie
 * in the test's own. */
#ifndef TESTS_LAYOUTS_H
#define TESTS_LAYOUTS_H

#include <jansson.h>
#include <stdbool.h>

#include "lib/tar.h"

/* The digest that a name of the layout's index has; "" where it has none. */
const char *layout_digest(const char *folder, const char *name);
/* The digest of one of an image's layers, the lowest being 0. */
const char *layout_layer(const char *folder, const char *name, size_t number);
/* Names a document of the layout. */
void layout_name(const char *folder, const char *digest, const char *type,
	size_t size, const char *name);
/* Writes a document as a blob; its digest, overwritten by the next call. */
const char *layout_put(const char *folder, const json_t *doc, size_t *size);
/* Reads a document. */
json_t *layout_get(const char *folder, const char *digest);

/* An image of layers that the test makes itself: each a file of the test's
 * folder, a tar archive as it is, or compressed where its name says so (.gz,
 * .zst). */
void layout_add_image(const char *folder, const char *name,
	const char *const *files, size_t count);
/* Writes an archive into the test's folder. */
void layout_tar(const char *file, const struct tar_entry *entries);

/* The image as one that says that it is made for another platform. */
void layout_add_platform(const char *folder, const char *from, const char *name,
	const char *architecture, const char *variant);
/* An index of the image and one of it for linux/arm/v7, and a note for nobody;
 * nested: the index lies in another one. */
void layout_add_index(
	const char *folder, const char *from, const char *name, bool nested);

#endif
