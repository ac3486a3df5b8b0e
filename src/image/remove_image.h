/* Removing images, with the blobs and trees that nobody else needs. */
#ifndef TH_IMAGE_REMOVE_IMAGE_H
#define TH_IMAGE_REMOVE_IMAGE_H

#include "store/image_state.h"

/* Takes one name away, and the image with its last one; or, with name NULL,
 * the image with all its names. *gone tells whether the image went. TH_IN_USE
 * where containers use it. */
int th_image_remove(struct th_store *store, const char *digest,
	const char *name, bool *gone, struct th_error *err);

#endif
