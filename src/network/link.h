/* Network devices, addresses and routes. */
#ifndef TH_NETWORK_LINK_H
#define TH_NETWORK_LINK_H

#include <net/if.h>
#include <netinet/in.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"

/* What a network is made of, in numbers. */
struct th_subnet {
	struct in_addr base4; /* network address */
	int prefix4;
	struct in6_addr base6;
	int prefix6;
	bool has6;
};

/* A device pair that is to be made, and what it gets inside. */
struct th_plug {
	const char *outside; /* names of the two ends */
	const char *inside;
	const char *bridge;
	int netns; /* the container's network namespace */
	struct in_addr four;
	struct in6_addr six; /* where the subnet has IPv6 */
	bool gateway4, gateway6; /* the bridge is the way out */
	uint32_t mtu; /* 0: as devices have it */
	/* The table of guards; NULL: any address may be sent from. */
	const char *guards;
};

/* The network's block and the address at a place in it; place 1 is the bridge
 * itself. */
struct in_addr th_subnet_mask4(const struct th_subnet *subnet);
struct in6_addr th_subnet_mask6(const struct th_subnet *subnet);
struct in_addr th_subnet_address4(const struct th_subnet *subnet, int slot);
struct in6_addr th_subnet_address6(const struct th_subnet *subnet, int slot);
/* The last place that a container can have. */
int th_subnet_last(const struct th_subnet *subnet);

/* Makes a bridge with the subnet's first addresses, or makes one whole that a
 * killed program has left. Until it is whole it is down. */
int th_link_bridge(
	const char *name, const struct th_subnet *subnet, struct th_error *err);
bool th_link_is_up(const char *name);

/* Makes the pair: one end on the bridge, the other in the network namespace,
 * with its addresses, up, and with the default routes where the bridge is the
 * way out. Nothing is left where it fails. */
int th_link_join(const struct th_plug *plug, const struct th_subnet *subnet,
	struct th_error *err);

/* Makes a pair of devices, both down; the first on the bridge of that number
 * (0: none), the second in the network namespace netns (-1: here). hardware:
 * the second one's address, or NULL. 0, or -1 with errno. */
int th_link_pair(const char *first, const char *second, unsigned int bridge,
	int netns, uint32_t mtu, const unsigned char hardware[6]);
/* Sets a device of this network namespace up, mtu 0: as it is. */
int th_link_up(const char *name, uint32_t mtu);

/* Removes a device; one that is not there counts as success. */
int th_link_remove(const char *name, struct th_error *err);
/* True where the device is on no bridge, or on one whose name begins so. */
bool th_link_is_on(const char *name, const char *bridge);

#endif
