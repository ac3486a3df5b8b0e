#include "base/threads.h"

#include <limits.h>
#include <signal.h>
#include <time.h>

#include "base/libc.h"

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

int th_thread_start(
	pthread_t *thread, size_t stack, void *(*work)(void *), void *arg)
{
	sigset_t all, before;
	pthread_attr_t attr;
	int rc;

	pthread_attr_init(&attr);
	pthread_attr_setstacksize(&attr,
		stack > (size_t)PTHREAD_STACK_MIN ? stack
						  : (size_t)PTHREAD_STACK_MIN);
	sigfillset(&all);
	pthread_sigmask(SIG_SETMASK, &all, &before);
	rc = pthread_create(thread, &attr, work, arg);
	pthread_sigmask(SIG_SETMASK, &before, NULL);
	pthread_attr_destroy(&attr);
	return rc;
}
