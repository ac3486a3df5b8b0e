/* The published ports: bound before the first run, so that what "in use" means
 * is decided by the kernel, once; and held to the last. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "keeper/free_ports.h"
#include "keeper/keeper.h"
#include "network/publish.h"

/* One that may be any is the one that it was, if nobody has it now. */
static int bind_port(
	struct th_port *port, uint16_t last, int fds[2], struct th_error *err)
{
	struct th_error taken = {0};

	if (port->host_port == 0 && last) {
		port->host_port = last;
		if (th_port_bind(port, fds, &taken) == 0)
			return 0;
		port->host_port = 0;
	}
	return th_port_bind(port, fds, err);
}

int keeper_bind_ports(struct keeper *keeper, struct th_error *err)
{
	size_t count = keeper->plan.port_count;
	uint16_t *last = calloc(count + 1, sizeof(*last));
	bool any = false;

	keeper->ports.fds = calloc(count + 1, sizeof(*keeper->ports.fds));
	keeper->ports.rows = calloc(count * 2 + 1, sizeof(*keeper->ports.rows));
	if (!keeper->ports.fds || !keeper->ports.rows || !last) {
		free(last);
		return th_fail_memory(err);
	}
	for (size_t i = 0; i < count; i++)
		any |= keeper->plan.ports[i].host_port == 0;
	if (any)
		free_ports_read(keeper->folder_fd, last, count);
	for (size_t i = 0; i < count; i++)
		keeper->ports.fds[i][0] = keeper->ports.fds[i][1] = -1;
	keeper->ports.count = count;
	for (size_t i = 0; i < count; i++) {
		struct th_port *port = &keeper->plan.ports[i];
		static const char *const every[2] = {"0.0.0.0", "::"};

		/* Bound here and held to the last run: what "in use" means is
		 * decided by the kernel, once. */
		if (!th_handed_take(&keeper->ports.handed_on, port,
			    keeper->ports.fds[i]) &&
			bind_port(port, last[i], keeper->ports.fds[i], err)) {
			free(last);
			return -1;
		}
		for (int family = 0; family < 2; family++) {
			struct th_port_row *row;

			if (keeper->ports.fds[i][family] < 0)
				continue;
			row = &keeper->ports.rows[keeper->ports.row_count++];
			snprintf(row->protocol, sizeof(row->protocol), "%s",
				port->udp ? "udp" : "tcp");
			snprintf(row->address, sizeof(row->address), "%s",
				port->address[0] ? port->address
						 : every[family]);
			row->host_port = port->host_port;
			row->port = port->port;
		}
	}
	/* Of ports that it has not. */
	th_handed_release(&keeper->ports.handed_on);
	if (any)
		free_ports_write(keeper->folder_fd, keeper->plan.ports, count);
	free(last);
	return 0;
}

/* It expects sockets that block. */
int keeper_hand_ports(struct keeper *keeper, size_t *used, struct th_error *err)
{
	size_t count = 0;

	for (size_t i = 0; i < keeper->ports.count; i++) {
		for (int f = 0; keeper->plan.ports[i].handoff && f < 2; f++) {
			int fd = keeper->ports.fds[i][f];

			if (fd < 0)
				continue;
			if (count == TH_HANDED_MAX)
				return th_fail(err, TH_NOT_POSSIBLE,
					"more than %d sockets cannot be handed "
					"to a program",
					TH_HANDED_MAX);
			fcntl(fd, F_SETFL, 0);
			keeper->ports.handed[count++] = fd;
		}
	}
	*used = count;
	return 0;
}

/* What connects in between waits for the next one. */
void keeper_give_ports(struct client *client)
{
	const struct keeper *keeper = client->keeper;
	struct th_port_row rows[TH_CHANNEL_FDS];
	int fds[TH_CHANNEL_FDS], used = 0;
	size_t at = 0;

	for (size_t i = 0; i < keeper->ports.count; i++) {
		for (int f = 0; f < 2; f++) {
			if (keeper->ports.fds[i][f] < 0)
				continue;
			rows[used] = keeper->ports.rows[at++];
			fds[used++] = keeper->ports.fds[i][f];
			if (used < TH_CHANNEL_FDS)
				continue;
			th_words_send_ports(client->watch.fd, TH_TELL_PORTS,
				rows, fds, (size_t)used);
			used = 0;
		}
	}
	if (used)
		th_words_send_ports(client->watch.fd, TH_TELL_PORTS, rows, fds,
			(size_t)used);
	th_channel_send(client->watch.fd, TH_TELL_PORTS, NULL, 0, NULL, 0);
}

void keeper_give_up_ports(struct keeper *keeper)
{
	keeper_end_relays(keeper);
	for (size_t i = 0; keeper->ports.fds && i < keeper->ports.count; i++) {
		th_close(&keeper->ports.fds[i][0]);
		th_close(&keeper->ports.fds[i][1]);
	}
}

void keeper_ports_release(struct ports *ports)
{
	th_handed_release(&ports->handed_on);
	free(ports->fds);
	free(ports->rows);
}
