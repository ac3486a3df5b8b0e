/* A relay in a process of its own, which is nothing to take over: it has no
 * capabilities, no files, no memory but what it carries, and a few dozen system
 * calls (sandbox/wall.h). It is the calling program, executed once more. */
#ifndef TH_NETWORK_RELAYING_H
#define TH_NETWORK_RELAYING_H

#include <stddef.h>
#include <sys/types.h>

#include "base/error.h"
#include "network/publish.h"

struct th_relaying {
	pid_t pid; /* 0: there is none */
	int pidfd; /* becomes readable when it ends */
	int control; /* it ends when this is closed */
};
#define TH_RELAYING_NONE                                                       \
	{                                                                      \
		.pidfd = -1, .control = -1                                     \
	}

/* Bound ports are carried to the addresses (see th_relay_new) in the network
 * namespace (-1: the caller's). fds[i] are those of ports[i], -1 where there is
 * none; they stay the caller's. */
int th_relaying_start(struct th_relaying *relaying, int netns,
	const char *address4, const char *address6, const struct th_port *ports,
	const int (*fds)[2], size_t count, struct th_error *err);
/* Ends it and all its connections; none counts as success. */
void th_relaying_end(struct th_relaying *relaying);

/* What the executed program calls when its first argument is this word. */
#define TH_RELAYING_WORD "relay"
int th_relaying_main(int argc, char **argv);

#endif
