#include "base/loop.h"

#include <errno.h>
#include <sched.h>
#include <sys/epoll.h>
#include <time.h>
#include <unistd.h>

#include "base/file.h"

#define ROUND_EVENTS 64
/* Some wake-ups' worth. */
#define LOOK_NS 60000

int th_loop_init(struct th_loop *loop, struct th_error *err)
{
	loop->ended_count = 0;
	loop->hasty = false;
	loop->look_ns = 0;
	loop->epoll = epoll_create1(EPOLL_CLOEXEC);
	if (loop->epoll < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot make an event queue");
	return 0;
}

void th_loop_release(struct th_loop *loop)
{
	th_close(&loop->epoll);
}

int th_loop_watch(
	struct th_loop *loop, struct th_watch *watch, int fd, uint32_t events)
{
	struct epoll_event event = {.events = events, .data.ptr = watch};

	watch->fd = fd;
	watch->events = events;
	if (epoll_ctl(loop->epoll, EPOLL_CTL_ADD, fd, &event)) {
		watch->fd = -1;
		return -1;
	}
	return 0;
}

void th_loop_change(
	struct th_loop *loop, struct th_watch *watch, uint32_t events)
{
	struct epoll_event event = {.events = events, .data.ptr = watch};

	if (watch->fd < 0 || watch->events == events)
		return;
	if (epoll_ctl(loop->epoll, EPOLL_CTL_MOD, watch->fd, &event) == 0)
		watch->events = events;
}

void th_loop_forget(struct th_loop *loop, struct th_watch *watch)
{
	if (watch->fd < 0)
		return;
	epoll_ctl(loop->epoll, EPOLL_CTL_DEL, watch->fd, NULL);
	watch->fd = -1;
	if (loop->ended_count <
		(int)(sizeof(loop->ended) / sizeof(*loop->ended)))
		loop->ended[loop->ended_count++] = watch;
}

/* A callback may end other watches and free what holds them; their events of
 * the same round must not be looked at any more. */
static bool has_ended(const struct th_loop *loop, const struct th_watch *watch)
{
	for (int i = 0; i < loop->ended_count; i++) {
		if (loop->ended[i] == watch)
			return true;
	}
	return false;
}

void th_loop_hurry(struct th_loop *loop)
{
	loop->hasty = true;
}

static int64_t now_ns(void)
{
	struct timespec now;

	clock_gettime(CLOCK_MONOTONIC, &now);
	return (int64_t)now.tv_sec * 1000000000 + now.tv_nsec;
}

static bool has_other_processor(void)
{
	cpu_set_t set;

	return sched_getaffinity(0, sizeof(set), &set) == 0 &&
		CPU_COUNT(&set) > 1;
}

/* One that slept for less than LOOK_NS could have looked instead; one that
 * looked in vain does not do it again before that. */
static int wait_hastily(
	struct th_loop *loop, struct epoll_event *events, int timeout_ms)
{
	int64_t begin = now_ns(), waited = 0;
	int count = 0;

	while (count == 0 && waited < loop->look_ns) {
		count = epoll_wait(loop->epoll, events, ROUND_EVENTS, 0);
		waited = now_ns() - begin;
	}
	if (count == 0) {
		count = epoll_wait(
			loop->epoll, events, ROUND_EVENTS, timeout_ms);
		waited = now_ns() - begin;
		loop->look_ns =
			waited < LOOK_NS && has_other_processor() ? LOOK_NS : 0;
	}
	return count;
}

int th_loop_round(struct th_loop *loop, int timeout_ms)
{
	struct epoll_event events[ROUND_EVENTS];
	int count;

	if (loop->hasty && timeout_ms)
		count = wait_hastily(loop, events, timeout_ms);
	else
		count = epoll_wait(
			loop->epoll, events, ROUND_EVENTS, timeout_ms);
	loop->hasty = false;
	if (count < 0)
		return errno == EINTR ? 0 : -1;
	loop->ended_count = 0;
	for (int i = 0; i < count; i++) {
		struct th_watch *watch = events[i].data.ptr;

		if (!has_ended(loop, watch))
			watch->ready(watch, events[i].events);
	}
	return count;
}
