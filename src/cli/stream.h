/* JSON that comes piece by piece. */
#ifndef CLI_STREAM_H
#define CLI_STREAM_H

#include <jansson.h>

#include "cli/verb.h"

/* A document with one list ({"events": [...]}), or each of the list on a line
 * of its own where --json-lines asks for that. Nothing is kept in memory. */
struct stream {
	const char *name; /* of the list */
	bool lines, begun;
};

/* Nothing is printed before the first piece or the end. */
void stream_open(
	struct stream *stream, const struct invocation *call, const char *name);
/* Prints one and frees it. */
void stream_put(struct stream *stream, json_t *one);
void stream_close(struct stream *stream);
/* --follow has no end, a document has one: -1 where both are wanted. */
int stream_may_follow(const struct invocation *call, struct th_error *err);

#endif
