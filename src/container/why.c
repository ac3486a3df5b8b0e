#include "container/why.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "container/history.h"
#include "container/plan.h"
#include "model/policy.h"
#include "oci/bundle.h"

/* Everything that is looked at. */
struct look {
	const struct th_context *context;
	const struct th_container_row *row;
	struct th_why *why;
	struct th_event_row *events;
	size_t event_count;
	const struct th_event_row *end; /* the last end of a run, or NULL */
	const struct th_event_row *start; /* the last start, or NULL */
};

static void say(struct look *look, char *text)
{
	/* Without memory a sentence is missing, no more. */
	th_strings_take(&look->why->sentences, text);
}

static void advise(struct look *look, char *text)
{
	th_strings_take(&look->why->advice, text);
}

static void set_kind(struct look *look, const char *kind)
{
	snprintf(look->why->kind, sizeof(look->why->kind), "%s", kind);
}

static void ago(int64_t time_us, char text[48])
{
	char span[TH_TIME_TEXT];
	int64_t since = th_clock_now_us() - time_us;

	th_clock_span(since > 0 ? since : 0, span);
	snprintf(text, 48, "%s ago", span);
}

static void find_events(struct look *look)
{
	for (size_t i = look->event_count; i > 0; i--) {
		const struct th_event_row *event = &look->events[i - 1];
		bool changed = strcmp(event->from, event->to) != 0;
		bool from_life = strcmp(event->from, "running") == 0 ||
			strcmp(event->from, "paused") == 0;

		if (!look->start && changed &&
			strcmp(event->to, "running") == 0 &&
			strcmp(event->from, "paused") != 0)
			look->start = event;
		if (!look->end && (event->outcome[0] || changed) &&
			(strcmp(event->to, "waiting") == 0 ||
				(strcmp(event->to, "stopped") == 0 &&
					(from_life || event->outcome[0]))))
			look->end = event;
	}
}

/* The last event of the kinds, or NULL. */
static const struct th_event_row *last_event(const struct look *look,
	enum th_cause_kind kind, enum th_cause_kind other)
{
	for (size_t i = look->event_count; i > 0; i--) {
		const struct th_event_row *event = &look->events[i - 1];

		if (event->cause.kind == kind || event->cause.kind == other)
			return event;
	}
	return NULL;
}

/* ---- ends ---- */

static const char *how(const struct th_container_row *row, char text[80])
{
	const char *name = th_signal_name(row->code);

	if (row->outcome == TH_OUTCOME_EXITED)
		snprintf(text, 80, "with exit code %d", row->code);
	else if (row->outcome == TH_OUTCOME_SIGNAL)
		snprintf(text, 80, "by the signal %s%s%d%s", name ? name : "",
			name ? " (" : "", row->code, name ? ")" : "");
	else
		text[0] = '\0';
	return text;
}

static void after_start(const struct th_container_row *row, char text[64])
{
	char span[TH_TIME_TEXT];

	text[0] = '\0';
	if (!row->started_us || row->ended_us < row->started_us)
		return;
	th_clock_span(row->ended_us - row->started_us, span);
	snprintf(text, 64, " %s after its start", span);
}

static const char *kind_of_trouble(enum th_trouble trouble)
{
	static const char *const kinds[TH_TROUBLE_COUNT] = {
		[TH_TROUBLE_NONE] = "could-not-start",
		[TH_TROUBLE_NO_PROGRAM] = "program-not-found",
		[TH_TROUBLE_ARCHITECTURE] = "wrong-architecture",
		[TH_TROUBLE_INTERPRETER] = "interpreter-missing",
		[TH_TROUBLE_NOT_EXECUTABLE] = "not-executable",
		[TH_TROUBLE_PORT] = "port-taken",
		[TH_TROUBLE_MOUNT] = "mount-failed"};

	return kinds[trouble];
}

