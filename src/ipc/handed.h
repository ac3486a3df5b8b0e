/* Sockets that listen at published ports, on their way from one container's
 * keeper to that of the container that takes its place. Nobody who connects in
 * between is refused: the kernel holds the connections until they are taken. */
#ifndef TH_IPC_HANDED_H
#define TH_IPC_HANDED_H

#include "ipc/channel.h"
#include "network/publish.h"

struct th_handed {
	struct th_port_row *rows;
	int *fds; /* one for each row; owned; -1 where it was taken */
	size_t count;
};

/* Reads all (TH_SAY_PORTS or TH_TELL_PORTS) from a channel, each within
 * timeout_ms. What has come by then is kept where it fails. */
int th_handed_receive(int channel, int timeout_ms, struct th_handed *handed,
	struct th_error *err);
/* Sends all; they stay this process's, too. */
int th_handed_send(int channel, enum th_message_type type,
	const struct th_handed *handed, struct th_error *err);
/* Takes what fits the port: fds as th_port_bind leaves them, host_port set.
 * False where there is nothing of the kind. */
bool th_handed_take(struct th_handed *handed, struct th_port *port, int fds[2]);
/* Closes those that are left. */
void th_handed_release(struct th_handed *handed);

#endif
