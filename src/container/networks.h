/* The networks that a container's settings name. */
#ifndef TH_CONTAINER_NETWORKS_H
#define TH_CONTAINER_NETWORKS_H

#include "container/container.h"

/* What only the state knows: the container whose network is shared, and whether
 * addresses can be had. */
void networks_check(const struct th_context *context,
	struct th_settings *settings, struct th_problems *problems);
/* In the transaction that makes the container, whose row is there: makes those
 * that are missing, notes their names in the settings, and who uses them. */
int networks_record(struct th_store *store, struct th_settings *settings,
	const char *container, struct th_error *err);

/* The text for people: the name of a container instead of its ID. */
const char *th_network_text(const struct th_context *context,
	const char *network, char text[TH_NETWORK_TEXT]);

#endif
