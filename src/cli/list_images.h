/* list images: the images that are here. */
#ifndef CLI_LIST_IMAGES_H
#define CLI_LIST_IMAGES_H

#include "cli/verb.h"

/* The exit code. */
int list_images(struct invocation *call);

#endif
