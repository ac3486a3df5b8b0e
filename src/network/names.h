/* How containers of one network find each other: each one's hosts file lists
 * its neighbours. */
#ifndef TH_NETWORK_NAMES_H
#define TH_NETWORK_NAMES_H

#include "store/store.h"

/* The name that a container knows its host by. */
#define TH_NAMES_HOST "host.tidyhull"
/* Lines of the container's own that stand in its hosts file, in its folder. */
#define TH_NAMES_EXTRA "extra-hosts"

/* Writes the hosts file of one container, in place, as it may be mounted. */
int th_names_write(
	struct th_store *store, const char *container, struct th_error *err);
/* Gives a container the hosts file of another one, whose network it shares. */
int th_names_copy(struct th_store *store, const char *from, const char *to,
	struct th_error *err);
/* Writes those of all that have an address in one of the networks (with commas
 * between). To be called when one has come, gone, or changed its name, at
 * changed_us: it is left out where somebody has done it since. */
void th_names_refresh(
	struct th_store *store, const char *networks, int64_t changed_us);

#endif
