/* Why a container is in the state that it is in: put together from its state,
 * its events, its restart policy and the last lines of its log. */
#ifndef TH_CONTAINER_WHY_H
#define TH_CONTAINER_WHY_H

#include "container/container.h"

/* How many of the last lines of the log are looked at. */
#define TH_LAST_LINES 5

struct th_last_line {
	bool err; /* of standard error */
	char *text; /* owned */
};

struct th_why {
	/* One word for programs: docs/json.md lists them. */
	char kind[32];
	struct th_strings sentences; /* what happened, and what comes next */
	struct th_strings advice; /* what may be done about it */
	struct th_last_line lines[TH_LAST_LINES];
	size_t line_count;
};

int th_why(const struct th_context *context, const struct th_container_row *row,
	struct th_why *why, struct th_error *err);
void th_why_release(struct th_why *why);

/* ---- symptom.c ---- */

/* What is known when the end of a run is explained. */
struct th_case {
	const struct th_container_row *row;
	const struct th_last_line *lines;
	size_t line_count;
	const struct th_strings
		*mounts; /* TARGET=SOURCE,... as they were set */
	const char *limit; /* "" without */
	const char *program; /* the first word of the command */
	size_t arg_count;
	unsigned int uid; /* who ran it */
	bool terminal;
	bool host_network;
};

/* Finds what the last lines and the outcome tell beyond themselves: kind,
 * sentences and advice are added to. Leaves all as it is where they tell
 * nothing. */
void th_symptom_find(const struct th_case *of, struct th_why *why);

#endif
