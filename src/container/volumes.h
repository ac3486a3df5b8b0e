/* The volumes of a container that is being made. For the container module. */
#ifndef TH_CONTAINER_VOLUMES_H
#define TH_CONTAINER_VOLUMES_H

#include "container/container.h"
#include "oci/image_config.h"

/* Adds a mount for each volume that the image declares and nobody has set. */
int volumes_declare(struct th_store *store, struct th_settings *settings,
	const struct th_image_config *image, struct th_error *err);
/* Sets the sources of their mounts. */
int volumes_place(struct th_store *store, struct th_settings *settings,
	struct th_error *err);
/* Looks whether each mount fits its target, makes folders for the volumes that
 * are missing (seen by nobody yet), and fills those that are empty with what
 * the image has there; the container's folder is filled and its state not known
 * to anybody yet. Ended by th_volume_settle, with the container's ID. */
int volumes_prepare(struct th_store *store, const struct th_settings *settings,
	const char *container, int folder, struct th_error *err);
/* In the transaction that makes the container: puts the new ones into their
 * place and notes who uses them. 1 where somebody else has made one of the name
 * meanwhile, so that all has to be done once more. */
int volumes_record(struct th_store *store, const struct th_settings *settings,
	const char *container, struct th_error *err);

#endif
