/* Writes a container's folder: the OCI bundle and what the keeper needs. */
#ifndef TH_CONTAINER_MAKE_BUNDLE_H
#define TH_CONTAINER_MAKE_BUNDLE_H

#include "container/image_root.h"
#include "model/settings.h"
#include "oci/image_config.h"
#include "store/container_state.h"
#include "store/store.h"

/* The command that settings and image come to: entrypoint, then arguments.
 * TH_USAGE where that is nothing. */
int th_bundle_command(const struct th_settings *settings,
	const struct th_image_config *image, struct th_strings *command,
	struct th_error *err);

/* Fills the folder of a new container (open as folder, which lies at
 * containers/ID) with config.json, plan.json and the files that are mounted
 * below /etc. */
int th_bundle_make(struct th_store *store, int folder,
	const struct th_container_row *row, const struct th_settings *settings,
	const struct th_image_config *image, const struct th_image_root *root,
	struct th_error *err);

#endif
