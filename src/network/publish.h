/* Published ports on the host's side: binding them, and who else has them. */
#ifndef TH_NETWORK_PUBLISH_H
#define TH_NETWORK_PUBLISH_H

#include <stdbool.h>
#include <stddef.h>

#include "base/error.h"
#include "store/container_state.h"

/* One port to publish. */
struct th_port {
	char address[TH_ADDRESS_TEXT]; /* empty: every address, v4 and v6 */
	int host_port; /* 0: a free one */
	int port; /* inside */
	bool udp;
	bool handoff; /* the program gets the listening socket itself */
};

/* Reads the forms of docs/settings.md: "80", "80=8080", "80=127.0.0.1:8080",
 * "80=[::1]:8080", "53=5353/udp", "8000-8009=9000-9009", each with ",handoff"
 * behind it where the socket is handed to the program; and appends one port
 * for each of a range; *ports is to be freed. TH_USAGE otherwise. */
int th_port_parse(const char *text, struct th_port **ports, size_t *count,
	struct th_error *err);

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
