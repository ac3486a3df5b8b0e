/* The progress of a pull or push, on standard error: a line per layer on a
 * terminal, a plain line per event in a pipe. */
#ifndef CLI_PROGRESS_H
#define CLI_PROGRESS_H

#include "image/pull.h"

#define PROGRESS_LAYERS 400

struct progress {
	bool quiet;
	bool drawn; /* lines stand on the terminal */
	size_t lines;
	/* In a pipe: what was told of each layer. */
	enum th_layer_phase told[PROGRESS_LAYERS];
	int64_t next_ms;
};

void progress_show(
	void *owner, const struct th_layer_progress *layers, size_t count);
void progress_pulled(void *owner, const struct th_pulled *pulled);
void progress_end(struct progress *progress);

#endif
