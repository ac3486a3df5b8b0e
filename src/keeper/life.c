/* The states of a keeper, what happens in each, and the loop that it all
 * happens in: nothing in it waits for anything but events. */
#include <errno.h>
#include <signal.h>
#include <stdio.h>
#include <sys/epoll.h>
#include <sys/signalfd.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/libc.h"
#include "keeper/keeper.h"
#include "keeper/scratch.h"
#include "keeper/shrink.h"
#include "sandbox/rights.h"

/* After so long without a need for it the database is closed. */
#define REST_MS 500
/* How long an attached client may leave the last output unread. */
#define LAST_OUTPUT_MS 10000

void keeper_enter(struct keeper *keeper, enum keeper_state state)
{
	keeper->state = state;
}

bool keeper_runs(const struct keeper *keeper)
{
	return keeper->state == STATE_RUNNING ||
		keeper->state == STATE_STOPPING;
}

bool keeper_has_run(const struct keeper *keeper)
{
	return keeper_runs(keeper) || keeper->state == STATE_DRAINING ||
		keeper->state == STATE_CLOSING;
}

static int64_t until(int64_t time_ms)
{
	int64_t left = time_ms - th_clock_mono_ms();

	return left < 0 ? 0 : left;
}

/* ---- running ---- */

static int64_t due_running(const struct keeper *keeper)
{
	return keeper_probe_due(keeper);
}

static void watch(struct keeper *keeper, const struct order *order)
{
	(void)order;
	keeper_watch_log(keeper);
	keeper_probe_work(keeper);
}

static void drain(struct keeper *keeper, const struct order *order)
{
	(void)order;
	keeper->last.ended_ms = th_clock_mono_ms();
	/* Nobody is left to read it. */
	keeper_drop_input(keeper);
	keeper_enter(keeper, STATE_DRAINING);
}

static void stop(struct keeper *keeper, const struct order *order)
{
	keeper->stopping.by_person = true;
	keeper->stopping.once_more = false;
	keeper_begin_stop(keeper, order->signal, order->grace_ms,
		&(struct th_cause){.kind = order->cause}, order->actor);
}

/* What is wanted now is wanted after it, too. */
static void stop_for_host(struct keeper *keeper, const struct order *order)
{
	keeper->policy.kind = TH_NEVER;
	keeper->policy.on_ailing = false;
	keeper->stopping.once_more = false;
	keeper_begin_stop(keeper, order->signal, order->grace_ms,
		&(struct th_cause){.kind = order->cause}, order->actor);
}

static void ask_for_next(struct keeper *keeper, const struct order *order)
{
	order->client->waits_for_start = true;
	snprintf(keeper->next.asked_by, sizeof(keeper->next.asked_by), "%s",
		order->actor);
}

static void stop_to_restart(struct keeper *keeper, const struct order *order)
{
	struct th_error err = {0};

	if (keeper->stopping.asked && !keeper->stopping.once_more) {
		th_fail(&err, TH_FAILED, "container \"%s\" is being stopped",
			keeper->row.name);
		keeper_tell_error(order->client, &err);
		return;
	}
	ask_for_next(keeper, order);
	keeper->stopping.once_more = true;
	keeper_begin_stop(keeper, order->signal, order->grace_ms,
		&(struct th_cause){.kind = order->cause}, order->actor);
}

/* Its time has come since whoever asks has looked. */
static void tell_started(struct keeper *keeper, const struct order *order)
{
	(void)keeper;
	keeper_tell(order->client, TH_TELL_STARTED, NULL, 0);
}

/* ---- stopping ---- */

static int64_t due_stopping(const struct keeper *keeper)
{
	return keeper->stopping.by_force ? -1
					 : until(keeper->stopping.force_ms);
}

static void hurry(struct keeper *keeper, const struct order *order)
{
	(void)order;
	if (due_stopping(keeper) == 0)
		keeper_force(keeper);
	keeper_watch_log(keeper);
}

/* ---- draining ---- */

/* Whoever reads slowly gets everything, unless the container is to go, or to
 * start again. */
static bool waits_for_readers(const struct keeper *keeper)
{
	return keeper->clients.blocked && !keeper->stopping.asked &&
		keeper->policy.kind == TH_NEVER;
}

/* How long streams may stay open that nobody writes to any more. */
static int64_t due_draining(const struct keeper *keeper)
{
	int64_t last = keeper->clients.read_ms > keeper->last.ended_ms
		? keeper->clients.read_ms
		: keeper->last.ended_ms;

	return waits_for_readers(keeper) ? -1 : until(last + LAST_OUTPUT_MS);
}

static void look_at_output(struct keeper *keeper, const struct order *order)
{
	(void)order;
	keeper_watch_log(keeper);
	if ((keeper_streams_open(keeper) || keeper->clients.blocked) &&
		due_draining(keeper) != 0)
		return;
	th_rights_raise();
	keeper_end_run(keeper);
	th_rights_rest();
}

