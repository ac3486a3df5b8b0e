/* The name of a container's image, however it was asked for. */
#ifndef CLI_IMAGE_NAMES_H
#define CLI_IMAGE_NAMES_H

#include <jansson.h>

#include "cli/verb.h"

#define IMAGE_NAME_TEXT 400

/* What is known of the images; read when it is wanted first. */
struct image_names {
	struct invocation *call;
	json_t *images;
};

/* "selwick/gauge" of one that was made by that name, by "selwick/gauge:latest"
 * or by a digest; a digest in short where the image has no name. */
void image_name(struct image_names *names, const json_t *container,
	char text[IMAGE_NAME_TEXT]);
void image_names_release(struct image_names *names);

#endif
