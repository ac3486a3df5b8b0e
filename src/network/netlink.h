/* Netlink messages, built and sent in batches. (libmnl would do, but Debian
 * has no static form of it, and the keeper is a static program.) */
#ifndef TH_NETWORK_NETLINK_H
#define TH_NETWORK_NETLINK_H

#include <stddef.h>
#include <stdint.h>

struct th_netlink {
	char *data; /* grows; attributes are aligned to 4 bytes */
	size_t size, len;
	size_t message; /* where the current one begins */
	unsigned int count;
	int overflow; /* no memory, or too much of it */
};

void th_netlink_init(struct th_netlink *batch);
/* Appends bytes as they are, aligned. */
void th_netlink_put_raw(struct th_netlink *batch, const void *data, size_t len);
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

/* Releases a batch that is not sent. */
void th_netlink_drop(struct th_netlink *batch);

/* Asks for an answer to the current message. Messages that fail are answered
 * anyway, so of many the last one is enough. */
void th_netlink_ask(struct th_netlink *batch);

/* Sends the batch over a new socket of the protocol (NETLINK_ROUTE, ...),
 * waits for the answers to all messages that asked for one (NLM_F_ACK), and
 * releases it. Returns 0, or -1 with the errno of the first that failed. */
int th_netlink_send(int protocol, struct th_netlink *batch);

/* Asks for a list (a request with NLM_F_DUMP), and gives each message of the
 * answer to take, without its header; releases the batch. Returns 0, or -1 with
 * errno. */
int th_netlink_dump(int protocol, struct th_netlink *batch,
	void (*take)(void *owner, const void *message, size_t len),
	void *owner);
/* The text of an attribute among those at attributes; NULL where it is not
 * there, or no text. */
const char *th_netlink_text(const void *attributes, size_t len, int type);
/* A number of 32 bits likewise; 0 where it is not there. */
uint32_t th_netlink_u32(const void *attributes, size_t len, int type);

#endif
