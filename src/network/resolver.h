/* The name servers that a container asks: those of its host, where it can
 * reach them (resolv.conf(5)). */
#ifndef TH_NETWORK_RESOLVER_H
#define TH_NETWORK_RESOLVER_H

#include "base/buffer.h"
#include "store/container_state.h"

enum th_resolver {
	TH_RESOLVER_PLAIN, /* those that are not on the loopback */
	TH_RESOLVER_SAME, /* it is on the host's own network */
	TH_RESOLVER_RELAY, /* a server on the host's loopback is relayed to */
	TH_RESOLVER_UPLINK /* the uplink of an unprivileged user leads there */
};

/* Writes a container's resolv.conf after the host's text. Where the host has
 * no server but on its loopback, one is named that leads there: with
 * TH_RESOLVER_RELAY it has the same address inside, which is put into relay
 * ("" otherwise), and somebody has to serve it. */
int th_resolver_write(const char *host, enum th_resolver kind,
	struct th_buf *text, char relay[TH_ADDRESS_TEXT], struct th_error *err);

/* The host's text: of a host whose own stub is on the loopback, what the stub
 * itself asks. */
int th_resolver_read_host(struct th_buf *text, struct th_error *err);

#endif
