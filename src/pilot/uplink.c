#include <arpa/inet.h>
#include <slirp/libslirp.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "network/pilot.h"
#include "pilot/pilot.h"

/* The largest frame: a packet and its Ethernet header. */
#define FRAME_BYTES (TH_UPLINK_MTU + 64)
/* Frames in a row, before connections have their turn. */
#define FRAMES_AT_ONCE 64

struct timer {
	struct timer *next;
	SlirpTimerCb ring;
	void *arg;
	int64_t at_ms; /* 0: it does not run */
};

struct uplink {
	Slirp *slirp;
	int device;
	struct timer *timers;
	/* While the list of polls is filled. */
	struct pollfd **polls;
	size_t *count, *room;
	/* While what is ready is worked on. */
	const struct pollfd *ready;
	size_t device_at; /* place of the device in the list */
	unsigned char frame[FRAME_BYTES];
};

static int64_t now_ns(void *arg)
{
	struct timespec now;

	(void)arg;
	clock_gettime(CLOCK_MONOTONIC, &now);
	return (int64_t)now.tv_sec * 1000000000 + now.tv_nsec;
}

/* A frame that does not fit now is lost, as on any network. */
static ssize_t send_frame(const void *frame, size_t len, void *arg)
{
	struct uplink *uplink = arg;
	ssize_t sent = write(uplink->device, frame, len);

	return sent < 0 ? (ssize_t)len : sent;
}

static void hear_error(const char *text, void *arg)
{
	(void)text;
	(void)arg;
}

static void *new_timer(SlirpTimerCb ring, void *ring_arg, void *arg)
{
	struct uplink *uplink = arg;
	struct timer *timer = calloc(1, sizeof(*timer));

	if (!timer)
		abort();
	timer->ring = ring;
	timer->arg = ring_arg;
	timer->next = uplink->timers;
	uplink->timers = timer;
	return timer;
}

static void free_timer(void *which, void *arg)
{
	struct uplink *uplink = arg;

	for (struct timer **at = &uplink->timers; *at; at = &(*at)->next) {
		if (*at == which) {
			*at = (*at)->next;
			free(which);
			return;
		}
	}
}

static void set_timer(void *which, int64_t at_ms, void *arg)
{
	struct timer *timer = which;

	(void)arg;
	timer->at_ms = at_ms;
}

static void watch(int fd, void *arg)
{
	(void)fd;
	(void)arg;
}

static void notify(void *arg)
{
	(void)arg;
}

static const SlirpCb callbacks = {.send_packet = send_frame,
	.guest_error = hear_error,
	.clock_get_ns = now_ns,
	.timer_new = new_timer,
	.timer_free = free_timer,
	.timer_mod = set_timer,
	.register_poll_fd = watch,
	.unregister_poll_fd = watch,
	.notify = notify};

struct uplink *uplink_new(int device, bool six)
{
	SlirpConfig config = {.version = 1,
		.in_enabled = true,
		.in6_enabled = six,
		.vprefix_len = 64,
		.if_mtu = TH_UPLINK_MTU,
		.if_mru = TH_UPLINK_MTU};
	struct uplink *uplink = calloc(1, sizeof(*uplink));

	if (!uplink)
		return NULL;
	inet_pton(AF_INET, TH_UPLINK_BASE, &config.vnetwork);
	inet_pton(AF_INET, TH_UPLINK_MASK, &config.vnetmask);
	inet_pton(AF_INET, TH_UPLINK_HOST, &config.vhost);
	inet_pton(AF_INET, TH_UPLINK_OWN, &config.vdhcp_start);
	inet_pton(AF_INET, TH_UPLINK_NAMES, &config.vnameserver);
	inet_pton(AF_INET6, TH_UPLINK_BASE6, &config.vprefix_addr6);
	inet_pton(AF_INET6, TH_UPLINK_HOST6, &config.vhost6);
	inet_pton(AF_INET6, TH_UPLINK_NAMES6, &config.vnameserver6);
	uplink->device = device;
	uplink->slirp = slirp_new(&config, &callbacks, uplink);
	if (!uplink->slirp) {
		free(uplink);
		return NULL;
	}
	return uplink;
}

