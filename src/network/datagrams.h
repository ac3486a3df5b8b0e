/* Carries UDP datagrams from published ports into a container and back. For the
 * relay. */
#ifndef TH_NETWORK_DATAGRAMS_H
#define TH_NETWORK_DATAGRAMS_H

#include <sys/socket.h>

#include "base/error.h"
#include "base/loop.h"
#include "network/inner.h"

struct datagrams;

/* Serves a bound socket, which it takes over; *datagrams is made with the first
 * one. targets are tried in turn until one answers; inside NULL: what comes is
 * thrown away. */
int datagrams_serve(struct datagrams **datagrams, struct th_loop *loop,
	struct inner *inside, const struct sockaddr_storage *targets,
	int target_count, int port, int fd, struct th_error *err);
void datagrams_free(struct datagrams *datagrams);

#endif
