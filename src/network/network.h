/* Networks that containers are plugged into: a bridge each, made when the
 * first running container needs it and gone with the last. */
#ifndef TH_NETWORK_NETWORK_H
#define TH_NETWORK_NETWORK_H

#include <stdbool.h>

#include "base/error.h"
#include "store/container_state.h"
#include "store/store.h"

/* The network of containers that name no other. */
#define TH_NETWORK_DEFAULT "quayside"

/* A network that only the container itself is in: its ports can be published,
 * and nothing else leads in or out. What an ordinary user has. */
#define TH_NETWORK_OWN "own"

/* True for one that has a bridge; "host", "none" and "own" have none. */
bool th_network_is_shared(const char *name);

struct th_joined {
	char address4[TH_ADDRESS_TEXT];
	char address6[TH_ADDRESS_TEXT]; /* empty where the host has no IPv6 */
};

/* Plugs the network namespace of a container into the network: the bridge
 * where it is missing, a device pair, addresses that the state keeps until
 * the container stops. */
int th_network_join(struct th_store *store, const char *network,
	const char *container, int netns, struct th_joined *joined,
	struct th_error *err);

/* Takes down the bridges, rules and settings that no running container needs
 * any more. Called after a container has stopped; without anything to do it
 * costs one look. */
int th_network_tidy(struct th_store *store, struct th_error *err);

/* Waits until the container's device pair is gone (the kernel removes it a
 * moment after the last process) and removes it by force after a while. */
void th_network_unplugged(const char *container);

#endif
