/* What pull and unpack have in common. */
#ifndef CLI_PULLING_H
#define CLI_PULLING_H

#include <jansson.h>

#include "cli/verb.h"

/* Calls act for each object, with the options given; answers as --json where
 * that is wanted. Gives the exit code. */
int pull_all(struct invocation *call,
	int (*act)(struct invocation *call, const char *object,
		const struct th_pull_options *options, json_t *list));

/* Takes the images of a packed file in: all, or only the one of that name.
 * Says each, and adds it to list. */
int unpack_file(struct invocation *call, const char *path, const char *only,
	const struct th_pull_options *options, json_t *list);

#endif
