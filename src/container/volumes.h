/* The volumes of a container that is being made. For the container module. */
#ifndef TH_CONTAINER_VOLUMES_H
#define TH_CONTAINER_VOLUMES_H

#include "container/container.h"
#include "oci/image_config.h"

/* Adds a mount for each volume that the image declares and nobody has set. */
int volumes_declare(struct th_settings *settings,
	const struct th_image_config *image, struct th_error *err);
/* Makes those that are missing, and sets the sources of their mounts. */
int volumes_make(struct th_store *store, struct th_settings *settings,
	const char *container, struct th_error *err);
/* Looks whether each mount fits its target, and fills those volumes that are
 * empty with what the image has there; the container's folder is filled and
 * its state not known to anybody yet. */
int volumes_fill(struct th_store *store, const struct th_settings *settings,
	const char *container, int folder, struct th_error *err);
/* Notes in the state who uses them. */
int volumes_use(struct th_store *store, const struct th_settings *settings,
	const char *container, struct th_error *err);
/* Takes back what volumes_make has made, where nothing comes of it. */
void volumes_undo(struct th_store *store, const char *container);

#endif
