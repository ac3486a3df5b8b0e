#include "ipc/handed.h"

#include <errno.h>
#include <poll.h>
#include <stdlib.h>
#include <string.h>

#include "base/buffer.h"
#include "base/file.h"
#include "ipc/words.h"

static int add(struct th_handed *handed, const struct th_port_row *row, int fd,
	struct th_error *err)
{
	struct th_port_row *rows = realloc(
		handed->rows, (handed->count + 1) * sizeof(*handed->rows));
	int *fds;

	if (!rows)
		return th_fail_memory(err);
	handed->rows = rows;
	fds = realloc(handed->fds, (handed->count + 1) * sizeof(*fds));
	if (!fds)
		return th_fail_memory(err);
	handed->fds = fds;
	rows[handed->count] = *row;
	fds[handed->count++] = fd;
	return 0;
}

/* One message: 1, 0 where it was the last one, -1. */
static int take_message(const struct th_message *message,
	int came[TH_CHANNEL_FDS], struct th_handed *handed,
	struct th_error *err)
{
	struct th_port_row rows[TH_CHANNEL_FDS];
	size_t count = th_words_ports(message, rows);
	int rc = count ? 1 : 0;

	for (size_t i = 0; i < TH_CHANNEL_FDS; i++) {
		if (came[i] < 0)
			continue;
		if (rc == 1 && i < count) {
			if (add(handed, &rows[i], came[i], err))
				rc = -1;
			else
				came[i] = -1;
		}
		th_close(&came[i]);
	}
	return rc;
}

int th_handed_receive(int channel, int timeout_ms, struct th_handed *handed,
	struct th_error *err)
{
	struct pollfd one = {.fd = channel, .events = POLLIN};
	struct th_message message;
	int came[TH_CHANNEL_FDS], rc;

	for (;;) {
		rc = poll(&one, 1, timeout_ms);
		if (rc < 0 && errno == EINTR)
			continue;
		if (rc == 0)
			return th_fail(err, TH_FAILED,
				"the ports were not handed on in time");
		rc = th_channel_receive(channel, &message, came, err);
		if (rc <= 0)
			return err->code ? -1
					 : th_fail(err, TH_FAILED,
						   "the ports were not handed "
						   "on");
		/* What else is said meanwhile is not about ports. */
		if (message.type == TH_SAY_PORTS ||
			message.type == TH_TELL_PORTS)
			rc = take_message(&message, came, handed, err);
		for (size_t i = 0; i < TH_CHANNEL_FDS; i++)
			th_close(&came[i]);
		if (rc <= 0)
			return rc;
	}
}

int th_handed_send(int channel, enum th_message_type type,
	const struct th_handed *handed, struct th_error *err)
{
	int rc = 0;

	for (size_t at = 0; rc == 0 && at < handed->count;) {
		size_t count = handed->count - at < TH_CHANNEL_FDS
			? handed->count - at
			: TH_CHANNEL_FDS;

		rc = th_words_send_ports(channel, type, handed->rows + at,
			handed->fds + at, count);
		at += count;
	}
	if (rc == 0)
		rc = th_channel_send(channel, type, NULL, 0, NULL, 0);
	return rc
		? th_fail_sys(err, TH_FAILED, errno, "cannot hand the ports on")
		: 0;
}

static bool fits(const struct th_port_row *row, const struct th_port *port,
	const char *address)
{
	return row->port == port->port &&
		strcmp(row->protocol, port->udp ? "udp" : "tcp") == 0 &&
		(!port->host_port || row->host_port == port->host_port) &&
		strcmp(row->address, address) == 0;
}

bool th_handed_take(struct th_handed *handed, struct th_port *port, int fds[2])
{
	static const char *const every[2] = {"0.0.0.0", "::"};
	bool any = false;

	fds[0] = fds[1] = -1;
	for (int family = 0; family < 2; family++) {
		const char *address =
			port->address[0] ? port->address : every[family];
		int own = strchr(address, ':') ? 1 : 0;

		for (size_t i = 0; own == family && i < handed->count; i++) {
			if (handed->fds[i] < 0 ||
				!fits(&handed->rows[i], port, address))
				continue;
			fds[family] = handed->fds[i];
			handed->fds[i] = -1;
			/* The other family is to have the same one. */
			port->host_port = handed->rows[i].host_port;
			any = true;
			break;
		}
	}
	return any;
}

void th_handed_release(struct th_handed *handed)
{
	for (size_t i = 0; i < handed->count; i++)
		th_close(&handed->fds[i]);
	free(handed->rows);
	free(handed->fds);
	memset(handed, 0, sizeof(*handed));
}
