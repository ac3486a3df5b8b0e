/* What is recorded, told and cleaned when a run ends, and after the last. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "keeper/keeper.h"
#include "container/lock.h"
#include "network/network.h"
#include "sandbox/cgroup.h"
#include "store/volume_state.h"

/* How long the state is tried with an end that the file has. */
#define KEEP_MS 3000
/* A program that ends so soon after a signal ends because of it. */
#define HEEDED_MS 10000
/* When a start is tried again that others hold up. */
#define HELD_UP_MS 50

/* How a run ended, and what follows. */
struct end {
	struct th_ending ending;
	struct th_cause cause;
	const char *actor;
	struct th_verdict verdict;
};

/* The program's own status, where a reaper stood between. */
static int program_status(const struct keeper *keeper)
{
	int status = 0;

	if (keeper->sandbox.status >= 0 &&
		read(keeper->sandbox.status, &status, sizeof(status)) ==
			sizeof(status))
		return status;
	return keeper->last.status;
}

static void read_outcome(const struct keeper *keeper, struct th_ending *ending)
{
	int status = program_status(keeper);

	memset(ending, 0, sizeof(*ending));
	ending->by_force = keeper->stopping.by_force;
	ending->sessions = keeper->sessions.ended;
	if (!WIFSIGNALED(status)) {
		ending->outcome = TH_OUTCOME_EXITED;
		ending->code = WEXITSTATUS(status);
		return;
	}
	ending->outcome = TH_OUTCOME_SIGNAL;
	ending->code = WTERMSIG(status);
	/* A SIGKILL from nowhere: ours in the place of a signal that the first
	 * process of a PID namespace cannot die of, or the kernel's for memory.
	 * The group is asked before it is removed. */
	if (ending->code != SIGKILL || keeper->stopping.by_force)
		return;
	if (keeper->stopping.stands_for)
		ending->code = keeper->stopping.stands_for;
	else if (keeper->stopping.sent != SIGKILL && !keeper->stopping.asked &&
		th_cgroup_memory_kills(&keeper->cgroup) > 0)
		ending->outcome = TH_OUTCOME_OUT_OF_MEMORY;
}

/* True where the signal that a person has sent is why it ended. */
static bool sent_away(const struct keeper *keeper, const struct th_ending *end)
{
	if (!keeper->stopping.sent || keeper->stopping.asked)
		return false;
	if (end->outcome == TH_OUTCOME_SIGNAL &&
		end->code == keeper->stopping.sent)
		return true;
	return end->outcome == TH_OUTCOME_EXITED &&
		keeper->last.ended_ms - keeper->stopping.sent_ms < HEEDED_MS &&
		(keeper->stopping.sent == SIGTERM ||
			keeper->stopping.sent == SIGINT ||
			keeper->stopping.sent == SIGQUIT ||
			keeper->stopping.sent == SIGHUP);
}

static void find_cause(struct keeper *keeper, struct end *end)
{
	const struct th_ending *ending = &end->ending;

	memset(&end->cause, 0, sizeof(end->cause));
	end->actor = "keeper";
	if (keeper->stopping.asked) {
		end->cause = keeper->stopping.cause;
		end->cause.by_force = keeper->stopping.by_force;
		end->actor = keeper->stopping.actor;
	} else if (sent_away(keeper, ending)) {
		end->cause.kind = TH_CAUSE_SENT_SIGNAL;
		end->cause.number = keeper->stopping.sent;
		end->actor = keeper->stopping.sent_by;
	} else if (ending->outcome == TH_OUTCOME_OUT_OF_MEMORY) {
		end->cause.kind = TH_CAUSE_MEMORY;
		end->actor = "kernel";
	} else if (ending->outcome == TH_OUTCOME_SIGNAL) {
		end->cause.kind = TH_CAUSE_STRAY_SIGNAL;
		end->cause.number = ending->code;
	} else {
		end->cause.kind = TH_CAUSE_ENDED;
	}
}

