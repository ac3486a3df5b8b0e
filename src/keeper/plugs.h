/* The networks of a run, its names and relays. */
#ifndef TH_KEEPER_PLUGS_H
#define TH_KEEPER_PLUGS_H

#include <stdbool.h>
#include <stdint.h>

#include "base/loop.h"
#include "network/network.h"
#include "network/pilot.h"
#include "network/relay.h"
#include "network/relaying.h"

struct keeper;

struct plugs {
	int netns;
	struct th_joined joined;
	struct th_pilot pilot; /* held from the first run to the last */
	struct th_watch pilot_end;
	/* To the ports, and to name servers on the host's loopback. */
	struct th_relaying relaying, names_relaying;
	struct th_watch relaying_end, relaying_asks;
	struct inner *relay_inner; /* for what it asks; made with the first */
	int relaying_tries; /* how often it was started in this run */
	bool led; /* packets from outside are led to the ports */
	struct th_relay *closed_relay; /* while nothing is behind the ports */
	int64_t names_ms; /* when neighbours are told; 0: they know all */
	int names_tries;
	int64_t names_us; /* since when there is something to tell */
};

void keeper_plugs_init(struct plugs *plugs);
/* What must be there before the process is, and what needs it. */
int keeper_find_network(struct keeper *keeper, struct th_error *err);
int keeper_join_network(struct keeper *keeper, struct th_error *err);
/* Between two runs: whoever connects to a port is told that nobody is there. */
int keeper_close_ports(struct keeper *keeper, struct th_error *err);
void keeper_end_relays(struct keeper *keeper);
/* Packets from outside end at the host again. */
void keeper_unforward_ports(struct keeper *keeper);
/* Lets the network of a run go; what it has on the host goes in steps
 * (closing.c). Then: true where that is done. */
void keeper_leave_network(struct keeper *keeper);
bool keeper_unplug_step(struct keeper *keeper, bool by_force);
/* Takes down what no container is on; false where the networks are locked. */
bool keeper_tidy_bridges(struct keeper *keeper);
/* Those on the same networks learn that it has come or gone: a moment later, so
 * that many who come at once are told together. When (of the clock that never
 * jumps; 0: they know all), and what is due; and all of it, at the end. */
void keeper_tell_neighbours(struct keeper *keeper);
int64_t keeper_names_due(const struct keeper *keeper);
void keeper_names_work(struct keeper *keeper);
void keeper_names_at_last(struct keeper *keeper);
/* name_servers.c: the container's resolv.conf, and what it leads to. */
int keeper_set_resolver(struct keeper *keeper, struct th_error *err);
void keeper_end_resolver(struct keeper *keeper);

#endif