/* ---- closing ---- */

/* closing.c has times of its own. */
static int64_t due_never(const struct keeper *keeper)
{
	(void)keeper;
	return -1;
}

static void conclude(struct keeper *keeper, const struct order *order)
{
	(void)order;
	keeper_conclude_run(keeper);
}

/* ---- waiting ---- */

static int64_t due_waiting(const struct keeper *keeper)
{
	return keeper_has_devices(keeper) ? -1 : until(keeper->next.at_ms);
}

/* What the start has needed is much more than what comes needs: the next one
 * reads it again. */
static void become_small(struct keeper *keeper)
{
	th_bundle_release_setup(&keeper->bundle);
	th_plan_release_texts(&keeper->plan);
	th_root_layers_release(&keeper->layers);
	th_buf_fit(&keeper->kept_filter.code);
	keeper->rest_ms = th_clock_mono_ms() + REST_MS;
}

/* Once more: by the policy, or because somebody asked for it. */
static void start_again(struct keeper *keeper, const struct order *order)
{
	int rc;

	(void)order;
	if (due_waiting(keeper) != 0)
		return;
	th_rights_raise();
	rc = keeper_start_again(keeper);
	th_rights_rest();
	keeper_tell_neighbours(keeper);
	if (rc)
		return;
	become_small(keeper);
	keeper_tell_start(keeper, NULL);
}

static void start_now(struct keeper *keeper, const struct order *order)
{
	ask_for_next(keeper, order);
	keeper->next.at_ms = 0;
}

static void end_wait(struct keeper *keeper, const struct order *order)
{
	keeper_end_wait(keeper, order->cause, order->actor, true);
}

static void end_wait_for_host(struct keeper *keeper, const struct order *order)
{
	keeper->policy.kind = TH_NEVER;
	keeper->policy.on_ailing = false;
	keeper->stopping.once_more = false;
	keeper_end_wait(keeper, order->cause, order->actor, false);
}

/* ---- keeping ---- */

static void keep(struct keeper *keeper, const struct order *order)
{
	(void)order;
	keeper_keep(keeper);
}

/* Nobody will ask any more. */
static void let_go(struct keeper *keeper, const struct order *order)
{
	(void)order;
	keeper_enter(keeper, STATE_DONE);
}

/* ---- the table ---- */

static const struct {
	/* Milliseconds until EVENT_ROUND may mean something, or -1. */
	int64_t (*due)(const struct keeper *keeper);
	void (*on[EVENT_COUNT])(
		struct keeper *keeper, const struct order *order);
} table[STATE_COUNT] = {[STATE_STARTING] = {due_never, {NULL}},
	[STATE_RUNNING] = {due_running,
		{[EVENT_ROUND] = watch,
			[EVENT_PROGRAM_ENDED] = drain,
			[EVENT_STOP] = stop,
			[EVENT_HOST_ENDS] = stop_for_host,
			[EVENT_START] = tell_started,
			[EVENT_RESTART] = stop_to_restart}},
	[STATE_STOPPING] = {due_stopping,
		{[EVENT_ROUND] = hurry,
			[EVENT_PROGRAM_ENDED] = drain,
			[EVENT_STOP] = stop,
			[EVENT_HOST_ENDS] = stop_for_host,
			[EVENT_START] = tell_started,
			[EVENT_RESTART] = stop_to_restart}},
	/* A stop in these two takes effect when the run is concluded. */
	[STATE_DRAINING] = {due_draining,
		{[EVENT_ROUND] = look_at_output,
			[EVENT_STOP] = stop,
			[EVENT_HOST_ENDS] = stop_for_host,
			[EVENT_START] = start_now,
			[EVENT_RESTART] = stop_to_restart}},
	[STATE_CLOSING] = {due_never,
		{[EVENT_GROUP_GONE] = conclude,
			[EVENT_STOP] = stop,
			[EVENT_HOST_ENDS] = stop_for_host,
			[EVENT_START] = start_now,
			[EVENT_RESTART] = stop_to_restart}},
	[STATE_WAITING] = {due_waiting,
		{[EVENT_ROUND] = start_again,
			[EVENT_STOP] = end_wait,
			[EVENT_HOST_ENDS] = end_wait_for_host,
			[EVENT_START] = start_now,
			[EVENT_RESTART] = start_now}},
	/* What else is asked there is answered by keeper_handle_kept(). */
	[STATE_KEEPING] = {due_never,
		{[EVENT_ROUND] = keep, [EVENT_HOST_ENDS] = let_go}},
	[STATE_DONE] = {due_never, {NULL}}};

void keeper_event(struct keeper *keeper, enum keeper_event event,
	const struct order *order)
{
	if (table[keeper->state].on[event])
		table[keeper->state].on[event](keeper, order);
}

/* ---- what the kernel tells ---- */

