/* The root of an image as its containers see it, without mounting it. */
#ifndef TH_CONTAINER_IMAGE_ROOT_H
#define TH_CONTAINER_IMAGE_ROOT_H

#include "base/buffer.h"
#include "layer/view.h"
#include "store/image_state.h"

struct th_image_root {
	struct th_strings trees; /* of the overlay, the lowest first */
	int attributes; /* the tree with the root's own ones, or -1 */
	bool nobodys; /* it is borrowed, and its owner is not known here */
	struct th_view *view;
};

/* TH_NOT_FOUND where the image is gone. To be released. */
int th_image_root_open(struct th_store *store, const char *digest,
	struct th_image_root *root, struct th_error *err);
void th_image_root_release(struct th_image_root *root);

/* Reads a file; empty where there is none, or something else in its place. */
int th_image_root_read(const struct th_image_root *root, const char *path,
	struct th_buf *buf, struct th_error *err);

/* Gives the folder, a container's uppermost layer, the owner, mode and times
 * that the root has in the image. */
int th_image_root_dress(
	const struct th_image_root *root, int folder, struct th_error *err);

#endif
