/* The files of a container's folder beside config.json and plan.json. For the
 * container module only. */
#ifndef TH_CONTAINER_COMPOSE_FILES_H
#define TH_CONTAINER_COMPOSE_FILES_H

#include "container/settings.h"
#include "store/container_state.h"

/* Writes hosts, hostname, resolv.conf, secrets and the empty folders. */
int compose_files(int folder, const struct th_container_row *row,
	const struct th_settings *settings, struct th_error *err);

#endif
