#include "network/within.h"

#include <errno.h>
#include <limits.h>
#include <pthread.h>
#include <sched.h>
#include <signal.h>

#define STACK_BYTES (256 * 1024)

struct within {
	int netns, rc;
	int (*work)(void *arg, struct th_error *err);
	void *arg;
	struct th_error *err;
};

static void *go_in(void *arg)
{
	struct within *within = arg;

	if (setns(within->netns, CLONE_NEWNET))
		within->rc = th_fail_sys(within->err, TH_NOT_POSSIBLE, errno,
			"cannot enter a network namespace");
	else
		within->rc = within->work(within->arg, within->err);
	return NULL;
}

int th_within(int netns, int (*work)(void *arg, struct th_error *err),
	void *arg, struct th_error *err)
{
	struct within within = {netns, -1, work, arg, err};
	sigset_t all, before;
	pthread_attr_t attr;
	pthread_t thread;
	int rc;

	pthread_attr_init(&attr);
	pthread_attr_setstacksize(&attr,
		STACK_BYTES > PTHREAD_STACK_MIN ? STACK_BYTES
						: PTHREAD_STACK_MIN);
	/* Signals are the caller's. */
	sigfillset(&all);
	pthread_sigmask(SIG_SETMASK, &all, &before);
	rc = pthread_create(&thread, &attr, go_in, &within);
	pthread_sigmask(SIG_SETMASK, &before, NULL);
	pthread_attr_destroy(&attr);
	if (rc)
		return th_fail_sys(err, TH_FAILED, rc, "cannot start a thread");
	pthread_join(thread, NULL);
	return within.rc;
}
