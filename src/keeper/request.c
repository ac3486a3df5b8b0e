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

/* What somebody wants of the container itself: the state decides. */
static void give_order(struct client *client, const struct request *request,
	enum keeper_event event, enum th_cause_kind cause)
{
	keeper_event(client->keeper, event,
		&(struct order){.client = client,
			.signal = (int)request->signal,
			.grace_ms = request->grace_ms,
			.cause = cause,
			.actor = request->actor ? request->actor : ""});
}

static void stop(struct client *client, const struct request *request)
{
	client->waits_for_end = true;
	if (request->stays_due)
		give_order(
			client, request, EVENT_HOST_ENDS, TH_CAUSE_STOPPED_DUE);
	else
		give_order(client, request, EVENT_STOP, TH_CAUSE_STOPPED);
}

static void start_now(struct client *client, const struct request *request)
{
	give_order(client, request, EVENT_START, TH_CAUSE_NONE);
}

static void restart(struct client *client, const struct request *request)
{
	give_order(client, request, EVENT_RESTART, TH_CAUSE_STOPPED_TO_RESTART);
}

static void send_it(struct client *client, const struct request *request)
{
	keeper_send_signal(client->keeper, (int)request->signal, request->holds,
		request->actor ? request->actor : "");
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
	if (keeper_has_run(keeper) && keeper_is_ready(keeper))
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
}

/* ---- what comes as it is ---- */

static void take_input(struct client *client, const struct th_message *message)
{
	if (client->attached)
		keeper_take_input(
			client->keeper, message->data, message->len, false);
}

static void end_input(struct client *client, const struct th_message *message)
{
	(void)message;
	if (client->attached)
		keeper_take_input(client->keeper, "", 0, true);
}

static void resize(struct client *client, const struct th_message *message)
{
	struct th_size size;

	if (th_words_size(message, &size))
		keeper_resize_console(client->keeper, &size);
}

static void leave(struct client *client, const struct th_message *message)
{
	(void)message;
	client->left = true;
}

static void attach(struct client *client, const struct th_message *message)
{
	keeper_attach(client, message);
	resize(client, message);
}

static void add_part(struct client *client, const struct th_message *message)
{
	th_buf_add(&client->parts, message->data, message->len);
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
	snprintf(path, sizeof(path), "%" PRIu32, client->keeper->own_ids.first);
	th_channel_send(client->watch.fd, root ? TH_TELL_ROOT : TH_TELL_NETWORK,
		path, root ? strlen(path) : 0, &fd, 1);
	th_close(&fd);
}

static void take_up(struct client *client, const struct th_message *message)
{
	(void)message;
	keeper_take_up(client);
}

static void tell_state(struct client *client, const struct th_message *message)
{
	(void)message;
	keeper_tell_state(client);
}

static void give_ports(struct client *client, const struct th_message *message)
{
	(void)message;
	keeper_give_ports(client);
}

static void reload(struct client *client, const struct th_message *message)
{
	(void)message;
	keeper_reload(client);
}

/* ---- all of them ---- */

enum needs {
	NEEDS_NOTHING,
	NEEDS_A_RUN = 1, /* between two runs it is refused */
	NEEDS_NO_RIGHTS = 2 /* nothing that the kernel gives to some only */
};

static const struct {
	enum th_message_type type;
	unsigned int needs;
	/* One of them: with what is read of it, as it is, with descriptors. */
	void (*request)(struct client *client, const struct request *request);
	void (*plain)(struct client *client, const struct th_message *message);
	void (*with)(struct client *client, const struct th_message *message,
		int fds[TH_CHANNEL_FDS]);
} all[] = {{.type = TH_SAY_STOP, .request = stop},
	{.type = TH_SAY_RESTART, .request = restart},
	{.type = TH_SAY_START, .request = start_now},
	{.type = TH_SAY_WAIT, .request = wait_for},
	{.type = TH_SAY_SIGNAL, .needs = NEEDS_A_RUN, .request = send_it},
	{.type = TH_SAY_SESSION_SIGNAL, .request = signal_session},
	{.type = TH_SAY_INPUT, .needs = NEEDS_NO_RIGHTS, .plain = take_input},
	{.type = TH_SAY_INPUT_END,
		.needs = NEEDS_NO_RIGHTS,
		.plain = end_input},
	{.type = TH_SAY_RESIZE, .needs = NEEDS_NO_RIGHTS, .plain = resize},
	{.type = TH_SAY_LEAVE, .plain = leave},
	{.type = TH_SAY_ATTACH, .plain = attach},
	{.type = TH_SAY_PART, .plain = add_part},
	{.type = TH_SAY_EXEC,
		.needs = NEEDS_A_RUN,
		.with = keeper_start_session},
	{.type = TH_SAY_PAUSE,
		.needs = NEEDS_A_RUN,
		.plain = keeper_pause_request},
	{.type = TH_SAY_RESUME,
		.needs = NEEDS_A_RUN,
		.plain = keeper_pause_request},
	{.type = TH_SAY_ADJUST, .needs = NEEDS_A_RUN, .plain = keeper_adjust},
	{.type = TH_SAY_RELOAD, .plain = reload},
	{.type = TH_SAY_RECORD, .plain = keeper_record},
	{.type = TH_SAY_ROOT, .needs = NEEDS_A_RUN, .plain = give_descriptor},
	{.type = TH_SAY_NETWORK,
		.needs = NEEDS_A_RUN,
		.plain = give_descriptor},
	{.type = TH_SAY_PORTS, .plain = give_ports},
	{.type = TH_SAY_STATE, .plain = tell_state},
	{.type = TH_SAY_TAKE_UP, .plain = take_up}};

static void read_and_do(struct client *client, const struct th_message *message,
	void (*act)(struct client *client, const struct request *request))
{
	struct request request;
	struct th_error err = {0};

	if (read_request(client->keeper, message, &request, &err))
		refuse(client, &err);
	else
		act(client, &request);
	json_decref(request.doc);
}

static void handle(struct client *client, const struct th_message *message,
	size_t at, int fds[TH_CHANNEL_FDS])
{
	const struct keeper *keeper = client->keeper;

	if (keeper->state == STATE_KEEPING)
		keeper_handle_kept(client, message);
	else if (all[at].needs & NEEDS_A_RUN && !keeper_has_run(keeper))
		refuse_waiting(client);
	else if (all[at].request)
		read_and_do(client, message, all[at].request);
	else if (all[at].plain)
		all[at].plain(client, message);
	else
		all[at].with(client, message, fds);
}

void keeper_handle(struct client *client, const struct th_message *message,
	int fds[TH_CHANNEL_FDS])
{
	size_t at = 0;
	bool rights;

	while (at < sizeof(all) / sizeof(*all) && all[at].type != message->type)
		at++;
	/* One of a later version: nothing we know. */
	if (at == sizeof(all) / sizeof(*all))
		return;
	rights = !(all[at].needs & NEEDS_NO_RIGHTS);
	if (rights)
		th_rights_raise();
	handle(client, message, at, fds);
	if (rights)
		th_rights_rest();
}
