/* What a build does, on standard error: on a terminal a line for each step, the
 * last one alive; in a pipe a plain line for each event. */
#ifndef CLI_BUILD_PROGRESS_H
#define CLI_BUILD_PROGRESS_H

#include "tidyhull/image.h"

/* As many as a recipe may have. */
#define BUILD_IMAGES 64

struct build_progress {
	const json_t *images; /* of the recipe */
	bool quiet, output, terminal;
	bool alive; /* a line stands there that is to be overwritten */
	size_t image; /* of that line */
	/* Of each image the step that runs. */
	struct {
		bool runs;
		size_t step;
		char text[200], said[80]; /* its last line of output */
	} now[BUILD_IMAGES + 1];
	size_t run, remembered, planned; /* counted */
};

void build_progress_tell(void *owner, const struct th_build_event *event);
void build_progress_end(struct build_progress *progress);

#endif