static void explain_could_not_start(struct look *look)
{
	const struct th_container_row *row = look->row;
	enum th_trouble trouble = row->cause.trouble;
	char when[48];

	ago(row->ended_us, when);
	say(look,
		th_format("%s could not be started, %s: %s", row->name, when,
			row->cause.text));
	set_kind(look, kind_of_trouble(trouble));
	if (trouble == TH_TROUBLE_NO_PROGRAM)
		advise(look,
			th_format("its command was: %s; to see the image's "
				  "default: tidyhull show image:%s",
				row->command, row->image_name));
	else if (trouble == TH_TROUBLE_ARCHITECTURE)
		advise(look,
			th_format(
				"use an image for this machine's architecture: "
				"tidyhull peek %s lists the platforms",
				row->image_name));
	else if (trouble == TH_TROUBLE_NOT_EXECUTABLE)
		advise(look,
			th_format("make the file executable (chmod +x) where "
				  "the image is built"));
}

/* An end that somebody wanted. */
static void explain_asked(
	struct look *look, const char *after, const char *way, const char *when)
{
	const struct th_container_row *row = look->row;
	const struct th_cause *cause = &row->cause;
	const char *actor = look->end ? look->end->actor : "?";
	char text[TH_CAUSE_TEXT];

	th_cause_format(cause, text);
	if (cause->kind == TH_CAUSE_PROBE_FAILED) {
		set_kind(look, "probe-failed");
		say(look,
			th_format("%s was stopped%s because %s, %s", row->name,
				after, text, when));
	} else if (cause->kind == TH_CAUSE_SENT_SIGNAL) {
		set_kind(look, "killed");
		say(look,
			th_format("%s ended%s %s, %s: it %s by %s", row->name,
				after, way, when, text, actor));
	} else if (cause->kind == TH_CAUSE_KEEPER_ENDED ||
		cause->kind == TH_CAUSE_SERVICE_ENDED) {
		set_kind(look, "host-going-down");
		say(look,
			th_format("%s was ended%s %s, %s: %s", row->name, after,
				way, when,
				cause->kind == TH_CAUSE_SERVICE_ENDED
					? "the service manager stopped it"
					: "its keeper was asked to end, as on "
					  "a host shutdown"));
	} else if (th_cause_is_stop(cause)) {
		set_kind(look, "stopped");
		say(look,
			th_format("%s was stopped%s by %s, %s", row->name,
				after, actor, when));
		say(look,
			cause->by_force
				? th_format("it ignored its stop signal and "
					    "was killed after the grace period")
				: th_format("it ended %s", way));
	} else {
		set_kind(look, "stopped");
		say(look,
			th_format("%s was stopped%s, %s: %s", row->name, after,
				when, text));
	}
}

static void explain_end(struct look *look)
{
	const struct th_container_row *row = look->row;
	char when[48], after[64], way[80];

	ago(row->ended_us, when);
	after_start(row, after);
	how(row, way);
	if (th_cause_is_asked(&row->cause)) {
		explain_asked(look, after, way, when);
	} else if (row->outcome == TH_OUTCOME_OUT_OF_MEMORY) {
		say(look,
			th_format("%s was killed%s by the kernel, %s: it ran "
				  "out of memory",
				row->name, after, when));
	} else if (row->outcome == TH_OUTCOME_SIGNAL) {
		set_kind(look, "signal");
		say(look,
			th_format("%s was killed%s %s, %s; the signal was not "
				  "sent through tidyhull",
				row->name, after, way, when));
	} else {
		set_kind(look, row->code ? "failed" : "done");
		say(look,
			th_format("%s ended by itself%s %s, %s", row->name,
				after, way, when));
	}
}

static void explain_loss(struct look *look)
{
	const struct th_container_row *row = look->row;
	char when[48];

	ago(row->ended_us, when);
	if (row->outcome == TH_OUTCOME_HOST_RESTARTED) {
		set_kind(look, "host-restarted");
		say(look,
			th_format("%s ended when the host restarted, which was "
				  "noticed %s",
				row->name, when));
		return;
	}
	set_kind(look, "keeper-lost");
	say(look,
		th_format("%s was lost when its keeper was killed, which was "
			  "noticed %s",
			row->name, when));
	advise(look,
		th_format("keepers are killed by hand, or by the kernel when "
			  "the host runs out of memory: see dmesg"));
}

