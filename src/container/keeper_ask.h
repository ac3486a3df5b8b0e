/* Speaking to a container's keeper. For the container module only. */
#ifndef TH_CONTAINER_KEEPER_ASK_H
#define TH_CONTAINER_KEEPER_ASK_H

#include <jansson.h>

#include "container/container.h"
#include "container/reach.h"
#include "store/machine.h"

/* Connects to the keeper; an error where the act is not possible in the
 * container's state, or its keeper has gone. */
int keeper_reach(const struct th_context *context,
	const struct th_container_row *row, enum th_act act, int *channel,
	struct th_error *err);
/* Sends one request; doc is freed, and NULL is an error. */
int keeper_send(int channel, enum th_message_type type, json_t *doc,
	const int *fds, int fd_count, struct th_error *err);
/* Waits until the keeper answers, or the caller is told to end
 * (context->cancel; -1). Before keeper_await, where the keeper may take its
 * time or hang. */
int keeper_patience(
	const struct th_context *context, int channel, struct th_error *err);
/* The answer, or -1 with the error that the keeper tells. TH_TELL_ENDED where
 * another was wanted is an error too. */
int keeper_await(int channel, enum th_message_type wanted,
	struct th_message *message, int fds[TH_CHANNEL_FDS],
	struct th_error *err);
/* All three, for requests that are answered by TH_TELL_DONE. */
int keeper_ask(const struct th_context *context,
	const struct th_container_row *row, enum th_act act,
	enum th_message_type type, json_t *doc, struct th_error *err);

#endif
