/* The caller's terminal or pipes, joined to a running program. */
#ifndef CLI_ATTACH_H
#define CLI_ATTACH_H

#include <stdbool.h>

#include "container/container.h"

/* The size of the caller's terminal, or zeros. */
struct th_size attach_size(void);

/* Blocks the signals that attach_run passes on, so that none is lost between
 * the start of the program and the loop. */
void attach_prepare(void);

/* Passes input, output, signals and size to and fro until the program ends.
 * console is a session's own terminal or -1. Returns 1 with how it ended, 0
 * where the channel closed before, -1. */
struct attach_options {
	const struct th_context *context;
	const struct th_container_row *row;
	int channel;
	int console;
	bool input; /* standard input goes to the program */
	bool terminal; /* the caller's is made raw meanwhile */
	bool pass_signals;
};
int attach_run(const struct attach_options *options, struct th_ending *ending,
	struct th_error *err);

/* The exit code that a shell would give. */
int attach_exit_code(const struct th_ending *ending);

#endif
