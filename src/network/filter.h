/* The packet filter: one table of this store's, with the address translation
 * that lets containers reach the world (nf_tables over netlink). */
#ifndef TH_NETWORK_FILTER_H
#define TH_NETWORK_FILTER_H

#include "base/error.h"
#include "network/link.h"

/* Makes the table (replacing one of the same name): what comes from the
 * subnet and leaves by another device than the bridge gets the host's
 * address. */
int th_filter_open(const char *table, const char *bridge,
	const struct th_subnet *subnet, struct th_error *err);
/* Removes the table; one that is not there counts as success. */
int th_filter_close(const char *table, struct th_error *err);

#endif
