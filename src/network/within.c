#include "network/within.h"

#include <errno.h>
#include <pthread.h>
#include <sched.h>

#include "base/threads.h"

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
	pthread_t thread;
	int rc = th_thread_start(&thread, STACK_BYTES, go_in, &within);

	if (rc)
		return th_fail_sys(err, TH_FAILED, rc, "cannot start a thread");
	pthread_join(thread, NULL);
	return within.rc;
}
