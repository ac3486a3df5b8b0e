/* The caller's terminal or pipes, joined to a running program. */
#ifndef CLI_ATTACH_H
#define CLI_ATTACH_H

#include <stdbool.h>

#include "cli/leave_keys.h"
#include "cli/verb.h"

/* The program goes on without us. */
#define ATTACH_LEFT 2

/* The size of the caller's terminal, or zeros. */
struct th_terminal_size attach_size(void);

/* Blocks the signals that attach_run passes on, so that none is lost between
 * the start of the program and the loop. */
void attach_prepare(void);

/* Passes input, output, signals and size to and fro until the program ends.
 * Returns 1 with how it ended, 0 where the talk ended before, ATTACH_LEFT, -1.
 */
struct attach_options {
	th_talk *talk;
	const char *name; /* of the container */
	bool input; /* standard input goes to the program */
	bool terminal; /* the caller's is made raw meanwhile */
	bool pass_signals;
	bool leaves_by_signal; /* Ctrl-C ends the looking, not the program */
	struct leave_keys *leave; /* or NULL */
};
int attach_run(const struct attach_options *options, struct th_news *end,
	struct th_error *err);

/* What attach_run gave, told to the caller and as an exit code. */
int attach_code(struct invocation *call, const struct attach_options *options,
	int rc, const struct th_news *end, struct th_error *err);
/* The leave keys: of the option, the configuration, or ours. */
int attach_keys(
	struct invocation *call, struct leave_keys *keys, struct th_error *err);
/* Of a program that could not be started: what a shell would say. */
int attach_failure(const struct th_error *err);

#endif