static int read_policy(const struct look *look, struct th_policy *policy)
{
	const struct th_container_row *row = look->row;
	struct th_error ignored = {0}; /* then nothing comes */
	struct th_plan plan = {0};
	int folder = th_container_folder(look->context, row, &ignored);
	int rc = folder < 0 ? -1
			    : th_plan_read_whole(folder, row, &plan, &ignored);

	*policy = plan.policy;
	th_plan_release(&plan);
	th_close(&folder);
	return rc;
}

/* Will it be started again, and why not? */
static void explain_next(struct look *look)
{
	const struct th_container_row *row = look->row;
	struct th_policy policy;
	struct th_verdict verdict;
	struct th_run run = {.outcome = row->outcome,
		.code = row->code,
		.ran_ms = (row->ended_us - row->started_us) / 1000,
		.by_person = th_cause_is_stop(&row->cause),
		.tries = row->tries};

	if (read_policy(look, &policy))
		return;
	if (row->wanted && policy.kind != TH_NEVER) {
		say(look,
			th_format("its restart policy (%s) wants it running: "
				  "tidyhull start --all-due starts it",
				row->restart));
		return;
	}
	if (policy.kind == TH_NEVER)
		run.by_person = false;
	th_policy_judge(&policy, &run, &verdict);
	if (!verdict.again)
		say(look,
			th_format("it will not be restarted, because %s",
				verdict.why));
	if (!verdict.again && policy.tries && run.tries >= policy.tries)
		advise(look,
			th_format("the tries begin anew with: tidyhull start "
				  "%s",
				row->name));
}

/* ---- what it was ---- */

static void find_lines(struct look *look)
{
	struct th_history_options options = TH_HISTORY_ALL;
	struct th_history *history = NULL;
	struct th_error ignored = {0}; /* then there are none */
	struct th_log_entry entry;
	struct th_why *why = look->why;

	options.last = TH_LAST_LINES;
	if (th_history_open(look->context->store, look->row->id, NULL, &options,
		    &history, &ignored))
		return;
	while (why->line_count < TH_LAST_LINES &&
		th_history_next(history, &entry, &ignored) == 1) {
		struct th_last_line *line = &why->lines[why->line_count];

		line->err = entry.stream == TH_STREAM_ERR;
		line->text = strndup(entry.data, entry.len);
		if (line->text)
			why->line_count++;
	}
	th_history_close(history);
}

static void find_symptom(struct look *look)
{
	struct th_case of = {.row = look->row,
		.lines = look->why->lines,
		.line_count = look->why->line_count,
		.limit = "",
		.program = ""};
	struct th_strings mounts = {0};
	char limit[TH_LIMIT_TEXT];
	struct th_bundle bundle;
	struct th_plan plan;
	struct th_error ignored = {0}; /* then by less */
	int folder;

	folder = th_container_folder(look->context, look->row, &ignored);
	if (folder < 0 || th_plan_read(folder, &plan, &ignored)) {
		th_close(&folder);
		return;
	}
	if (th_bundle_read(folder, &bundle, &ignored) == 0) {
		th_plan_mount_texts(&plan, &mounts); /* or by less */
		th_limit_format(&plan.limit, limit);
		of.mounts = &mounts;
		of.limit = limit;
		of.host_network = strcmp(plan.network, "host") == 0;
		of.program = bundle.process.args.items[0];
		of.arg_count = bundle.process.args.count;
		of.terminal = bundle.process.terminal;
		of.uid = bundle.process.uid;
		th_symptom_find(&of, look->why);
		th_strings_release(&mounts);
		th_bundle_release(&bundle);
	}
	th_plan_release(&plan);
	th_close(&folder);
}

/* ---- states ---- */

