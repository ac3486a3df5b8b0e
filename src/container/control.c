/* Stopping, restarting, signalling, pausing, and waiting for what comes. */
#include <errno.h>
#include <poll.h>
#include <signal.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "ipc/words.h"
#include "base/json.h"
#include "container/keeper_ask.h"
#include "container/container.h"
#include "store/machine.h"

/* A keeper answers in microseconds, whatever its container does. */
#define ANSWER_MS 10000
/* How long to wait before that is looked at. */
#define LOOK_MS 3000
#define RECORD_MS 2000
/* How often an interruption is looked for. */
#define CANCEL_MS 100

static json_t *stop_request(
	const struct th_context *context, int signal_number, int grace_ms)
{
	json_t *doc = json_pack("{s:s}", "actor", context->actor);

	if (doc && signal_number)
		json_object_set_new(doc, "signal", json_integer(signal_number));
	if (doc && grace_ms >= 0)
		json_object_set_new(doc, "grace-ms", json_integer(grace_ms));
	if (doc && context->stays_due)
		json_object_set_new(doc, "stays-due", json_true());
	return doc;
}

int th_container_stop_begin(const struct th_context *context,
	const struct th_container_row *row, int signal_number, int grace_ms,
	int *channel, struct th_error *err)
{
	if (keeper_reach(context, row, TH_ACT_STOP, channel, err))
		return -1;
	if (keeper_send(*channel, TH_SAY_STOP,
		    stop_request(context, signal_number, grace_ms), NULL, 0,
		    err) == 0)
		return 0;
	th_close(channel);
	return -1;
}

int th_container_stop_await(int *channel, int timeout_ms,
	struct th_ending *ending, struct th_error *err)
{
	struct pollfd one = {.fd = *channel, .events = POLLIN};
	struct th_message message;
	int ready = poll(&one, 1, timeout_ms), fds[TH_CHANNEL_FDS], rc = -1;

	if (ready == 0)
		return 0;
	/* Ctrl-C: the keeper goes on with it. */
	if (ready < 0) {
		th_close(channel);
		return th_fail(err, TH_FAILED,
			"interrupted; the container is being stopped all the "
			"same");
	}
	if (keeper_await(*channel, TH_TELL_ENDED, &message, fds, err) == 0 &&
		th_words_ending(&message, ending))
		rc = 1;
	th_close(channel);
	return rc;
}

int th_container_stop(const struct th_context *context,
	const struct th_container_row *row, int signal_number, int grace_ms,
	struct th_ending *ending, struct th_error *err)
{
	struct th_error stuck = {0};
	int channel = -1, rc;

	rc = th_container_stop_begin(
		context, row, signal_number, grace_ms, &channel, err);
	if (rc && !th_container_is_up(row))
		return -1;
	if (rc == 0) {
		do
			rc = th_container_stop_await(
				&channel, LOOK_MS, ending, err);
		while (rc == 0 &&
			!th_container_end_stuck(context, row, &stuck));
	} else if (th_container_end_stuck(context, row, &stuck)) {
		rc = 0;
	}
	if (rc == 0) {
		/* It has ended, which is what was wanted. */
		th_error_clear(err);
		memset(ending, 0, sizeof(*ending));
		ending->by_force = 1;
		th_close(&channel);
	}
	return rc < 0 ? -1 : 0;
}

void th_container_record(const struct th_context *context, const char *id)
{
	struct pollfd one = {.events = POLLIN};
	struct th_error ignored = {0}; /* a courtesy */

	if (th_channel_connect(context->store->run_fd, id, &one.fd, &ignored) !=
		1)
		return;
	if (th_channel_send(one.fd, TH_SAY_RECORD, NULL, 0, NULL, 0) == 0)
		poll(&one, 1, RECORD_MS);
	close(one.fd);
}

/* True once it has ended. */
static bool kill_process(int pidfd)
{
	struct pollfd one = {.fd = pidfd, .events = POLLIN};

	return syscall(SYS_pidfd_send_signal, pidfd, SIGKILL, NULL, 0) == 0 &&
		poll(&one, 1, ANSWER_MS) == 1;
}

/* It lives, and has no socket, nor makes one when it is called. */
static bool kill_unreachable(
	const struct th_context *context, const struct th_container_row *row)
{
	struct th_container_row now;
	struct th_error ignored = {0}; /* then it is left */
	bool ended;
	int pidfd;

	if (th_state_get(context->store->db, row->id, &now, &ignored) != 1 ||
		!th_container_is_up(&now))
		return false;
	pidfd = th_keeper_find(context->store->run_fd, row->id);
	if (pidfd < 0)
		return false;
	ended = kill_process(pidfd);
	close(pidfd);
	return ended;
}

