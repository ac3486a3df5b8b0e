/* A command in a running container, with the caller's streams or terminal. */
#ifndef CLI_SESSION_H
#define CLI_SESSION_H

#include "cli/verb.h"

/* Runs it in the container of the name to its end; the exit code, with err
 * where it is our own failure. */
int session_run(struct invocation *call, const char *name,
	const struct th_talk_command *command, struct th_error *err);

#endif
