/* The packet filter: one table of this store's (nf_tables over netlink). It
 * gives containers the host's address on their way out, keeps networks apart,
 * and leads packets from outside to published ports, so that the container
 * sees who the client is. */
#ifndef TH_NETWORK_PACKET_FILTER_H
#define TH_NETWORK_PACKET_FILTER_H

#include <netinet/in.h>

#include "base/error.h"
#include "network/link.h"

struct th_filter_network {
	char bridge[IFNAMSIZ];
	struct th_subnet subnet;
	bool internal; /* nothing leads out of it, or into it */
	/* Behind the uplink of an unprivileged user is the host's loopback:
	 * only its name server can be asked. */
	bool no_loopback;
};

/* A published port of a container. */
struct th_filter_port {
	int family; /* AF_INET, AF_INET6 */
	bool udp;
	bool any; /* on every address of the host, else on: */
	struct in6_addr host; /* (the first bytes, for IPv4) */
	uint16_t host_port;
	struct in6_addr to;
	uint16_t port;
};

/* Makes the table where it is missing, and its rules those for the networks:
 * all at once, so that no packet meets half of them. The ports stay. */
int th_filter_write(const char *table, const struct th_filter_network *list,
	size_t count, struct th_error *err);
/* Removes the table; one that is not there counts as success. */
int th_filter_close(const char *table, struct th_error *err);

/* Leads packets that come from outside to the container's ports. What an
 * earlier container left there is replaced. */
int th_filter_publish(const char *table, const struct th_filter_port *ports,
	size_t count, struct th_error *err);
/* Takes that back; what is not there counts as success. */
void th_filter_withdraw(
	const char *table, const struct th_filter_port *ports, size_t count);
/* Ends the flows that were led to the address: whoever gets it next has
 * nothing to do with them. */
void th_filter_forget(int family, const struct in6_addr *to);

#endif