/* By a descriptor of the process that holds the other end: the number alone
 * could be another's. */
static int kill_peer(int channel)
{
	struct ucred peer;
	socklen_t len = sizeof(peer);
	int pidfd, rc = -1;

	if (getsockopt(channel, SOL_SOCKET, SO_PEERCRED, &peer, &len) ||
		peer.pid <= 0)
		return -1;
	pidfd = (int)syscall(SYS_pidfd_open, peer.pid, 0);
	/* The connection is still there, so the process was it. */
	if (pidfd >= 0 && recv(channel, &len, 1, MSG_PEEK | MSG_DONTWAIT) < 0 &&
		kill_process(pidfd))
		rc = 0;
	th_close(&pidfd);
	return rc;
}

bool th_container_end_stuck(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err)
{
	struct th_container_row now = *row;
	struct th_error ignored = {0}; /* then it is left */
	struct pollfd one = {.fd = -1, .events = POLLIN};
	bool stuck;

	if (th_keeper_reach(
		    context->store->run_fd, row->id, &one.fd, &ignored) == 1) {
		/* Any question that is answered in every phase. */
		stuck = th_channel_send(
				one.fd, TH_SAY_ROOT, NULL, 0, NULL, 0) == 0 &&
			poll(&one, 1, ANSWER_MS) == 0 && kill_peer(one.fd) == 0;
		th_close(&one.fd);
	} else {
		stuck = kill_unreachable(context, row);
	}
	if (!stuck)
		return false;
	th_container_settle_row(context, &now, &ignored);
	th_fail(err, TH_FAILED,
		"the keeper of container \"%s\" did not answer; it was killed, "
		"and the container with it",
		row->name);
	return true;
}

/* Both ways a keeper that is there starts its container once more. */
static int ask_to_start(const struct th_context *context,
	const struct th_container_row *row, enum th_message_type type,
	json_t *request, struct th_error *err)
{
	struct th_message message;
	int channel = -1, fds[TH_CHANNEL_FDS], rc = -1;

	if (keeper_reach(context, row,
		    type == TH_SAY_START ? TH_ACT_START : TH_ACT_RESTART,
		    &channel, err)) {
		json_decref(request);
		return -1;
	}
	if (keeper_send(channel, type, request, NULL, 0, err) == 0)
		rc = keeper_await(channel, TH_TELL_STARTED, &message, fds, err);
	th_close(&channel);
	return rc;
}

int th_container_start_waiting(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err)
{
	return ask_to_start(context, row, TH_SAY_START,
		json_pack("{s:s}", "actor", context->actor), err);
}

int th_container_restart(const struct th_context *context,
	const struct th_container_row *row, int grace_ms, struct th_error *err)
{

	if (!th_container_is_up(row))
		return th_container_start(context, row, err);
	return ask_to_start(context, row, TH_SAY_RESTART,
		stop_request(context, 0, grace_ms), err);
}

int th_container_signal(const struct th_context *context,
	const struct th_container_row *row, int signal_number, bool holds,
	struct th_error *err)
{
	return keeper_ask(context, row, TH_ACT_KILL, TH_SAY_SIGNAL,
		json_pack("{s:i s:s s:b}", "signal", signal_number, "actor",
			context->actor, "holds", holds),
		err);
}

int th_session_signal(const struct th_context *context,
	const struct th_session_row *session, int signal_number,
	struct th_error *err)
{
	struct th_container_row row;

	if (session->ended_us)
		return th_fail(err, TH_FAILED,
			"session %s has already ended, with code %d",
			session->id, session->code);
	if (th_state_get(context->store->db, session->container, &row, err) !=
		1)
		return err->code ? -1
				 : th_fail(err, TH_NOT_FOUND,
					   "the session's container is gone");
	return keeper_ask(context, &row, TH_ACT_KILL, TH_SAY_SESSION_SIGNAL,
		json_pack("{s:s s:i s:s}", "session", session->id, "signal",
			signal_number, "actor", context->actor),
		err);
}

