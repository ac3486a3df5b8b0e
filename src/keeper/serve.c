/* The keeper's loop: from the first run to the last. */
#include <errno.h>
#include <malloc.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/mman.h>
#include <sys/signalfd.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "keeper/keeper.h"
#include "keeper/scratch.h"
#include "sandbox/rights.h"

/* After so long without a need for it the database is closed. */
#define REST_MS 500
/* As deep as the work before it may have gone. */
#define STACK_BYTES (128u * 1024)
/* How long an attached client may leave the last output unread. */
#define LAST_OUTPUT_MS 10000

static void process_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	int status = 0;

	(void)events;
	/* A pidfd is readable from the end of the process on; it may still be
	 * traced, and then waitpid has nothing yet. */
	if (waitpid(keeper->sandbox.pid, &status, WNOHANG) == 0)
		return;
	keeper->ended = true;
	keeper->ended_ms = th_clock_mono_ms();
	keeper->status = status;
	keeper->sandbox.pid = 0;
	th_loop_forget(&keeper->loop, watch);
	th_close(&keeper->sandbox.pidfd);
	/* Nobody is left to read the input. */
	keeper->in_end = true;
	keeper->in_pending.len = 0;
}

static void signals_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	struct signalfd_siginfo info;

	(void)events;
	if (read(watch->fd, &info, sizeof(info)) != (ssize_t)sizeof(info))
		return;
	if (info.ssi_signo == SIGHUP)
		keeper_renew(keeper);
	if (info.ssi_signo != SIGTERM && info.ssi_signo != SIGINT)
		return;
	/* The host goes down: nobody will ask any more. */
	if (keeper->phase == PHASE_KEEP) {
		keeper->phase = PHASE_END;
		return;
	}
	keeper_end_for_host(keeper, keeper->plan.stop_signal,
		keeper->plan.grace_ms,
		*keeper->notify ? TH_CAUSE_SERVICE_ENDED
				: TH_CAUSE_KEEPER_ENDED,
		*keeper->notify ? "the service manager"
				: "a signal to the keeper");
}

int keeper_watch_process(struct keeper *keeper, struct th_error *err)
{
	sigset_t set;
	int fd;

	if (keeper->signals.fd < 0) {
		sigemptyset(&set);
		sigaddset(&set, SIGTERM);
		sigaddset(&set, SIGINT);
		sigaddset(&set, SIGHUP);
		sigaddset(&set, SIGCHLD);
		fd = signalfd(-1, &set, SFD_CLOEXEC | SFD_NONBLOCK);
		keeper->signals.owner = keeper;
		keeper->signals.ready = signals_ready;
		if (fd < 0 ||
			th_loop_watch(
				&keeper->loop, &keeper->signals, fd, EPOLLIN)) {
			th_close(&fd);
			goto fail;
		}
	}
	keeper->process.owner = keeper;
	keeper->process.ready = process_ready;
	if (th_loop_watch(&keeper->loop, &keeper->process,
		    keeper->sandbox.pidfd, EPOLLIN) == 0)
		return 0;
fail:
	return th_fail_sys(err, TH_FAILED, errno, "cannot watch the container");
}

/* The earlier of two times to wait; -1 is never. */
static int64_t earlier(int64_t one, int64_t other)
{
	if (one < 0)
		return other;
	return other < 0 || one < other ? one : other;
}

static int64_t until(int64_t time_ms)
{
	int64_t left = time_ms - th_clock_mono_ms();

	return left < 0 ? 0 : left;
}

/* Milliseconds until a time at which 0 means never. */
static int64_t from_time(int64_t time_ms)
{
	return time_ms ? until(time_ms) : -1;
}

/* Whoever reads slowly gets everything, unless the container is to go, or to
 * start again. */
static bool waits_for_readers(const struct keeper *keeper)
{
	return keeper->blocked && !keeper->stopping &&
		keeper->policy.kind == TH_NEVER;
}

/* How long streams may stay open that nobody writes to any more. */
static int64_t output_until(const struct keeper *keeper)
{
	int64_t last = keeper->read_ms > keeper->ended_ms ? keeper->read_ms
							  : keeper->ended_ms;

	return last + LAST_OUTPUT_MS;
}

/* Milliseconds until something is due, or -1. */
static int next_due(struct keeper *keeper)
{
	int64_t left = -1;

	if (keeper->closing.group || keeper->phase == PHASE_KEEP)
		left = -1;
	else if (keeper->phase == PHASE_WAIT)
		left = keeper->closing.devices ? -1 : until(keeper->next_ms);
	else if (keeper->ended && !waits_for_readers(keeper))
		left = until(output_until(keeper));
	else if (!keeper->ended && keeper->stopping && !keeper->by_force)
		left = until(keeper->force_ms);
	if (keeper->phase == PHASE_RUN && !keeper->ended)
		left = earlier(left, keeper_probe_due(keeper));
	left = earlier(left, keeper_sessions_due(keeper));
	left = earlier(left, from_time(keeper_record_due(keeper)));
	left = earlier(left, from_time(keeper_close_due(keeper)));
	left = earlier(left, from_time(keeper_pause_due(keeper)));
	left = earlier(left, from_time(keeper->names_ms));
	left = earlier(left, from_time(keeper->rest_ms));
	return left > 1000000 ? 1000000 : (int)left;
}

