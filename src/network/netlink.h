/* Netlink messages, built and sent in batches. (libmnl would do, but Debian
 * has no static form of it, and the keeper is a static program.) */
#ifndef TH_NETWORK_NETLINK_H
#define TH_NETWORK_NETLINK_H

#include <stddef.h>
#include <stdint.h>

#define TH_NETLINK_BATCH 8192

struct th_netlink {
	/* Attributes are aligned to 4 bytes. */
	_Alignas(8) char data[TH_NETLINK_BATCH];
	size_t len;
	size_t message; /* where the current one begins */
	unsigned int count;
	int overflow;
};

void th_netlink_init(struct th_netlink *batch);
/* Begins a message with its fixed header (struct ifinfomsg, ...). */
void th_netlink_begin(struct th_netlink *batch, int type, int flags,
	const void *header, size_t len);
void th_netlink_put(
	struct th_netlink *batch, int type, const void *data, size_t len);
void th_netlink_put_text(struct th_netlink *batch, int type, const char *text);
void th_netlink_put_u32(struct th_netlink *batch, int type, uint32_t value);
/* In the network's byte order, as nfnetlink wants its numbers. */
void th_netlink_put_be32(struct th_netlink *batch, int type, uint32_t value);
/* Opens an attribute that holds others; give the result to _nest_end. */
size_t th_netlink_nest(struct th_netlink *batch, int type);
void th_netlink_nest_end(struct th_netlink *batch, size_t nest);

/* Sends the batch over a new socket of the protocol (NETLINK_ROUTE, ...) and
 * waits for the answers to all messages that asked for one (NLM_F_ACK).
 * Returns 0, or -1 with the errno of the first that failed. */
int th_netlink_send(int protocol, const struct th_netlink *batch);

#endif
