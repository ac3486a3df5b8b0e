/* Blocks of addresses: their text, and those that are free on this host. */
#ifndef TH_NETWORK_SUBNET_H
#define TH_NETWORK_SUBNET_H

#include "network/link.h"
#include "store/network_state.h"

/* The parts of a network's record; false where there are none, or they make no
 * sense. */
bool subnet_read(const struct th_network_row *row, struct th_subnet *subnet);
/* Each as "BASE/PREFIX", or "" where the subnet has none. */
void subnet_write(const struct th_subnet *subnet, char four[TH_ADDRESS_TEXT],
	char six[TH_ADDRESS_TEXT]);

/* Fills in what a person has not chosen: an IPv4 block that no route of the
 * host and no other network touches, beginning at a place that differs between
 * stores; and an IPv6 block of this store's own. */
int subnet_choose(struct th_store *store, const struct th_network_row *row,
	struct th_subnet *subnet, struct th_error *err);
/* True where a new device of this host can have IPv6 addresses. */
bool subnet_six_works(void);
/* True where a route of the host leads into the subnet's IPv4 block by another
 * device. */
bool subnet_routed(const struct th_subnet *subnet, const char *device);
/* The place in the subnet of an address; -1 where it has none. */
int subnet_slot4(const struct th_subnet *subnet, struct in_addr address);

#endif