static void judge(struct keeper *keeper, struct end *end)
{
	struct th_run run = {.outcome = (enum th_outcome)end->ending.outcome,
		.code = end->ending.code,
		.ran_ms = keeper->last.ended_ms - keeper->started_ms,
		.by_person = keeper->stopping.by_person ||
			(keeper->stopping.sent_holds &&
				sent_away(keeper, &end->ending)),
		.ailing = keeper->stopping.ailing,
		.tries = keeper->next.tries};

	th_policy_judge(&keeper->policy, &run, &end->verdict);
	if (keeper->stopping.once_more && !run.by_person) {
		end->verdict.again = true;
		end->verdict.wait_ms = 0;
		end->verdict.tries = 0;
	}
}

static void describe_wait(const struct keeper *keeper, struct end *end)
{
	if (keeper->stopping.once_more)
		return;
	end->cause.attempt = end->verdict.tries;
	end->cause.wait_ms = end->verdict.wait_ms;
}

/* Before anything else is tried, so that nothing loses it. */
static void write_end(
	struct keeper *keeper, const struct th_change *change, bool sync)
{
	struct th_error ignored = {0}; /* then this process tells it */
	struct th_end *end = &keeper->last.end;

	end->started_us = keeper->last.run_us;
	end->change = *change;
	end->change.at_us = th_clock_now_us();
	snprintf(end->actor, sizeof(end->actor), "%s", change->actor);
	end->change.actor = end->actor;
	keeper->last.written = keeper->last.fd >= 0 &&
		th_outcome_write(keeper->last.fd, end, sync, &ignored) == 0;
}

static void record_wait(struct keeper *keeper, const struct end *end)
{
	struct th_change change = {.to = TH_STATE_WAITING,
		.outcome = (enum th_outcome)end->ending.outcome,
		.code = end->ending.code,
		.cause = end->cause,
		.actor = end->actor,
		.tries = end->verdict.tries,
		.next_us = th_clock_now_us() + end->verdict.wait_ms * 1000};

	write_end(keeper, &change, false);
	keeper_record_change(keeper, &keeper->last.end.change);
}

/* The last step. The end stands in a file before anything else is tried: one
 * that the state cannot take is told from there. What is not kept is taken out
 * of the state; until its folder is gone too, a mark says what there is to do,
 * should this process die. */
static void record_last(struct keeper *keeper, const struct th_change *change)
{
	struct th_store *store = keeper->store;
	struct th_error ignored = {0}; /* the mark: the row is left then */
	const struct th_change *last = &keeper->last.end.change;

	write_end(keeper, change, keeper->plan.keep);
	if (keeper->plan.keep) {
		keeper_record_change(keeper, last);
		return;
	}
	keeper->last.discarding = th_store_hold(store, &ignored) == 0;
	th_store_unsettled(store, keeper->id, &ignored);
	keeper_record_discard(keeper, last);
	/* Who hears of the end finds none of them any more. */
	if (!keeper_record_waits(keeper))
		th_volume_drop_own(store, keeper->id);
}

/* What the state cannot take now stays here for a while; for good where the
 * file has not got it either. */
static void conclude(struct keeper *keeper)
{
	keeper_enter(keeper,
		keeper_record_waits(keeper) ? STATE_KEEPING : STATE_DONE);
	keeper->last.keep_until_ms = th_clock_mono_ms() + KEEP_MS;
}

/* How the last run ended. */
static void record_end(struct keeper *keeper, const struct end *end)
{
	bool by_host = keeper->stopping.asked && !keeper->stopping.by_person &&
		!keeper->stopping.ailing && !keeper->stopping.once_more;
	struct th_change change = {.to = TH_STATE_STOPPED,
		.outcome = (enum th_outcome)end->ending.outcome,
		.code = end->ending.code,
		.cause = end->cause,
		.actor = end->actor,
		.tries = end->verdict.tries,
		/* A host that goes down does not mean it for good. */
		.wanted = by_host ? TH_WANTED_AS_IT_WAS : TH_NOT_WANTED};

	record_last(keeper, &change);
}

static void tell_again(struct keeper *keeper, const struct end *end)
{
	struct th_ending ending = end->ending;

	ending.wait_ms = (int32_t)end->verdict.wait_ms;
	keeper_tell_again(keeper, &ending);
}

/* What a run holds inside and out, but for its network on the host's side. */
static void end_parts(struct keeper *keeper)
{
	keeper_probe_end(keeper);
	keeper_close_streams(keeper);
	keeper_unforward_ports(keeper);
	keeper_end_resolver(keeper);
	keeper_end_relays(keeper);
}

