/* The host's forwarding of packets, switched on while any store needs it and
 * put back afterwards. */
#ifndef TH_NETWORK_FORWARDING_H
#define TH_NETWORK_FORWARDING_H

#include <stdbool.h>

#include "base/error.h"

/* Notes that the store tag needs forwarding, and switches it on: for IPv4, and
 * for IPv6 where the host has a way out with it. */
int th_forwarding_take(const char *tag, struct th_error *err);
/* Notes that it does not need it any more; the last one puts the host's
 * settings back. */
void th_forwarding_give(const char *tag);

/* True where the host has a default route for IPv6. */
bool th_forwarding_way_out6(void);

/* True where IPv6 packets are forwarded. */
bool th_forwarding_has6(void);

#endif
