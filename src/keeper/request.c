/* What commands ask of the keeper. */
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "keeper/keeper.h"
#include "sandbox/rights.h"

#define WHAT "a request"

/* A request that is a JSON object; each is read as far as it goes. */
struct request {
	json_t *doc;
	int64_t signal, grace_ms;
	const char *actor, *what, *session;
	bool holds, stays_due;
};

static int read_request(const struct keeper *keeper,
	const struct th_message *message, struct request *request,
	struct th_error *err)
{
	memset(request, 0, sizeof(*request));
	request->signal = keeper->plan.stop_signal;
	request->grace_ms = keeper->plan.grace_ms;
	if (th_json_parse(
		    message->data, message->len, WHAT, &request->doc, err) ||
		th_json_int(request->doc, "signal", WHAT, &request->signal,
			err) < 0 ||
		th_json_int(request->doc, "grace-ms", WHAT, &request->grace_ms,
			err) < 0 ||
		th_json_string(request->doc, "actor", WHAT, &request->actor,
			err) < 0 ||
		th_json_string(
			request->doc, "until", WHAT, &request->what, err) < 0 ||
		th_json_string(request->doc, "session", WHAT, &request->session,
			err) < 0 ||
		th_json_bool(request->doc, "holds", WHAT, &request->holds,
			err) < 0 ||
		th_json_bool(request->doc, "stays-due", WHAT,
			&request->stays_due, err) < 0 ||
		request->signal < 1 || request->signal > 64 ||
		request->grace_ms < 0)
		return th_fail(err, TH_FAILED, "the request is not valid");
	return 0;
}

static void refuse(struct client *client, const struct th_error *err)
{
	keeper_tell_error(client, err);
}

static void refuse_waiting(struct client *client)
{
	struct th_error err = {0};

	th_fail(&err, TH_FAILED,
		"container \"%s\" is not running: it is waiting for its next "
		"attempt",
		client->keeper->row.name);
	th_hint(&err, "to start it now: tidyhull start %s",
		client->keeper->row.name);
	refuse(client, &err);
}

static void stop(struct client *client, const struct request *request)
{
	struct keeper *keeper = client->keeper;

	client->waits_for_end = true;
	if (request->stays_due) {
		keeper_end_for_host(keeper, (int)request->signal,
			request->grace_ms, TH_CAUSE_STOPPED_DUE,
			request->actor);
		return;
	}
	if (keeper->phase == PHASE_WAIT) {
		keeper_end_wait(keeper, TH_CAUSE_STOPPED, request->actor, true);
		return;
	}
	keeper->by_person = true;
	keeper->once_more = false;
	keeper_begin_stop(keeper, (int)request->signal, request->grace_ms,
		&(struct th_cause){.kind = TH_CAUSE_STOPPED}, request->actor);
}

/* Ends the wait for the next try. */
static void start_now(struct client *client, const struct request *request)
{
	struct keeper *keeper = client->keeper;

	/* Its time has come since whoever asks has looked. */
	if (keeper->phase == PHASE_RUN && !keeper->ended) {
		keeper_tell(client, TH_TELL_STARTED, NULL, 0);
		return;
	}
	client->waits_for_start = true;
	keeper->next_ms = 0;
	snprintf(keeper->again_by, sizeof(keeper->again_by), "%s",
		request->actor ? request->actor : "");
}

static void restart(struct client *client, const struct request *request)
{
	struct keeper *keeper = client->keeper;

	if (keeper->phase == PHASE_WAIT) {
		start_now(client, request);
		return;
	}
	if (keeper->stopping && !keeper->once_more) {
		struct th_error err = {0};

		th_fail(&err, TH_FAILED, "container \"%s\" is being stopped",
			keeper->row.name);
		refuse(client, &err);
		return;
	}
	client->waits_for_start = true;
	keeper->once_more = true;
	snprintf(keeper->again_by, sizeof(keeper->again_by), "%s",
		request->actor ? request->actor : "");
	keeper_begin_stop(keeper, (int)request->signal, request->grace_ms,
		&(struct th_cause){.kind = TH_CAUSE_STOPPED_TO_RESTART},
		request->actor);
}

