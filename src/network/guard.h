/* Guards at the ports of bridges: what a container sends is dropped there
 * unless it comes from the container's own hardware and IP addresses, whatever
 * rights it has inside. A table of the packet filter's "netdev" family, which
 * sees frames before the bridge does, with a chain for each port. */
#ifndef TH_NETWORK_GUARD_H
#define TH_NETWORK_GUARD_H

#include <netinet/in.h>
#include <stdbool.h>

#include "base/error.h"

struct th_guard {
	const char *device; /* the port: the outer end of the pair */
	unsigned char hardware[6];
	struct in_addr four;
	struct in6_addr six;
	bool has6;
};

/* Sets the guard up, in place of an earlier one of that port. 1 where the
 * kernel has no such filter; TH_NOT_POSSIBLE where it fails otherwise. */
int th_guard_write(
	const char *table, const struct th_guard *guard, struct th_error *err);
/* Removes one; kernels before 6.16 do so with the device. What is not there
 * counts as success. */
void th_guard_remove(const char *table, const char *device);
/* Removes those whose device has gone without them, as that of a container
 * whose keeper was killed. */
void th_guard_tidy(const char *table);
/* Removes the table with all of them; what is not there counts as success. */
void th_guard_close(const char *table);

#endif
