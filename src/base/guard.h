/* A process that does what has to be done where this one cannot any more,
 * because it was killed. */
#ifndef TH_BASE_GUARD_H
#define TH_BASE_GUARD_H

#include <stdbool.h>

/* Starts one that runs watch and ends. It is in a session of its own and takes
 * no signal that people send; of its descriptors 0 is ours (a terminal that is
 * to be put right), and 1 the end of a pipe, which th_guard_hears reads. end
 * gets the other one. -1 with errno. */
int th_guard_post(void (*watch)(void *owner), void *owner, int *end);
/* For watch: the next byte that was said to it; -1 where whoever posted it has
 * gone without a word. */
int th_guard_hears(void);
/* Tells it something. */
void th_guard_tell(int end, char byte);
/* It is not needed any more. */
void th_guard_dismiss(int *end);

#endif
