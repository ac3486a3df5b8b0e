/* The settings that a container was made with, as options: so that one like it
 * is made. */
#ifndef CLI_REMAKING_H
#define CLI_REMAKING_H

#include "cli/making.h"

/* Reads them, and the call's options over them: one of a list replaces the one
 * with the same place inside, and --without leaves one out. The image is that
 * of the container, unless the call has --image or --fetch always. merged gets
 * all options, for a plan; its options are to be freed. To be released in any
 * case. */
int remaking_read(struct invocation *call, const char *id,
	struct making *making, struct invocation *merged, struct th_error *err);

#endif
