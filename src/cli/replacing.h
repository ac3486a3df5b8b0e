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

/* Does it to the container, prints the result, and returns the exit code.
 * start: whether or not it ran before; by_hand: of a group, the next launch is
 * to see it. */
int replacing_run(struct invocation *call, const json_t *before,
	const struct making *making, bool start, bool by_hand);

#endif
