/* What the launch of a group is made of. For the command line only. */
#ifndef CLI_GROUP_PARTS_H
#define CLI_GROUP_PARTS_H

#include "cli/making.h"

struct launching {
	struct invocation *call;
	const json_t *file;
	json_t *group; /* for the library; owned */
	struct th_group_how how;
};

/* Builds the images that are named by recipes, before anything is stopped or
 * started. */
int build_images(struct launching *launching, struct th_error *err);

#endif
