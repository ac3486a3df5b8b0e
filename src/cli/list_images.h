/* Images as list shows them. */
#ifndef CLI_LIST_IMAGES_H
#define CLI_LIST_IMAGES_H

#include "cli/verb.h"

void print_images(struct invocation *call, const json_t *doc);

#endif
