/* A command in a running container, with the caller's streams or terminal. */
#ifndef CLI_SESSION_H
#define CLI_SESSION_H

#include "cli/verb.h"

/* Runs it to its end; the exit code, with err where it is our own failure. */
int session_run(struct invocation *call, struct th_container_row *row,
	const struct th_exec_options *options, struct th_error *err);

#endif
