/* The pilot of an unprivileged user: the program that holds the user and
 * network namespace in which his networks lie, and their way out. It runs as
 * long as anybody is connected to it. */
#ifndef TH_NETWORK_PILOT_H
#define TH_NETWORK_PILOT_H

#include <stdbool.h>
#include <stdint.h>
#include <sys/types.h>

#include "base/error.h"

/* Its socket, in the folder of the store's run-time files. */
#define TH_PILOT_SOCKET "pilot.sock"
/* Its argument where it has a second socket, without a file. */
#define TH_PILOT_SPARE "spare"
/* Held by who looks for one, or starts one. */
#define TH_PILOT_LOCK "pilot.lock"

/* The network between the pilot's namespace and the user-mode stack; no network
 * of containers lies there. */
#define TH_UPLINK_BASE "10.255.255.0"
#define TH_UPLINK_MASK "255.255.255.0"
#define TH_UPLINK_OWN "10.255.255.1"
#define TH_UPLINK_HOST "10.255.255.2" /* leads to the host's loopback */
#define TH_UPLINK_NAMES "10.255.255.3" /* leads to the host's name server */
#define TH_UPLINK_BASE6 "fd54:4800:ffff:ff::"
#define TH_UPLINK_OWN6 "fd54:4800:ffff:ff::1"
#define TH_UPLINK_HOST6 "fd54:4800:ffff:ff::2"
#define TH_UPLINK_NAMES6 "fd54:4800:ffff:ff::3"

/* The largest packet that the user-mode stack takes: the fewer there are, the
 * faster. */
#define TH_UPLINK_MTU 65520

/* What it says to whoever connects, with descriptors of its user and network
 * namespaces. */
struct th_pilot_hello {
	uint32_t version;
	bool way_out, way_out6;
	char reason[200]; /* why there is no way out, or "" */
};
#define TH_PILOT_VERSION 1

/* A connection: it keeps the pilot. Closed is -1. */
struct th_pilot {
	int connection, users, netns;
	pid_t pid; /* where it was just started */
	struct th_pilot_hello hello;
};

/* Waits for the lock in the run-time folder; its descriptor, or -1. */
int th_pilot_lock(int run_fd, struct th_error *err);

/* Connects to the pilot of the store whose run-time folder this is: 1, or 0
 * where none runs, or -1. */
int th_pilot_connect(int run_fd, struct th_pilot *pilot, struct th_error *err);
void th_pilot_close(struct th_pilot *pilot);

/* Starts the program, in the user namespace of the caller, and connects to it:
 * the caller has the lock. */
int th_pilot_start(const char *program, int run_fd, struct th_pilot *pilot,
	struct th_error *err);

#endif
