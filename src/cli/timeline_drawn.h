/* The timeline as a picture: a bar for each container. */
#ifndef CLI_TIMELINE_DRAWN_H
#define CLI_TIMELINE_DRAWN_H

#include <jansson.h>
#include <stddef.h>
#include <stdint.h>

struct bar;

struct drawn {
	struct bar *bars;
	size_t count;
};

/* Takes the next event, as "timeline --json" has it; of all containers
 * together, the oldest first. */
void drawn_take(struct drawn *drawn, const json_t *event);
/* Prints what was from then on until now (0: from the first event on). */
void drawn_print(struct drawn *drawn, int64_t since_us);
void drawn_release(struct drawn *drawn);

#endif
