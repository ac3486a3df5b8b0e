/* Networks that containers are plugged into: a bridge each, made when the
 * first running container needs it and gone with the last. */
#ifndef TH_NETWORK_NETWORK_H
#define TH_NETWORK_NETWORK_H

#include <stdbool.h>

#include "base/error.h"
#include "network/link.h"
#include "store/container_state.h"
#include "store/network_state.h"
#include "store/store.h"

/* Where a container is found. */
struct th_joined {
	/* On its first network with a way out, or else its first one. */
	char address4[TH_ADDRESS_TEXT];
	char address6[TH_ADDRESS_TEXT]; /* empty where there is no IPv6 */
	bool way_out; /* it can answer whoever talks to it from outside */
	bool way_out6;
};

/* Plugs the network namespace of a container into its networks: the bridges
 * where they are missing, device pairs, addresses that the state keeps until
 * the container stops. It can send from these addresses only, unless
 * any_address. The ports, held by the caller, come into the state at the same
 * time, before anything comes into being on the host. */
int th_network_join(struct th_store *store, const char *container, int netns,
	bool any_address, const struct th_port_row *ports, size_t port_count,
	struct th_joined *joined, struct th_error *err);

/* Leads packets from outside to the container's published ports, with the
 * client's address; and takes that back. port_rows are the state's. */
int th_network_forward(struct th_store *store, const struct th_joined *joined,
	const struct th_port_row *port_rows, size_t count,
	struct th_error *err);
void th_network_unforward(struct th_store *store,
	const struct th_joined *joined, const struct th_port_row *port_rows,
	size_t count);

/* Takes down the bridges, rules and settings that no running container needs
 * any more. Called after a container has stopped; without anything to do it
 * costs one look. */
int th_network_tidy(struct th_store *store, struct th_error *err);
/* True where a bridge is there that no running container needs, as a keeper was
 * killed before it could take it down. */
bool th_network_is_untidy(struct th_store *store);
/* Removes a network that nothing uses, and its bridge, which may be there still
 * (th_network_linger): the next network would get its number. */
int th_network_remove(
	struct th_store *store, const char *name, struct th_error *err);
/* Who holds this will call th_network_tidy in a moment: until then what nobody
 * needs is not untidy, as the next container may come right behind. The
 * descriptor is to be closed after that; -1 where that is not to be had. */
int th_network_linger(struct th_store *store);
/* True where somebody holds it. */
bool th_network_is_lingering(struct th_store *store);

/* Takes away what a keeper that was killed has left of its container: where it
 * was found is what the state still says. */
void th_network_clean(struct th_store *store, const char *container);

/* True where the container's device pairs are gone: the kernel removes them a
 * moment after the last process. Where the bridges are; and waiting for it, but
 * a second at most. */
bool th_network_is_unplugged(const char *container);
void th_network_await_unplugged(const char *container);

/* After that: takes away what the pairs leave, and by force the pairs
 * themselves. */
void th_network_unplugged(struct th_store *store, const char *container);

/* Reads "10.20.0.0/24" or "fd20::/64", whose host part must be zero, into the
 * subnet; TH_USAGE otherwise, or where it leaves no room for containers. */
int th_network_parse_subnet(
	const char *text, struct th_subnet *subnet, struct th_error *err);
/* TH_IN_USE where a route of the host or another network has the block. */
int th_network_check_subnet(struct th_store *store, const char *name,
	const struct th_subnet *subnet, struct th_error *err);
/* TH_USAGE where a container cannot have the address in the subnet. */
int th_network_check_address(const struct th_network_row *network,
	const char *address, struct th_error *err);

#endif
