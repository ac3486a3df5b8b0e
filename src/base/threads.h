/* Threads that end by themselves, and somebody who waits for them. */
#ifndef TH_BASE_THREADS_H
#define TH_BASE_THREADS_H

#include <pthread.h>
#include <stddef.h>

/* Waits for all of them, and calls tick every tenth of a second meanwhile, so
 * that whoever watches sees that time passes also when nothing comes. */
void th_threads_join(const pthread_t *threads, size_t count,
	void (*tick)(void *owner), void *owner);

#endif
