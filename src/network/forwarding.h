/* The host's IPv4 forwarding, switched on while any store needs it and put
 * back afterwards. */
#ifndef TH_NETWORK_FORWARDING_H
#define TH_NETWORK_FORWARDING_H

#include "base/error.h"

/* Notes that the store tag needs forwarding, and switches it on. */
int th_forwarding_take(const char *tag, struct th_error *err);
/* Notes that it does not need it any more; the last one puts the host's
 * setting back. */
void th_forwarding_give(const char *tag);

#endif