void keeper_release_run(struct keeper *keeper)
{
	th_close(&keeper->overlay_fd);
	keeper_share_users(keeper);
	keeper_leave_network(keeper);
}

/* The programs say no more than that they cannot fork. */
static void tell_refused(struct keeper *keeper)
{
	struct th_cause cause = {.kind = TH_CAUSE_PROCESSES_REFUSED,
		.number = th_cgroup_processes_refused(&keeper->cgroup)};
	struct th_usage usage;

	if (cause.number <= 0)
		return;
	th_cgroup_usage(&keeper->cgroup, &usage);
	cause.limit = usage.processes_limit;
	keeper_note(keeper, &cause);
}

/* The ports stay held, and who connects is told at once that nobody is
 * there. */
static void begin_wait(struct keeper *keeper, struct end *end)
{
	struct th_error ignored = {0}; /* who connects waits */

	describe_wait(keeper, end);
	keeper->last.ending = end->ending;
	record_wait(keeper, end);
	keeper->next.tries = end->verdict.tries;
	keeper->next.at_ms = th_clock_mono_ms() + end->verdict.wait_ms;
	keeper_enter(keeper, STATE_WAITING);
	keeper_release_run(keeper);
	keeper_close_ports(keeper, &ignored);
}

/* As a shell tells it, for whoever waits for the keeper itself. */
static int shell_code(const struct th_ending *ending)
{
	if (ending->outcome == TH_OUTCOME_EXITED)
		return ending->code;
	return ending->outcome == TH_OUTCOME_SIGNAL ? 128 + ending->code : 137;
}

void keeper_end_run(struct keeper *keeper)
{
	/* The order matters: the outcome needs the group, the policy needs the
	 * outcome, ports are free before the state says so, and the state is
	 * right before anybody hears of the end. */
	keeper_end_sessions(keeper);
	end_parts(keeper);
	keeper->last.is_start = false;
	read_outcome(keeper, &keeper->last.found);
	tell_refused(keeper);
	keeper_close_run(keeper);
}

static void conclude_program(struct keeper *keeper)
{
	struct end end = {.ending = keeper->last.found};

	find_cause(keeper, &end);
	judge(keeper, &end);
	if (end.verdict.again) {
		begin_wait(keeper, &end);
		keeper_notify_waiting(keeper);
		tell_again(keeper, &end);
		return;
	}
	if (!keeper->stopping.asked)
		keeper->last.code = shell_code(&end.ending);
	keeper_give_up_ports(keeper);
	keeper->last.ending = end.ending;
	record_end(keeper, &end);
	conclude(keeper);
	keeper_tell_all_end(keeper, &end.ending);
}

void keeper_end_wait(struct keeper *keeper, enum th_cause_kind cause,
	const char *actor, bool holds)
{
	struct th_ending ending = keeper->last.ending;
	struct th_change change = {.to = TH_STATE_STOPPED,
		.outcome = (enum th_outcome)ending.outcome,
		.code = ending.code,
		.cause = {.kind = cause, .while_waiting = true},
		.actor = actor ? actor : "",
		.tries = keeper->next.tries,
		.wanted = holds ? TH_NOT_WANTED : TH_WANTED_AS_IT_WAS};

	keeper_give_up_ports(keeper);
	record_last(keeper, &change);
	conclude(keeper);
	keeper_tell_all_end(keeper, &ending);
}

static void undo_run(struct keeper *keeper)
{
	th_loop_forget(&keeper->loop, &keeper->process);
	th_sandbox_abandon(&keeper->sandbox);
	end_parts(keeper);
}

void keeper_fail_run(
	struct keeper *keeper, const struct th_error *why, bool held_up)
{
	struct last_run *last = &keeper->last;

	undo_run(keeper);
	keeper->started_ms = keeper->last.ended_ms = th_clock_mono_ms();
	last->is_start = true;
	last->held_up = held_up;
	th_cause_of_start(why, &last->cause);
	last->why = malloc(sizeof(*why));
	if (last->why)
		*last->why = *why;
	keeper_close_run(keeper);
}