static void send_it(struct client *client, const struct request *request)
{
	struct keeper *keeper = client->keeper;

	if (keeper->phase != PHASE_RUN) {
		refuse_waiting(client);
		return;
	}
	keeper->sent = (int)request->signal;
	keeper->sent_holds = request->holds;
	keeper->sent_ms = th_clock_mono_ms();
	snprintf(keeper->sent_by, sizeof(keeper->sent_by), "%s",
		request->actor ? request->actor : "");
	keeper_signal(keeper, (int)request->signal);
	keeper_tell(client, TH_TELL_DONE, NULL, 0);
}

static struct session *find_session(
	struct client *client, const struct request *request)
{
	struct session *session = request->session
		? keeper_find_session(client->keeper, request->session)
		: NULL;
	struct th_error err = {0};

	if (!session) {
		th_fail(&err, TH_NOT_FOUND, "the session has just ended");
		refuse(client, &err);
	}
	return session;
}

static void signal_session(struct client *client, const struct request *request)
{
	struct session *session = find_session(client, request);

	if (!session)
		return;
	if (!session->pid) {
		struct th_error err = {0};

		th_fail(&err, TH_FAILED, "the session is just being started");
		refuse(client, &err);
		return;
	}
	syscall(SYS_pidfd_send_signal, session->watch.fd, (int)request->signal,
		NULL, 0);
	keeper_tell(client, TH_TELL_DONE, NULL, 0);
}

static void wait_for(struct client *client, const struct request *request)
{
	struct keeper *keeper = client->keeper;

	if (request->session) {
		struct session *session = find_session(client, request);

		if (session)
			client->session = session;
		client->waits_for_end = session != NULL;
		return;
	}
	if (!request->what || strcmp(request->what, "ready") != 0) {
		client->waits_for_end = true;
		return;
	}
	client->waits_for_ready = true;
	if (keeper->phase == PHASE_RUN && keeper->probing.health.ready)
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
}

static void take_request(
	struct client *client, const struct th_message *message)
{
	struct request request;
	struct th_error err = {0};

	if (read_request(client->keeper, message, &request, &err))
		refuse(client, &err);
	else if (message->type == TH_SAY_STOP)
		stop(client, &request);
	else if (message->type == TH_SAY_RESTART)
		restart(client, &request);
	else if (message->type == TH_SAY_START)
		start_now(client, &request);
	else if (message->type == TH_SAY_SIGNAL)
		send_it(client, &request);
	else if (message->type == TH_SAY_SESSION_SIGNAL)
		signal_session(client, &request);
	else
		wait_for(client, &request);
	json_decref(request.doc);
}

static void resize(struct keeper *keeper, const struct th_message *message)
{
	struct th_size size;
	struct winsize ws = {0};

	if (keeper->out.fd < 0 || !th_words_size(message, &size))
		return;
	ws.ws_row = size.rows;
	ws.ws_col = size.columns;
	if (keeper->bundle.process.terminal)
		ioctl(keeper->out.fd, TIOCSWINSZ, &ws);
}

/* Something of the container's process as a descriptor. A command of an
 * unprivileged user has no right to look at processes of other IDs; and only
 * the keeper knows that the number is still its child's: others may meet a
 * stranger that has got it since. */
static void give_descriptor(
	struct client *client, const struct th_message *message)
{
	bool root = message->type == TH_SAY_ROOT;
	struct th_error err = {0};
	char path[64];
	int fd;

