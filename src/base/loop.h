/* An event loop over epoll, for one thread. */
#ifndef TH_BASE_LOOP_H
#define TH_BASE_LOOP_H

#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"

/* A watched descriptor. The owner keeps it where it is while it is watched. */
struct th_watch {
	int fd; /* -1: not watched */
	uint32_t events;
	void (*ready)(struct th_watch *watch, uint32_t events);
	void *owner;
};

struct th_loop {
	int epoll;
	/* Watches ended while their own round of events is handled. */
	struct th_watch *ended[256];
	int ended_count;
	bool hasty;
	int64_t look_ns; /* how long it looks before it sleeps */
};

int th_loop_init(struct th_loop *loop, struct th_error *err);
void th_loop_release(struct th_loop *loop);

/* Starts watching fd for events (EPOLLIN, ...); -1 with errno. */
int th_loop_watch(
	struct th_loop *loop, struct th_watch *watch, int fd, uint32_t events);
/* Changes what is watched for; cheap where nothing changes. */
void th_loop_change(
	struct th_loop *loop, struct th_watch *watch, uint32_t events);
/* Ends watching. The descriptor stays open and the caller's; a callback that
 * was due in the same round is not called any more. */
void th_loop_forget(struct th_loop *loop, struct th_watch *watch);

/* For callbacks of somebody who waits for every answer: more is likely to come
 * at once. The next round looks for it a moment before it sleeps, as being
 * woken takes longer than most answers, as long as that pays and there is
 * another processor to do the work meanwhile. */
void th_loop_hurry(struct th_loop *loop);

/* Waits up to timeout_ms (-1: for ever) and calls what became ready. Returns
 * the number of descriptors handled, -1 with errno. */
int th_loop_round(struct th_loop *loop, int timeout_ms);

#endif
