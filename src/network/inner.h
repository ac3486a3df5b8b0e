/* Sockets of a container's network, made from outside: for relays and probes.
 */
#ifndef TH_NETWORK_INNER_H
#define TH_NETWORK_INNER_H

#include "base/error.h"

struct inner; /* opaque */

/* netns stays the caller's, who keeps it open (-1: where the caller is); NULL
 * with errno. */
struct inner *inner_new(int netns);
/* A socket (SOCK_STREAM, SOCK_DGRAM) that does not block; -1 with errno. */
int inner_socket(struct inner *inner, int family, int type);
void inner_free(struct inner *inner);

#endif
