/* Sockets of a container's network, made from outside: for relays and probes.
 */
#ifndef TH_NETWORK_INNER_H
#define TH_NETWORK_INNER_H

#include <sys/socket.h>

#include "base/error.h"

struct inner; /* opaque */

/* netns stays the caller's, who keeps it open (-1: where the caller is); NULL
 * with errno. */
struct inner *inner_new(int netns);
/* Where somebody else makes the sockets and sends them through the channel
 * (SOCK_SEQPACKET), which stays the caller's. */
struct inner *inner_new_asking(int channel);
/* Answers what was asked through the other end of such a channel. -1 where
 * nobody asks any more. */
int inner_answer(struct inner *inner, int channel);
/* A socket (SOCK_STREAM, SOCK_DGRAM) that does not block; -1 with errno. */
int inner_socket(struct inner *inner, int family, int type);
/* The same to connect to an address. Who asks is where the address is reached
 * from, and only the loopback is inside. */
int inner_socket_to(
	struct inner *inner, const struct sockaddr_storage *to, int type);
void inner_free(struct inner *inner);

#endif
