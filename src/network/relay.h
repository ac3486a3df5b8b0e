/* Carries TCP connections from the host's published ports into a container's
 * network namespace. */
#ifndef TH_NETWORK_RELAY_H
#define TH_NETWORK_RELAY_H

#include "base/error.h"
#include "base/loop.h"
#include "network/publish.h"

struct th_relay;

/* A relay into the network namespace netns (borrowed, must stay open; -1: where
 * the caller is). The
 * addresses are tried in turn, and then the loopback inside; they may be
 * empty. */
struct th_relay *th_relay_new(struct th_loop *loop, int netns,
	const char *address4, const char *address6);

/* The same from where the networks of containers are, which the addresses are
 * reached from; who is asked through the channel (inner.h) makes the sockets
 * for the loopback inside. What a server sees is the address of the bridge, and
 * not its own, which some trust more. */
struct th_relay *th_relay_new_outside(struct th_loop *loop, int channel,
	const char *address4, const char *address6);

/* A relay that leads nowhere: whoever connects is reset at once. For ports that
 * are held while nothing is behind them. */
struct th_relay *th_relay_new_closed(struct th_loop *loop);

/* Serves a bound port; takes the descriptors over. */
int th_relay_serve(struct th_relay *relay, const struct th_port *port,
	const int fds[2], struct th_error *err);

/* Ends all connections and closes all descriptors it was given. */
void th_relay_free(struct th_relay *relay);

#endif
