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
	int control; /* it ends when this is closed, and asks here: inner.h */
};
#define TH_RELAYING_NONE                                                       \
	{                                                                      \
		.pidfd = -1, .control = -1                                     \
	}

/* Where a relay is, and how it gets to the addresses. */
struct th_relaying_way {
	int netns; /* its network namespace; -1: the caller's */
	/* It is where the bridge is, and asks through control for what is
	 * inside (th_relay_new_outside). */
	bool outside;
	const char *address4, *address6; /* see th_relay_new */
};

/* Bound ports are carried to the addresses. fds[i] are those of ports[i], -1
 * where there is none; they stay the caller's. */
int th_relaying_start(struct th_relaying *relaying,
	const struct th_relaying_way *way, const struct th_port *ports,
	const int (*fds)[2], size_t count, struct th_error *err);
/* Ends it and all its connections; none counts as success. */
void th_relaying_end(struct th_relaying *relaying);

/* What the executed program calls when its first argument is this word. */
#define TH_RELAYING_WORD "relay"
int th_relaying_main(int argc, char **argv);

#endif