int th_container_pause(const struct th_context *context,
	const struct th_container_row *row, bool pause, struct th_error *err)
{
	return keeper_ask(context, row, pause ? TH_ACT_PAUSE : TH_ACT_RESUME,
		pause ? TH_SAY_PAUSE : TH_SAY_RESUME,
		json_pack("{s:s}", "actor", context->actor), err);
}

static int say_pause(const struct th_context *context, int channel,
	enum th_message_type type, struct th_error *err)
{
	struct th_message message;
	int fds[TH_CHANNEL_FDS];

	if (keeper_send(channel, type,
		    json_pack("{s:s s:b}", "actor", context->actor, "hold", 1),
		    NULL, 0, err))
		return -1;
	return keeper_await(channel, TH_TELL_DONE, &message, fds, err);
}

int th_container_hold(const struct th_context *context,
	const struct th_container_row *row, int *channel, struct th_error *err)
{
	*channel = -1;
	if (row->state != TH_STATE_RUNNING)
		return 0;
	if (keeper_reach(context, row, TH_ACT_PAUSE, channel, err))
		return -1;
	if (say_pause(context, *channel, TH_SAY_PAUSE, err) == 0)
		return 0;
	th_close(channel);
	return -1;
}

int th_container_let_go(
	const struct th_context *context, int *channel, struct th_error *err)
{
	int rc = *channel < 0
		? 0
		: say_pause(context, *channel, TH_SAY_RESUME, err);

	th_close(channel);
	return rc;
}

/* As poll(), for one message. The keeper goes on, whether this is interrupted
 * or not. Looked at again and again: Ctrl-C interrupts another thread, or has
 * come right before. */
static int poll_patiently(
	const struct th_context *context, int channel, int timeout_ms)
{
	struct pollfd one = {.fd = channel, .events = POLLIN};
	int64_t until = th_clock_mono_ms() + timeout_ms;
	int rc;

	do {
		int64_t left =
			timeout_ms < 0 ? CANCEL_MS : until - th_clock_mono_ms();

		left = left < 0 ? 0 : left;
		rc = poll(&one, 1, left < CANCEL_MS ? (int)left : CANCEL_MS);
		if (rc > 0 || (rc < 0 && errno != EINTR))
			return rc;
		if (th_context_cancelled(context))
			return -1;
	} while (timeout_ms < 0 || th_clock_mono_ms() < until);
	return 0;
}

int th_container_wait(const struct th_context *context, const char *id,
	const char *what, const char *session, int timeout_ms,
	struct th_ending *ending, struct th_error *err)
{
	struct th_container_row row;
	struct th_message message;
	struct th_error ignored = {0}; /* the caller looks */
	int channel = -1, fds[TH_CHANNEL_FDS], rc;

	rc = th_state_get(context->store->db, id, &row, err);
	if (rc <= 0 || !th_container_is_up(&row))
		return rc < 0 ? -1 : 0;
	rc = th_keeper_reach(context->store->run_fd, id, &channel, err);
	/* One that has recorded the end serves nobody any more. */
	if (rc < 0 &&
		th_state_get(context->store->db, id, &row, &ignored) == 1 &&
		!th_container_is_up(&row)) {
		th_error_clear(err);
		rc = 0;
	}
	if (rc <= 0)
		return rc;
	if (keeper_send(channel, TH_SAY_WAIT,
		    json_pack("{s:s s:s?}", "until", what, "session", session),
		    NULL, 0, err)) {
		bool gone = err->sys == EPIPE || err->sys == ECONNRESET;

		th_close(&channel);
		/* It was just about to end when it was reached. */
		if (gone)
			th_error_clear(err);
		return gone ? 0 : -1;
	}
	rc = poll_patiently(context, channel, timeout_ms);
	if (rc == 0) {
		th_close(&channel);
		return th_fail(err, TH_FAILED, "it took too long");
	}
	rc = rc < 0 ? -1 : th_channel_receive(channel, &message, fds, err);
	th_close(&channel);
	if (rc == 1 && message.type == TH_TELL_DONE)
		return 2;
	if (rc == 1 && message.type == TH_TELL_ENDED &&
		th_words_ending(&message, ending))
		return 1;
	if (rc == 1 && message.type == TH_TELL_FAILED) {
		th_words_error(&message, err);
		return err->code == TH_NOT_FOUND ? 0 : -1;
	}
	/* Gone without a word: the state knows, or settles it. */
	return rc < 0 && th_context_cancelled(context)
		? th_fail(err, TH_FAILED, "interrupted")
		: 0;
}
