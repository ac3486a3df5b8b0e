/* The layers of an image as a picture. */
#ifndef CLI_IMAGE_TREE_H
#define CLI_IMAGE_TREE_H

#include "cli/table.h"
#include "cli/verb.h"

/* Adds, below the row of a layer, the other images that have it. */
void image_add_sharers(struct table *table, const json_t *layer);

/* Prints layers with their sizes, who else has them, and what of them no
 * container can see; image is what "show --json" has. -1 with an error. */
int image_tree(
	struct invocation *call, const json_t *image, struct th_error *err);

#endif
