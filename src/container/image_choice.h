/* Which image a container is to be made of, and getting it here. */
#ifndef TH_CONTAINER_IMAGE_CHOICE_H
#define TH_CONTAINER_IMAGE_CHOICE_H

#include "container/container.h"
#include "oci/image_config.h"

struct th_image_choice {
	bool here;
	struct th_image_row image; /* where it is here; without its tags */
	char name[TH_REFERENCE_MAX]; /* as the container will show it */
	char host[256]; /* where it is to be pulled from */
	char *path; /* the packed file, or NULL; owned */
	struct th_strings notes; /* of the search, told with the pull; owned */
};

/* Looks among the images here, and else asks the registries or looks into the
 * packed file. Nothing is downloaded. Release in any case. */
int th_image_choose(const struct th_context *context,
	const struct th_settings *settings, struct th_image_choice *choice,
	struct th_error *err);
/* Pulls it where it is not here; and sees that it can run. */
int th_image_obtain(const struct th_context *context,
	const struct th_settings *settings, struct th_image_choice *choice,
	struct th_error *err);
void th_image_choice_release(struct th_image_choice *choice);

/* The config of an image that is here. */
int th_image_load(const struct th_context *context,
	const struct th_image_row *row, struct th_image_config *config,
	struct th_error *err);

/* The one image of a packed file, or that of the name, where one is given;
 * TH_USAGE with the names where there are several. */
int th_packed_choose(const struct th_packed *packed, const char *path,
	const char *name, const struct th_packed_image **image,
	struct th_error *err);

#endif
