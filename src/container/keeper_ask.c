#include "container/keeper_ask.h"

#include <errno.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "ipc/words.h"
#include "base/json.h"

#define LOOK_MS 500

int keeper_reach(const struct th_context *context,
	const struct th_container_row *row, enum th_act act, int *channel,
	struct th_error *err)
{
	int rc;

	if (th_act_check(row, act, err))
		return -1;
	rc = th_keeper_reach(context->store->run_fd, row->id, channel, err);
	if (rc == 0)
		return th_fail(err, TH_FAILED,
			"container \"%s\" has just ended", row->name);
	return rc < 0 ? -1 : 0;
}

/* A keeper does not go before its container has ended. */
static int fail_gone(int sys, struct th_error *err)
{
	if (err && err->code == TH_OK)
		err->sys = sys;
	return th_fail(err, TH_FAILED,
		"the container has just ended, and its keeper with it");
}

int keeper_send(int channel, enum th_message_type type, json_t *doc,
	const int *fds, int fd_count, struct th_error *err)
{
	char *text = th_json_text(doc, JSON_COMPACT);
	size_t len = text ? strlen(text) : 0, done = 0;
	int rc = text ? 0 : -1;

	/* Only sessions, with their arguments and environment, are so long. */
	for (; rc == 0 && len - done > TH_CHANNEL_PAYLOAD;
		done += TH_CHANNEL_PAYLOAD)
		rc = th_channel_send(channel, TH_SAY_PART, text + done,
			TH_CHANNEL_PAYLOAD, NULL, 0);
	if (rc == 0)
		rc = th_channel_send(
			channel, type, text + done, len - done, fds, fd_count);
	if (!text)
		th_fail_memory(err);
	else if (rc && (errno == EPIPE || errno == ECONNRESET))
		fail_gone(errno, err);
	else if (rc)
		th_fail_sys(err, TH_FAILED, errno,
			"cannot ask the container's keeper");
	free(text);
	json_decref(doc);
	return rc;
}

bool th_context_cancelled(const struct th_context *context)
{
	return context->cancel && atomic_load(context->cancel);
}

/* Some callers read signals later, by a descriptor: then they are pending. */
static bool is_cancelled(const struct th_context *context)
{
	sigset_t pending;

	if (th_context_cancelled(context))
		return true;
	return sigpending(&pending) == 0 &&
		(sigismember(&pending, SIGTERM) == 1 ||
			sigismember(&pending, SIGINT) == 1 ||
			sigismember(&pending, SIGHUP) == 1);
}

int keeper_patience(
	const struct th_context *context, int channel, struct th_error *err)
{
	struct pollfd one = {.fd = channel, .events = POLLIN};

	/* Looked at again and again: the signal may have come right before. */
	while (poll(&one, 1, LOOK_MS) <= 0) {
		if (is_cancelled(context))
			return th_fail(err, TH_FAILED, "interrupted");
	}
	return 0;
}

int keeper_await(int channel, enum th_message_type wanted,
	struct th_message *message, int fds[TH_CHANNEL_FDS],
	struct th_error *err)
{
	int rc = th_channel_receive(channel, message, fds, err);

	if (rc == 1 && message->type == wanted)
		return 0;
	if (rc == 1 && message->type == TH_TELL_FAILED)
		return th_words_error(message, err);
	if (rc == 1 && message->type == TH_TELL_ENDED)
		return th_fail(err, TH_FAILED, "the container ended meanwhile");
	if (rc == 0)
		return fail_gone(0, err);
	if (rc < 0 && err->code)
		return -1;
	return th_fail(err, TH_FAILED,
		"the container's keeper sent an unknown answer");
}

int keeper_ask(const struct th_context *context,
	const struct th_container_row *row, enum th_act act,
	enum th_message_type type, json_t *doc, struct th_error *err)
{
	struct th_message message;
	int channel = -1, fds[TH_CHANNEL_FDS], rc = -1;

	if (keeper_reach(context, row, act, &channel, err)) {
		json_decref(doc);
		return -1;
	}
	if (keeper_send(channel, type, doc, NULL, 0, err) == 0)
		rc = keeper_await(channel, TH_TELL_DONE, &message, fds, err);
	th_close(&channel);
	return rc;
}
