/* The progress of a pull or push, on standard error: a line per layer on a
 * terminal, a plain line per event in a pipe. */
#ifndef CLI_PROGRESS_H
#define CLI_PROGRESS_H

#include <jansson.h>

#include "tidyhull/hull.h"

#define PROGRESS_LAYERS 400

struct progress {
	bool quiet;
	bool drawn; /* lines stand on the terminal */
	size_t lines;
	/* In a pipe: what was told of each layer. */
	const char *told[PROGRESS_LAYERS];
	int64_t next_ms;
	const char *verb; /* whose work it is */
	int64_t began_ms; /* of work that goes on; 0: none does */
	bool works; /* a line about it stands on the terminal */
	/* Tells of an image that has come, instead of the usual line. */
	void (*pulled)(void *owner, const json_t *pulled);
	void *owner;
};

/* For the opening of a hull, whose owner is the progress. */
void progress_notice(void *owner, const char *text);
void progress_show(void *owner, const struct th_progress *layers, size_t count);
void progress_working(void *owner, uint64_t done_bytes, uint64_t all_bytes);
void progress_pulled(void *owner, const json_t *pulled);
/* What comes next draws its own lines below. */
void progress_end(struct progress *progress);

#endif
