/* How containers of one network find each other: each one's hosts file lists
 * its neighbours. */
#ifndef TH_NETWORK_NAMES_H
#define TH_NETWORK_NAMES_H

#include "store/store.h"

/* The name that a container knows its host by. */
#define TH_NAMES_HOST "host.tidyhull"
/* How long a command waits for others that write the same files. */
#define TH_NAMES_PATIENCE_MS 3000
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
 * changed_us: it is left out where somebody has done it since. Waits up to
 * patience_ms for others that do the same. 0, or -1 where that was not enough,
 * or a file could not be written just now: to be tried again later. */
int th_names_refresh(struct th_store *store, const char *networks,
	int64_t changed_us, int patience_ms);

#endif
