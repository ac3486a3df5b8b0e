/* Threads that end by themselves, and somebody who waits for them. */
#ifndef TH_BASE_THREADS_H
#define TH_BASE_THREADS_H

#include <pthread.h>
#include <stddef.h>

/* Waits for all of them, and calls tick every tenth of a second meanwhile, so
 * that whoever watches sees that time passes also when nothing comes. */
void th_threads_join(const pthread_t *threads, size_t count,
	void (*tick)(void *owner), void *owner);

/* Starts one with a small stack (a multiple of 64 KiB) that gets no signals:
 * those are the main thread's. Returns 0 or an error number. */
int th_thread_start(
	pthread_t *thread, size_t stack, void *(*work)(void *), void *arg);

#endif
