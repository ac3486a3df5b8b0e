/* Published ports on the host's side: binding them, and who else has them. */
#ifndef TH_NETWORK_PUBLISH_H
#define TH_NETWORK_PUBLISH_H

#include <stdbool.h>
#include <stddef.h>

#include "base/error.h"
#include "model/port.h"

/* Binds the port and listens: fds[0] for IPv4, fds[1] for IPv6, -1 where not
 * wanted or not there. Sets host_port where it was 0. TH_IN_USE where
 * somebody has it; the caller finds out who. */
int th_port_bind(struct th_port *port, int fds[2], struct th_error *err);

/* The process that listens on the host port: its name and PID ("", 0 where
 * the system does not tell). False where there is none. */
bool th_port_holder(const struct th_port *port, char name[64], int *pid);

/* The next port above that can be bound, or 0. */
int th_port_next_free(const struct th_port *port);

#endif
