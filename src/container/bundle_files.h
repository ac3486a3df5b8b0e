/* The files of a container's folder beside config.json and plan.json. For the
 * container module only. */
#ifndef TH_CONTAINER_BUNDLE_FILES_H
#define TH_CONTAINER_BUNDLE_FILES_H

#include "model/settings.h"
#include "store/container_state.h"

/* Writes hosts, hostname, resolv.conf, secrets and the empty folders. */
int bundle_files(int folder, const struct th_container_row *row,
	const struct th_settings *settings, struct th_error *err);

#endif
