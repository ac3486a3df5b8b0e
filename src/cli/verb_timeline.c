/* timeline: every change of state, and what caused it. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "base/clock.h"
#include "base/json.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "group/group.h"
#include "view/look.h"

#define FOLLOW_NS 150000000

struct printing {
	struct invocation *call;
	const char *id; /* of one container, or NULL for all */
	int64_t since_us;
	int64_t behind; /* the number of the last that was printed */
	char day[16]; /* of the last that was printed */
	size_t count;
	struct th_container_row *rows; /* of a group */
	size_t row_count;
};

static const char *colour_of(const struct th_event_row *row)
{
	const char *state = row->to;
	bool well = row->code == 0 && strcmp(row->outcome, "exited") == 0;

	if (strcmp(state, "running") == 0)
		return "\033[32m";
	/* An orderly end is nothing to look at. */
	if (strcmp(state, "stopped") == 0 && !well)
		return "\033[31m";
	if (strcmp(state, "waiting") == 0 || strcmp(state, "paused") == 0)
		return "\033[33m";
	if (strcmp(state, "created") == 0)
		return "\033[36m";
	return "";
}

static void print_one(struct printing *printing, const struct th_event_row *row)
{
	char time[TH_TIME_TEXT], what[64];
	bool colour = colours();
	bool changed = strcmp(row->from, row->to) != 0;
	char text[TH_CAUSE_TEXT];
	const char *cause;
	int cut;

	th_cause_format(&row->cause, text);
	cause = shown(text);
	cut = (int)strcspn(cause, ";");
	th_clock_format(row->time_us, time);
	/* The day is told when it is another one. */
	if (strncmp(printing->day, time, 10) != 0) {
		snprintf(printing->day, sizeof(printing->day), "%.10s", time);
		printf("%s%s%s\n", colour ? "\033[1m" : "", printing->day,
			colour ? "\033[0m" : "");
	}
	snprintf(what, sizeof(what), "%s", changed ? row->to : ".");
	printf("  %.15s  ", time + 11);
	if (!printing->id)
		printf("%-16s  ", row->name);
	/* How it ended stands before what comes next. */
	printf("%s%-8s%s  %.*s", colour && changed ? colour_of(row) : "", what,
		colour && changed ? "\033[0m" : "", cut, cause);
	if (strcmp(row->outcome, "exited") == 0)
		printf(" (exit code %d)", row->code);
	else if (strcmp(row->outcome, "signal") == 0)
		printf(" (signal %d)", row->code);
	fputs(cause + cut, stdout);
	printf("%s  %s%s\n", colour ? "\033[90m" : "", shown(row->actor),
		colour ? "\033[0m" : "");
}

static void print_line(const struct th_event_row *row)
{
	json_t *doc = th_view_event(row);
	char *line = json_shown(doc, JSON_COMPACT);

	if (line)
		puts(line);
	free(line);
	json_decref(doc);
}

/* Of a group, those that are in it now. */
static bool is_wanted(const struct printing *printing, const char *id)
{
	if (!printing->row_count)
		return true;
	for (size_t i = 0; i < printing->row_count; i++) {
		if (strcmp(printing->rows[i].id, id) == 0)
			return true;
	}
	return false;
}

static int print_new(struct printing *printing, struct th_error *err)
{
	struct th_event_row *rows = NULL;
	size_t count = 0;

	if (th_state_events(printing->call->hull.context.store->db,
		    printing->id, printing->behind, &rows, &count, err))
		return -1;
	for (size_t i = 0; i < count; i++) {
		printing->behind = rows[i].number;
		if (rows[i].time_us < printing->since_us ||
			!is_wanted(printing, rows[i].container))
			continue;
		if (printing->call->json)
			print_line(&rows[i]);
		else
			print_one(printing, &rows[i]);
		printing->count++;
	}
	free(rows);
	return 0;
}

/* A container that is there, or one that was; or a group. */
static int find(struct invocation *call, struct printing *printing,
	char id[TH_ID_LENGTH + 1], struct th_error *err)
{
	const char *name = call->objects[0];
	struct th_object object = {0};
	int rc;

	if (th_object_find(&call->hull.context, name,
		    TH_KIND_CONTAINER | TH_KIND_GROUP, &object, err) == 0) {
		if (object.kind == TH_KIND_GROUP)
			return th_group_rows(&call->hull.context,
				object.group.name, &printing->rows,
				&printing->row_count, err);
		printing->id = id;
		snprintf(id, TH_ID_LENGTH + 1, "%s", object.container.id);
		th_object_release(&object);
		return 0;
	}
	if (err->code == TH_NOT_FOUND) {
		struct th_error ignored = {0}; /* then the first error */

		rc = th_state_last_named(
			call->hull.context.store->db, name, id, &ignored);
		if (rc == 1) {
			th_error_clear(err);
			printing->id = id;
			return 0;
		}
	}
	return -1;
}

static int follow(struct printing *printing, struct th_error *err)
{
	const struct timespec pause = {.tv_nsec = FOLLOW_NS};

	while (!atomic_load(printing->call->hull.context.cancel) &&
		!ferror(stdout)) {
		if (print_new(printing, err))
			return -1;
		fflush(stdout);
		nanosleep(&pause, NULL);
	}
	return 0;
}

static int run(struct invocation *call)
{
	struct printing printing = {.call = call};
	const char *since = option_value(call, "since");
	char id[TH_ID_LENGTH + 1];
	struct th_error err = {0};
	int64_t span;

	if (since && th_clock_parse_span(since, &span) == 0) {
		printing.since_us = th_clock_now_us() - span;
	} else if (since && th_clock_parse(since, &printing.since_us)) {
		th_fail(&err, TH_USAGE, "\"%.60s\" is not a time", since);
		th_hint(&err,
			"for example 10m for ten minutes ago, or "
			"2026-03-01T05:12:00Z");
		return say_error(&err);
	}
	/* What has become of those without a keeper belongs to it. */
	if (th_container_settle(&call->hull.context, &err))
		return say_error(&err);
	if (call->object_count) {
		if (find(call, &printing, id, &err))
			return say_error(&err);
	}
	if (print_new(&printing, &err) ||
		(option_given(call, "follow") && follow(&printing, &err)))
		return say_error(&err);
	free(printing.rows);
	if (!printing.count && !call->json && !call->quiet)
		puts("there are no events yet");
	return EXIT_DONE;
}

static const struct option_spec options[] = {
	{"follow", NULL, "continue with new events"},
	{"since", "TIME",
		"only from this time on: 10m, or 2026-03-01T05:12:00Z"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"Times are UTC. Each line shows the new "
				   "state (a dot if unchanged), the",
	"cause, and who did it. Removed containers are included.",
	"With --json, each event is one line.", NULL};

static const char *const examples[] = {"tidyhull timeline gauge-north",
	"tidyhull timeline --since 1h", "tidyhull timeline --follow", NULL};

const struct verb verb_timeline = {.name = "timeline",
	.group = "look",
	.summary = "show every change of state: when, what and why",
	.usage = "[CONTAINER|GROUP]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON,
	.least = 0,
	.most = 1,
	.run = run};
