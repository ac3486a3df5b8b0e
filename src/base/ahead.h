/* A stream that is read ahead by a thread of its own: what makes its pieces and
 * what uses them work at the same time. */
#ifndef TH_BASE_AHEAD_H
#define TH_BASE_AHEAD_H

#include "base/source.h"

struct th_ahead;

/* Begins to read from the source, which is the thread's alone until the free.
 * NULL where there is no memory or no thread: read it yourself then. */
struct th_ahead *th_ahead_new(struct th_source *from);
/* The same stream; it ends with the error of the other one. */
struct th_source *th_ahead_source(struct th_ahead *ahead);
/* Waits for the thread: it ends with the piece that it is at. NULL is fine. */
void th_ahead_free(struct th_ahead *ahead);

#endif
