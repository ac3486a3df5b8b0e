/* The pilot: holds the network namespace of an unprivileged user's networks,
 * and carries their packets to the world through a TCP/IP stack in user mode
 * (libslirp), as no user may plug devices into the host.
 *
 *   main.c    connections of commands and keepers, and the end
 *   inside.c  the namespace, and the device that leads out of it
 *   uplink.c  frames of that device, to and from the stack
 */
#ifndef PILOT_PILOT_H
#define PILOT_PILOT_H

#include <poll.h>
#include <stdbool.h>
#include <stddef.h>

#include "base/error.h"

/* inside.c */
struct inside {
	int netns; /* the namespace */
	int device; /* frames are read from and written to it; or -1 */
	bool packets; /* it is a packet socket, not a tap */
};

/* Makes the namespace, with forwarding, and a device with a way out; device is
 * -1 and err says why where that cannot be had. -1 where there is not even a
 * namespace. */
int inside_make(struct inside *inside, bool six, struct th_error *err);

/* uplink.c */
struct uplink;

/* The stack at the device; NULL without memory. six: with IPv6. */
struct uplink *uplink_new(int device, bool six);
/* Adds what is to be waited for to the list of polls, which grows, and lowers
 * the timeout. */
int uplink_fill(struct uplink *uplink, struct pollfd **polls, size_t *count,
	size_t *room, int *timeout_ms);
/* Works on what has become ready. */
void uplink_work(
	struct uplink *uplink, const struct pollfd *polls, bool failed);
void uplink_free(struct uplink *uplink);

/* confine.c: folder stays writable. */
int pilot_confine(int folder, struct th_error *err);

#endif
