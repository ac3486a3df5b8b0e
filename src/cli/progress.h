/* The progress of a pull, on standard error: a line per layer on a terminal,
 * a plain line per event in a pipe. */
#ifndef CLI_PROGRESS_H
#define CLI_PROGRESS_H

#include "image/pull.h"

struct progress {
	bool quiet;
	bool drawn; /* lines stand on the terminal */
	size_t lines;
	size_t done_told; /* in a pipe: layers whose end was told */
	int64_t next_ms;
	int64_t begin_ms;
};

void progress_show(
	void *owner, const struct th_layer_progress *layers, size_t count);
void progress_pulled(void *owner, const struct th_pulled *pulled);
void progress_end(struct progress *progress);

#endif