/* Recorded once when it begins and when it is over; the container goes on. */
static void watch_log(struct keeper *keeper)
{
	struct th_cause cause = {.kind = TH_CAUSE_LOG_AGAIN};

	if (keeper->log.failed == keeper->log_reported)
		return;
	keeper->log_reported = keeper->log.failed;
	if (keeper->log.failed) {
		cause.kind = TH_CAUSE_LOG_FAILED;
		snprintf(cause.text, sizeof(cause.text), ": %.200s",
			strerror(keeper->log.sys));
	} else {
		cause.number = (int64_t)keeper->log.lost;
		keeper->log.lost = 0;
	}
	keeper_note(keeper, &cause);
}

/* What the start has needed is much more than what comes needs: the next one
 * reads it again. */
static void become_small(struct keeper *keeper)
{
	th_bundle_release_setup(&keeper->bundle);
	th_plan_release_texts(&keeper->plan);
	th_root_layers_release(&keeper->layers);
	th_buf_fit(&keeper->filter);
	keeper->rest_ms = th_clock_mono_ms() + REST_MS;
}

/* Nothing is asked of the database for a while: what it and the calls before
 * have taken goes back. */
static void rest(struct keeper *keeper)
{
	size_t page = (size_t)sysconf(_SC_PAGESIZE);
	char *here = __builtin_frame_address(0);
	char *end = here - (uintptr_t)here % page - page;

	keeper->rest_ms = 0;
	keeper_drop_filter(keeper);
	th_db_rest(keeper->store->db);
	scratch_trim();
	malloc_trim(0);
	/* Of the stack what lies below all that is in use. */
	madvise(end - STACK_BYTES, STACK_BYTES, MADV_DONTNEED);
}

static void plan_rest(struct keeper *keeper)
{
	bool busy = !th_db_is_resting(keeper->store->db) ||
		(keeper->filter.len && keeper->filter_fd >= 0);

	if (!keeper->rest_ms && busy)
		keeper->rest_ms = th_clock_mono_ms() + REST_MS;
}

void keeper_tell_start(struct keeper *keeper, const struct th_error *why)
{
	struct client *next;

	for (struct client *at = keeper->clients; at; at = next) {
		next = at->next;
		if (!at->waits_for_start)
			continue;
		at->waits_for_start = false;
		if (why)
			keeper_tell_error(at, why);
		else
			keeper_tell(at, TH_TELL_STARTED, NULL, 0);
	}
}

/* Once more: by the policy, or because somebody asked for it. */
static void start_again(struct keeper *keeper)
{
	int rc;

	th_rights_raise();
	rc = keeper_start_again(keeper);
	th_rights_rest();
	keeper_tell_neighbours(keeper);
	if (rc)
		return;
	become_small(keeper);
	keeper_tell_start(keeper, NULL);
}

static bool run_is_over(const struct keeper *keeper)
{
	return keeper->ended &&
		((!keeper_streams_open(keeper) && !keeper->blocked) ||
			(!waits_for_readers(keeper) &&
				th_clock_mono_ms() > output_until(keeper)));
}

static void do_what_is_due(struct keeper *keeper)
{
	if (keeper->rest_ms && th_clock_mono_ms() >= keeper->rest_ms)
		rest(keeper);
	if (keeper->names_ms && th_clock_mono_ms() >= keeper->names_ms)
		keeper_tell_them_now(keeper);
	if (keeper_record_due(keeper) &&
		th_clock_mono_ms() >= keeper_record_due(keeper))
		keeper_record_work(keeper);
	keeper_sessions_work(keeper);
	keeper_pause_work(keeper);
	keeper_close_work(keeper);
	if (keeper->closing.group)
		return;
	if (keeper->phase == PHASE_KEEP) {
		keeper_keep(keeper);
		return;
	}
	if (keeper->phase == PHASE_WAIT) {
		if (!keeper->closing.devices &&
			th_clock_mono_ms() >= keeper->next_ms)
			start_again(keeper);
		return;
	}
	if (keeper->phase == PHASE_END)
		return;
	if (!keeper->ended && keeper->stopping && !keeper->by_force &&
		th_clock_mono_ms() >= keeper->force_ms) {
		keeper->by_force = true;
		syscall(SYS_pidfd_send_signal, keeper->sandbox.pidfd, SIGKILL,
			NULL, 0);
	}
	watch_log(keeper);
	if (run_is_over(keeper)) {
		th_rights_raise();
		keeper_end_run(keeper);
		th_rights_rest();
	} else if (!keeper->ended) {
		keeper_probe_work(keeper);
	}
}

void keeper_serve(struct keeper *keeper)
{
	become_small(keeper);
	keeper_record_init(keeper);
	/* Whoever waits for the start need not wait for this. */
	keeper_tell_neighbours(keeper);
	while (keeper->phase != PHASE_END) {
		if (th_loop_round(&keeper->loop, next_due(keeper)) < 0)
			break;
		if (keeper->phase != PHASE_END)
			do_what_is_due(keeper);
		plan_rest(keeper);
	}
}