static int add_poll(struct uplink *uplink, int fd, short events)
{
	if (*uplink->count == *uplink->room) {
		size_t room = *uplink->room ? *uplink->room * 2 : 64;
		struct pollfd *bigger =
			realloc(*uplink->polls, room * sizeof(*bigger));

		if (!bigger)
			return -1;
		*uplink->polls = bigger;
		*uplink->room = room;
	}
	(*uplink->polls)[*uplink->count].fd = fd;
	(*uplink->polls)[*uplink->count].events = events;
	(*uplink->polls)[*uplink->count].revents = 0;
	return (int)(*uplink->count)++;
}

static int add_socket(int fd, int events, void *arg)
{
	short wanted = 0;

	if (events & SLIRP_POLL_IN)
		wanted |= POLLIN;
	if (events & SLIRP_POLL_OUT)
		wanted |= POLLOUT;
	if (events & SLIRP_POLL_PRI)
		wanted |= POLLPRI;
	return add_poll(arg, fd, wanted);
}

int uplink_fill(struct uplink *uplink, struct pollfd **polls, size_t *count,
	size_t *room, int *timeout_ms)
{
	uint32_t timeout = *timeout_ms < 0 ? UINT32_MAX : (uint32_t)*timeout_ms;
	int64_t now_ms = now_ns(NULL) / 1000000;

	uplink->polls = polls;
	uplink->count = count;
	uplink->room = room;
	uplink->device_at = *count;
	if (add_poll(uplink, uplink->device, POLLIN) < 0)
		return -1;
	slirp_pollfds_fill(uplink->slirp, &timeout, add_socket, uplink);
	for (const struct timer *at = uplink->timers; at; at = at->next) {
		int64_t left = at->at_ms - now_ms;

		if (at->at_ms && left < (int64_t)timeout)
			timeout = left > 0 ? (uint32_t)left : 0;
	}
	*timeout_ms = timeout > INT32_MAX ? -1 : (int)timeout;
	return 0;
}

static int events_of(int at, void *arg)
{
	const struct uplink *uplink = arg;
	short found = at < 0 ? 0 : uplink->ready[at].revents;
	int events = 0;

	if (found & POLLIN)
		events |= SLIRP_POLL_IN;
	if (found & POLLOUT)
		events |= SLIRP_POLL_OUT;
	if (found & POLLPRI)
		events |= SLIRP_POLL_PRI;
	if (found & POLLERR)
		events |= SLIRP_POLL_ERR;
	if (found & POLLHUP)
		events |= SLIRP_POLL_HUP;
	return events;
}

static void read_frames(struct uplink *uplink)
{
	for (int i = 0; i < FRAMES_AT_ONCE; i++) {
		ssize_t len = read(
			uplink->device, uplink->frame, sizeof(uplink->frame));

		if (len <= 0)
			return;
		slirp_input(uplink->slirp, uplink->frame, (int)len);
	}
}

static void ring_timers(struct uplink *uplink)
{
	int64_t now_ms = now_ns(NULL) / 1000000;
	struct timer *next;

	for (struct timer *at = uplink->timers; at; at = next) {
		next = at->next;
		if (at->at_ms && at->at_ms <= now_ms) {
			at->at_ms = 0;
			at->ring(at->arg);
		}
	}
}

void uplink_work(struct uplink *uplink, const struct pollfd *polls, bool failed)
{
	uplink->ready = polls;
	if (!failed && polls[uplink->device_at].revents & POLLIN)
		read_frames(uplink);
	slirp_pollfds_poll(uplink->slirp, failed, events_of, uplink);
	ring_timers(uplink);
}

void uplink_free(struct uplink *uplink)
{
	if (!uplink)
		return;
	slirp_cleanup(uplink->slirp);
	while (uplink->timers)
		free_timer(uplink->timers, uplink);
	free(uplink);
}
