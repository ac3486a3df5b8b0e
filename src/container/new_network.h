/* Networks that are made by hand, or described in a file. */
#ifndef TH_CONTAINER_NEW_NETWORK_H
#define TH_CONTAINER_NEW_NETWORK_H

#include "store/network_state.h"

struct th_new_network {
	const char *name;
	struct th_strings subnets; /* up to one of each family; owned */
	bool internal; /* without a way out */
	bool loopback; /* with a way to the host's (users only) */
};

/* Makes it: 1 with its row, 0 where one of the name is there, -1. */
int th_network_new(struct th_store *store, const struct th_new_network *wish,
	struct th_network_row *row, struct th_error *err);

#endif
