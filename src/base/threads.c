#include "base/threads.h"

#include <time.h>

#define TICK_NS 100000000

void th_threads_join(const pthread_t *threads, size_t count,
	void (*tick)(void *owner), void *owner)
{
	while (count > 0) {
		struct timespec until;

		clock_gettime(CLOCK_MONOTONIC, &until);
		until.tv_nsec += TICK_NS;
		if (until.tv_nsec >= 1000000000) {
			until.tv_sec++;
			until.tv_nsec -= 1000000000;
		}
		if (pthread_clockjoin_np(threads[count - 1], NULL,
			    CLOCK_MONOTONIC, &until) == 0)
			count--;
		else
			tick(owner);
	}
}
