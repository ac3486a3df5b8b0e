/* What capture and build have in common: when an image was made. */
#ifndef CLI_MAKING_IMAGE_H
#define CLI_MAKING_IMAGE_H

#include "cli/verb.h"

/* SOURCE_DATE_EPOCH (reproducible-builds.org), seconds since 1970, into the
 * wish for an image; and how its layers are compressed. */
int image_wish_read(
	const struct invocation *call, json_t *wish, struct th_error *err);

#endif