/* It waits as it did, for a moment longer. */
static void wait_on(struct keeper *keeper)
{
	struct th_error ignored = {0}; /* then they are not answered at all */

	keeper_enter(keeper, STATE_WAITING);
	keeper->next.at_ms = th_clock_mono_ms() + HELD_UP_MS;
	keeper_release_run(keeper);
	keeper_close_ports(keeper, &ignored);
	if (keeper->stopping.asked)
		keeper_end_wait(keeper, keeper->stopping.cause.kind,
			keeper->stopping.actor, keeper->stopping.by_person);
}

static void conclude_start(struct keeper *keeper)
{
	struct end end = {.ending = {.outcome = TH_OUTCOME_COULD_NOT_START},
		.actor = "keeper"};
	struct th_change change = {.to = TH_STATE_STOPPED,
		.outcome = TH_OUTCOME_COULD_NOT_START,
		.actor = "keeper",
		.wanted = TH_NOT_WANTED};

	keeper->next.held_up_ms = 0;
	keeper->next.asked_by[0] = '\0';
	end.cause = keeper->last.cause;
	judge(keeper, &end);
	if (end.verdict.again) {
		begin_wait(keeper, &end);
		return;
	}
	if (keeper->stopping.asked && !keeper->stopping.by_person)
		change.wanted = TH_WANTED_AS_IT_WAS;
	change.cause = end.cause;
	change.tries = end.verdict.tries;
	record_last(keeper, &change);
	conclude(keeper);
	keeper_release_run(keeper);
}

void keeper_conclude_run(struct keeper *keeper)
{
	struct last_run *last = &keeper->last;

	if (!last->is_start) {
		conclude_program(keeper);
		return;
	}
	if (last->held_up) {
		wait_on(keeper);
	} else {
		conclude_start(keeper);
		/* Once the state knows it. */
		keeper_tell_start(keeper, last->why);
	}
	free(last->why);
	last->why = NULL;
}

/* Folder and lock; the mark goes last, as it is what both are found by where
 * this process dies. */
static void discard(struct keeper *keeper)
{
	struct th_error ignored = {0}; /* its mark stays */
	/* A row that is still there needs its folder. */
	bool gone = keeper->last.discarding && !keeper_record_waits(keeper) &&
		th_store_remove_container(
			keeper->store, keeper->id, &ignored) == 0;

	gone &= th_lock_drop(
		keeper->store->run_fd, keeper->id, &keeper->lock_fd);
	if (gone)
		th_store_settled(keeper->store, keeper->id);
	if (keeper->last.discarding)
		th_store_let_go(keeper->store);
}

/* Ports, socket and log. */
static void release_kept(struct keeper *keeper)
{
	char path[64];

	th_log_close(&keeper->streams.log);
	keeper_give_up_ports(keeper);
	keeper_stop_listening(keeper);
	snprintf(path, sizeof(path), "%.32s.sock", keeper->id);
	unlinkat(keeper->store->run_fd, path, 0);
}

void keeper_leave(struct keeper *keeper)
{
	keeper_tell_all_end(keeper, &keeper->last.ending);
	keeper_release_run(keeper);
	keeper_close_all(keeper);
	release_kept(keeper);
	discard(keeper);
	/* Nobody waits for this any more. */
	keeper_names_at_last(keeper);
}

void keeper_abort(struct keeper *keeper, const struct th_error *why)
{
	struct th_change change = {.to = TH_STATE_STOPPED,
		.outcome = TH_OUTCOME_COULD_NOT_START,
		.actor = keeper->actor,
		.wanted = TH_NOT_WANTED};
	struct th_error ignored = {0}; /* why is told */

	/* Without the lock the container is somebody else's. */
	if (keeper->lock_fd < 0)
		return;
	th_cause_of_start(why, &change.cause);
	undo_run(keeper);
	th_cgroup_close(&keeper->cgroup);
	if (keeper->group_path[0])
		th_cgroup_remove(keeper->group_path, TH_CGROUP_LEVELS);
	if (keeper->row.id[0])
		th_state_change(
			keeper->store->db, keeper->id, &change, &ignored);
	keeper_release_run(keeper);
	keeper_close_all(keeper);
	release_kept(keeper);
	th_lock_drop(keeper->store->run_fd, keeper->id, &keeper->lock_fd);
}
