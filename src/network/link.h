/* Network devices, addresses and routes. */
#ifndef TH_NETWORK_LINK_H
#define TH_NETWORK_LINK_H

#include <net/if.h>
#include <netinet/in.h>
#include <stdbool.h>

#include "base/error.h"

/* What a network is made of, in numbers. */
struct th_subnet {
	struct in_addr base4; /* network address */
	int prefix4;
	struct in6_addr base6; /* a /64 */
	bool has6;
};

/* The address at a place in the subnet; place 1 is the bridge itself. */
struct in_addr th_subnet_address4(const struct th_subnet *subnet, int slot);
struct in6_addr th_subnet_address6(const struct th_subnet *subnet, int slot);

/* Makes a bridge with the subnet's first addresses, up. has6 is taken back
 * where the host has no IPv6. */
int th_link_bridge(
	const char *name, struct th_subnet *subnet, struct th_error *err);

/* Makes a pair of devices: one end on the bridge, the other as eth0 inside
 * the network namespace netns, with the addresses of slot, up, and with the
 * default routes through the bridge. Nothing is left where it fails. */
int th_link_join(const char *outside, const char *bridge, int netns,
	const struct th_subnet *subnet, int slot, struct th_error *err);

/* Removes a device; one that is not there counts as success. */
int th_link_remove(const char *name, struct th_error *err);

#endif
