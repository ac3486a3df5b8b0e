/* The layers of an image as a picture. */
#ifndef CLI_IMAGE_TREE_H
#define CLI_IMAGE_TREE_H

#include "cli/verb.h"

/* Prints layers with their sizes, who else has them, and what of them no
 * container can see; image is what "show --json" has. -1 with an error. */
int image_tree(
	struct invocation *call, const json_t *image, struct th_error *err);

#endif
