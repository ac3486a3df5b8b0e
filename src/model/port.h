/* Ports of a container that are published on the host. */
#ifndef TH_MODEL_PORT_H
#define TH_MODEL_PORT_H

#include <jansson.h>
#include <stdbool.h>
#include <stddef.h>

#include "base/buffer.h"
#include "base/error.h"

#define TH_ADDRESS_TEXT 48 /* of IPv4 or IPv6, with the NUL */

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
/* Appends them in these forms, neighbours as a range; -1 without memory. */
int th_ports_format(
	const struct th_port *ports, size_t count, struct th_strings *texts);

/* A list of objects, and back (appended as above). */
json_t *th_ports_to_json(const struct th_port *ports, size_t count);
int th_ports_from_json(const json_t *list, struct th_port **ports,
	size_t *count, struct th_error *err);

#endif