	snprintf(path, sizeof(path), "/proc/%d/%s",
		(int)client->keeper->sandbox.pid, root ? "root" : "ns/net");
	fd = open(path, O_CLOEXEC | (root ? O_PATH | O_DIRECTORY : O_RDONLY));
	if (fd < 0) {
		th_fail_sys(&err, TH_FAILED, errno,
			"cannot reach the container's %s",
			root ? "files" : "network");
		refuse(client, &err);
		return;
	}
	snprintf(path, sizeof(path), "%" PRIu32, client->keeper->first_id);
	th_channel_send(client->watch.fd, root ? TH_TELL_ROOT : TH_TELL_NETWORK,
		path, root ? strlen(path) : 0, &fd, 1);
	th_close(&fd);
}

/* The sockets that listen, for the container that comes after this one: what
 * connects in between waits for it. */
static void give_ports(struct client *client)
{
	const struct keeper *keeper = client->keeper;
	struct th_port_row rows[TH_CHANNEL_FDS];
	int fds[TH_CHANNEL_FDS], used = 0;
	size_t at = 0;

	for (size_t i = 0; i < keeper->port_count; i++) {
		for (int f = 0; f < 2; f++) {
			if (keeper->port_fds[i][f] < 0)
				continue;
			rows[used] = keeper->port_rows[at++];
			fds[used++] = keeper->port_fds[i][f];
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

static void handle(struct client *client, const struct th_message *message,
	int fds[TH_CHANNEL_FDS])
{
	struct keeper *keeper = client->keeper;

	if (keeper->phase == PHASE_KEEP) {
		keeper_handle_kept(client, message);
		return;
	}
	switch (message->type) {
	case TH_SAY_TAKE_UP:
		keeper_take_up(client);
		break;
	case TH_SAY_STATE:
		keeper_tell_state(client);
		break;
	case TH_SAY_INPUT:
		if (client->attached)
			keeper_take_input(
				keeper, message->data, message->len, false);
		break;
	case TH_SAY_INPUT_END:
		if (client->attached)
			keeper_take_input(keeper, "", 0, true);
		break;
	case TH_SAY_RESIZE:
		resize(keeper, message);
		break;
	case TH_SAY_LEAVE:
		client->left = true;
		break;
	case TH_SAY_ATTACH:
		keeper_attach(client, message);
		resize(keeper, message);
		break;
	case TH_SAY_SIGNAL:
	case TH_SAY_STOP:
	case TH_SAY_RESTART:
	case TH_SAY_START:
	case TH_SAY_WAIT:
	case TH_SAY_SESSION_SIGNAL:
		take_request(client, message);
		break;
	case TH_SAY_ROOT:
	case TH_SAY_NETWORK:
		if (keeper->phase != PHASE_RUN)
			refuse_waiting(client);
		else
			give_descriptor(client, message);
		break;
	case TH_SAY_PORTS:
		give_ports(client);
		break;
	case TH_SAY_PART:
		th_buf_add(&client->parts, message->data, message->len);
		break;
	case TH_SAY_RELOAD:
		keeper_reload(client);
		break;
	case TH_SAY_RECORD:
		keeper_record(client);
		break;
	case TH_SAY_PAUSE:
	case TH_SAY_RESUME:
	case TH_SAY_ADJUST:
	case TH_SAY_EXEC:
		if (keeper->phase != PHASE_RUN)
			refuse_waiting(client);
		else if (message->type == TH_SAY_EXEC)
			keeper_start_session(client, message, fds);
		else if (message->type == TH_SAY_ADJUST)
			keeper_adjust(client, message);
		else
			keeper_pause_request(client, message);
		break;
	default:
		/* A later version of the same protocol: nothing we know. */
		break;
	}
}

void keeper_handle(struct client *client, const struct th_message *message,
	int fds[TH_CHANNEL_FDS])
{
	bool rights = message->type != TH_SAY_INPUT &&
		message->type != TH_SAY_INPUT_END &&
		message->type != TH_SAY_RESIZE;

	if (rights)
		th_rights_raise();
	handle(client, message, fds);
	if (rights)
		th_rights_rest();
}
