/* What the launch of a group is made of. For the command line only. */
#ifndef CLI_GROUP_PARTS_H
#define CLI_GROUP_PARTS_H

#include "cli/making.h"
#include "group/group.h"

struct launching {
	struct invocation *call;
	struct th_settings_file *file;
	struct making *makings; /* one for each container of the file */
	struct th_group group;
	struct th_strings digests; /* of images that were built */
	struct th_strings networks; /* that the file describes */
	struct th_group_options options;
};

/* ---- group_images.c: before anything is stopped or started ---- */

/* Builds the images that are named by recipes. */
int build_images(struct launching *launching, struct th_error *err);
/* Pulls those that are not here, or are to be had anew. */
int pull_images(struct launching *launching, struct th_error *err);

#endif
