/* A container in the foreground: started, and attended to until it ends. */
#ifndef CLI_FOREGROUND_H
#define CLI_FOREGROUND_H

#include "cli/verb.h"

/* Starts the container that was just made, with the caller's streams; terminal:
 * it has one of its own. One that cannot be started is removed. The exit code
 * is the program's, or ours where it never ran. */
int foreground_run(
	struct invocation *call, const json_t *container, bool terminal);

#endif
