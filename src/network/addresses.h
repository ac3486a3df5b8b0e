/* Which addresses a container gets on a network. For the network module only.
 */
#ifndef TH_NETWORK_ADDRESSES_H
#define TH_NETWORK_ADDRESSES_H

#include "network/link.h"
#include "network/subnet.h"

/* Gives the container its addresses, and notes them: those it asks for, those
 * of the container whose place it takes, or the next ones. */
int addresses_take(struct th_store *store, const struct th_network_row *row,
	const struct th_network_use *use, const char *container,
	const struct th_subnet *subnet, struct th_plug *plug,
	struct th_error *err);

#endif
