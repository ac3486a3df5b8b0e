/* The published ports, held from the first run to the last. */
#ifndef TH_KEEPER_PORTS_H
#define TH_KEEPER_PORTS_H

#include <stddef.h>

#include "ipc/handed.h"
#include "sandbox/sandbox.h"
#include "store/container_state.h"

struct client;
struct keeper;

struct ports {
	int (*fds)[2]; /* of each port of the plan: IPv4, IPv6, or -1 */
	size_t count;
	struct th_port_row *rows; /* what is held, for the state */
	size_t row_count;
	struct th_handed handed_on; /* what it takes its ports from */
	int handed[TH_HANDED_MAX]; /* sockets that the program gets itself */
};

int keeper_bind_ports(struct keeper *keeper, struct th_error *err);
/* Before anybody hears of the end: who starts another one in its place finds
 * them free. */
void keeper_give_up_ports(struct keeper *keeper);
/* The program takes its connections itself: so many in keeper->ports.handed. */
int keeper_hand_ports(
	struct keeper *keeper, size_t *count, struct th_error *err);
/* To the container that comes after this one. */
void keeper_give_ports(struct client *client);
void keeper_ports_release(struct ports *ports);

#endif
