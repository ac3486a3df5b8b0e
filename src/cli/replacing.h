/* Another container in the place of one: what recreate and restart --fetch have
 * in common. */
#ifndef CLI_REPLACING_H
#define CLI_REPLACING_H

#include "cli/making.h"

#define REPLACING_OPTIONS                                                      \
	{"ready-within", "TIME", "how long a probe may take (1m)"},            \
	{                                                                      \
		"grace", "TIME", "how long to wait before the hard kill"       \
	}

/* Does it, prints the result, and returns the exit code. start: whether or not
 * it ran before. */
int replacing_run(struct invocation *call, struct th_container_row *row,
	struct making *making, bool start);

#endif