static void process_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	int status = 0;

	(void)events;
	/* A pidfd is readable from the end of the process on; it may still be
	 * traced, and then waitpid has nothing yet. */
	if (waitpid(keeper->sandbox.pid, &status, WNOHANG) == 0)
		return;
	keeper->last.status = status;
	keeper->sandbox.pid = 0;
	th_loop_forget(&keeper->loop, watch);
	th_close(&keeper->sandbox.pidfd);
	keeper_event(keeper, EVENT_PROGRAM_ENDED, NULL);
}

static void signals_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	struct signalfd_siginfo info;
	struct order order = {.signal = keeper->plan.stop_signal,
		.grace_ms = keeper->plan.grace_ms,
		.cause = TH_CAUSE_KEEPER_ENDED,
		.actor = "a signal to the keeper"};

	(void)events;
	if (read(watch->fd, &info, sizeof(info)) != (ssize_t)sizeof(info))
		return;
	if (info.ssi_signo == SIGHUP)
		keeper_renew(keeper);
	if (info.ssi_signo != SIGTERM && info.ssi_signo != SIGINT)
		return;
	if (*keeper->notify) {
		order.cause = TH_CAUSE_SERVICE_ENDED;
		order.actor = "the service manager";
	}
	keeper_event(keeper, EVENT_HOST_ENDS, &order);
}

static int watch_signals(struct keeper *keeper)
{
	sigset_t set;
	int fd;

	sigemptyset(&set);
	sigaddset(&set, SIGTERM);
	sigaddset(&set, SIGINT);
	sigaddset(&set, SIGHUP);
	sigaddset(&set, SIGCHLD);
	fd = signalfd(-1, &set, SFD_CLOEXEC | SFD_NONBLOCK);
	keeper->signals.owner = keeper;
	keeper->signals.ready = signals_ready;
	if (fd >= 0 &&
		th_loop_watch(&keeper->loop, &keeper->signals, fd, EPOLLIN) ==
			0)
		return 0;
	th_close(&fd);
	return -1;
}

int keeper_watch_process(struct keeper *keeper, struct th_error *err)
{
	keeper->process.owner = keeper;
	keeper->process.ready = process_ready;
	if ((keeper->signals.fd >= 0 || watch_signals(keeper) == 0) &&
		th_loop_watch(&keeper->loop, &keeper->process,
			keeper->sandbox.pidfd, EPOLLIN) == 0)
		return 0;
	return th_fail_sys(err, TH_FAILED, errno, "cannot watch the container");
}

/* ---- the loop ---- */

/* The earlier of two times to wait; -1 is never. */
static int64_t earlier(int64_t one, int64_t other)
{
	if (one < 0)
		return other;
	return other < 0 || one < other ? one : other;
}

/* Milliseconds until a time at which 0 means never. */
static int64_t from_time(int64_t time_ms)
{
	return time_ms ? until(time_ms) : -1;
}

/* Milliseconds until something is due, or -1. */
static int next_due(const struct keeper *keeper)
{
	int64_t left = table[keeper->state].due(keeper);

	left = earlier(left, keeper_sessions_due(keeper));
	left = earlier(left, from_time(keeper_record_due(keeper)));
	left = earlier(left, from_time(keeper_close_due(keeper)));
	left = earlier(left, from_time(keeper_pause_due(keeper)));
	left = earlier(left, from_time(keeper_names_due(keeper)));
	left = earlier(left, from_time(keeper->rest_ms));
	return left > 1000000 ? 1000000 : (int)left;
}

/* Nothing is asked of the database for a while: what it and the calls before
 * have taken goes back. */
static void rest(struct keeper *keeper)
{
	keeper->rest_ms = 0;
	keeper_drop_filter(keeper);
	th_db_rest(keeper->store->db);
	scratch_trim();
	shrink();
}

static void plan_rest(struct keeper *keeper)
{
	bool busy = !th_db_is_resting(keeper->store->db) ||
		keeper_filter_is_loaded(keeper);

	if (!keeper->rest_ms && busy)
		keeper->rest_ms = th_clock_mono_ms() + REST_MS;
}

/* First what goes on whatever the state is. */
static void do_what_is_due(struct keeper *keeper)
{
	if (keeper->rest_ms && th_clock_mono_ms() >= keeper->rest_ms)
		rest(keeper);
	keeper_names_work(keeper);
	if (keeper_record_due(keeper) &&
		th_clock_mono_ms() >= keeper_record_due(keeper))
		keeper_record_work(keeper);
	keeper_sessions_work(keeper);
	keeper_pause_work(keeper);
	keeper_close_work(keeper);
	keeper_event(keeper, EVENT_ROUND, NULL);
}

void keeper_serve(struct keeper *keeper)
{
	become_small(keeper);
	keeper_record_init(keeper);
	/* Whoever waits for the start need not wait for this. */
	keeper_tell_neighbours(keeper);
	while (keeper->state != STATE_DONE) {
		if (th_loop_round(&keeper->loop, next_due(keeper)) < 0)
			break;
		do_what_is_due(keeper);
		plan_rest(keeper);
	}
}
