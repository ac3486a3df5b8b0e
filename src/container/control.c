/* Stopping, restarting, signalling, pausing, and waiting for what comes. */
#include <errno.h>
#include <poll.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "container/ask.h"
#include "container/container.h"

static json_t *stop_request(
	const struct th_context *context, int signal_number, int grace_ms)
{
	json_t *doc = json_pack("{s:s}", "actor", context->actor);

	if (doc && signal_number)
		json_object_set_new(doc, "signal", json_integer(signal_number));
	if (doc && grace_ms >= 0)
		json_object_set_new(doc, "grace-ms", json_integer(grace_ms));
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
	int fds[TH_CHANNEL_FDS], rc = -1;

	if (timeout_ms >= 0 && poll(&one, 1, timeout_ms) == 0)
		return 0;
	if (keeper_await(*channel, TH_TELL_ENDED, &message, fds, err) == 0 &&
		message.len == sizeof(*ending)) {
		memcpy(ending, message.data, sizeof(*ending));
		rc = 1;
	}
	th_close(channel);
	return rc;
}

int th_container_stop(const struct th_context *context,
	const struct th_container_row *row, int signal_number, int grace_ms,
	struct th_ending *ending, struct th_error *err)
{
	int channel = -1;

	if (th_container_stop_begin(
		    context, row, signal_number, grace_ms, &channel, err))
		return -1;
	return th_container_stop_await(&channel, -1, ending, err) < 0 ? -1 : 0;
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
	const struct th_size none = {0, 0};

	if (row->state == TH_STATE_CREATED || row->state == TH_STATE_STOPPED)
		return th_container_start(
			context, row, TH_BACKGROUND, none, NULL, err);
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
			"session %s has ended already, with code %d",
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

static bool has_keeper(const struct th_container_row *row)
{
	return row->state != TH_STATE_CREATED && row->state != TH_STATE_STOPPED;
}

int th_container_wait(const struct th_context *context, const char *id,
	const char *what, const char *session, int timeout_ms,
	struct th_ending *ending, struct th_error *err)
{
	struct th_container_row row;
	struct th_message message;
	struct pollfd one = {.events = POLLIN};
	int channel = -1, fds[TH_CHANNEL_FDS], rc;

	rc = th_state_get(context->store->db, id, &row, err);
	if (rc <= 0 || !has_keeper(&row))
		return rc < 0 ? -1 : 0;
	rc = th_channel_connect(context->store->run_fd, id, &channel, err);
	if (rc <= 0)
		return rc;
	if (keeper_send(channel, TH_SAY_WAIT,
		    json_pack("{s:s s:s?}", "for", what, "session", session),
		    NULL, 0, err)) {
		th_close(&channel);
		return -1;
	}
	one.fd = channel;
	do
		rc = poll(&one, 1, timeout_ms);
	while (rc < 0 && errno == EINTR &&
		!(context->cancel && atomic_load(context->cancel)));
	if (rc == 0) {
		th_close(&channel);
		return th_fail(err, TH_FAILED, "it took too long");
	}
	rc = rc < 0 ? -1 : th_channel_receive(channel, &message, fds, err);
	th_close(&channel);
	if (rc == 1 && message.type == TH_TELL_DONE)
		return 2;
	if (rc == 1 && message.type == TH_TELL_ENDED &&
		message.len == sizeof(*ending)) {
		memcpy(ending, message.data, sizeof(*ending));
		return 1;
	}
	if (rc == 1 && message.type == TH_TELL_FAILED &&
		message.len == sizeof(*err)) {
		memcpy(err, message.data, sizeof(*err));
		return err->code == TH_NOT_FOUND ? 0 : -1;
	}
	/* Gone without a word: the state knows, or settles it. */
	return rc < 0 && context->cancel && atomic_load(context->cancel)
		? th_fail(err, TH_FAILED, "interrupted")
		: 0;
}