static void explain_stopped(struct look *look)
{
	const struct th_container_row *row = look->row;

	find_lines(look);
	if (row->outcome == TH_OUTCOME_COULD_NOT_START) {
		explain_could_not_start(look);
	} else if (row->outcome == TH_OUTCOME_HOST_RESTARTED ||
		row->outcome == TH_OUTCOME_KEEPER_LOST) {
		explain_loss(look);
	} else {
		explain_end(look);
		if (!th_cause_is_asked(&row->cause))
			find_symptom(look);
	}
}

static void explain_running(struct look *look)
{
	const struct th_container_row *row = look->row;
	const struct th_event_row *event;
	char when[48], text[TH_CAUSE_TEXT] = "";

	if (look->end)
		th_cause_format(&look->end->cause, text);
	ago(row->started_us, when);
	set_kind(look, "running");
	say(look,
		th_format("%s has been running since it was started %s by %s",
			row->name, when,
			look->start ? look->start->actor : "?"));
	if (row->restarts)
		say(look,
			th_format("it has been restarted %d time%s%s%s",
				row->restarts, row->restarts == 1 ? "" : "s",
				look->end ? "; most recently: " : "", text));
	if (!row->health[0])
		return;
	event = last_event(
		look, TH_CAUSE_PROBE_FAILED, TH_CAUSE_PROBE_SUCCEEDED);
	if (event)
		th_cause_format(&event->cause, text);
	set_kind(look, row->health);
	say(look,
		event ? th_format("it is %s: %s", row->health, text)
		      : th_format("it is %s: its probe has not succeeded yet",
				row->health));
}

static void explain(struct look *look)
{
	const struct th_container_row *row = look->row;
	const struct th_event_row *event;
	char span[TH_TIME_TEXT], when[48], text[TH_CAUSE_TEXT];
	int64_t left;

	switch (row->state) {
	case TH_STATE_CREATED:
		ago(row->created_us, when);
		set_kind(look, "created");
		event = last_event(
			look, TH_CAUSE_START_KILLED, TH_CAUSE_START_KILLED);
		if (event)
			th_cause_format(&event->cause, text);
		say(look,
			event ? th_format("%s was created %s; the last attempt "
					  "to start it failed: %s",
					row->name, when, text)
			      : th_format("%s was created %s and has never "
					  "been started",
					row->name, when));
		advise(look, th_format("tidyhull start %s", row->name));
		break;
	case TH_STATE_PAUSED:
		set_kind(look, "paused");
		ago(look->event_count
				? look->events[look->event_count - 1].time_us
				: 0,
			when);
		say(look,
			th_format("%s was paused %s by %s", row->name, when,
				look->event_count
					? look->events[look->event_count - 1]
						  .actor
					: "?"));
		advise(look,
			th_format(
				"to continue: tidyhull resume %s", row->name));
		break;
	case TH_STATE_RUNNING:
		find_lines(look);
		explain_running(look);
		break;
	case TH_STATE_WAITING:
		explain_stopped(look);
		left = row->next_us - th_clock_now_us();
		th_clock_span(left > 0 ? left : 0, span);
		say(look,
			th_format("it will be restarted in %s (attempt %d), as "
				  "its restart policy is %s",
				span, row->tries, row->restart));
		advise(look,
			th_format("to start it now: tidyhull start %s; to keep "
				  "it down: tidyhull stop %s",
				row->name, row->name));
		break;
	case TH_STATE_STOPPED:
		explain_stopped(look);
		explain_next(look);
		break;
	}
}

int th_why(const struct th_context *context, const struct th_container_row *row,
	struct th_why *why, struct th_error *err)
{
	struct look look = {.context = context, .row = row, .why = why};

	memset(why, 0, sizeof(*why));
	if (th_state_events(context->store->db, row->id, 0, &look.events,
		    &look.event_count, err))
		return -1;
	find_events(&look);
	explain(&look);
	free(look.events);
	return 0;
}

void th_why_release(struct th_why *why)
{
	th_strings_release(&why->sentences);
	th_strings_release(&why->advice);
	for (size_t i = 0; i < why->line_count; i++)
		free(why->lines[i].text);
	why->line_count = 0;
}
