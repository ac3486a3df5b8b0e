/* timeline: every change of state, and what caused it. */
#include <stdio.h>
#include <string.h>
#include <time.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/stream.h"
#include "cli/timeline_drawn.h"
#include "cli/verbs.h"

#define FOLLOW_NS 150000000

struct printing {
	struct invocation *call;
	struct stream stream; /* with --json */
	struct drawn *drawn; /* with --drawn */
	const char *name; /* of one container, or NULL for all */
	json_t *members; /* of a group; or NULL */
	int64_t since_us;
	int64_t behind; /* the number of the last that was printed */
	char day[16]; /* of the last that was printed */
	size_t count;
};

static const char *colour_of(const json_t *event)
{
	const char *state = doc_text(event, "to");
	bool well = doc_number(event, "code") == 0 &&
		strcmp(doc_text(event, "outcome"), "exited") == 0;

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

static void print_one(struct printing *printing, const json_t *event)
{
	const char *time = doc_text(event, "time");
	const char *to = doc_text(event, "to");
	const char *cause = shown(doc_text(event, "cause"));
	const char *outcome = doc_text(event, "outcome");
	bool changed = strcmp(doc_text(event, "from"), to) != 0;
	bool colour = colours();
	int cut = (int)strcspn(cause, ";");

	/* The day is told when it is another one. */
	if (strncmp(printing->day, time, 10) != 0) {
		snprintf(printing->day, sizeof(printing->day), "%.10s", time);
		printf("%s%s%s\n", colour ? "\033[1m" : "", printing->day,
			colour ? "\033[0m" : "");
	}
	printf("  %.15s  ", strlen(time) > 11 ? time + 11 : "");
	if (!printing->name)
		printf("%-16s  ", doc_text(event, "name"));
	/* How it ended stands before what comes next. */
	printf("%s%-8s%s  %.*s", colour && changed ? colour_of(event) : "",
		changed ? to : ".", colour && changed ? "\033[0m" : "", cut,
		cause);
	if (strcmp(outcome, "exited") == 0)
		printf(" (exit code %d)", (int)doc_number(event, "code"));
	else if (strcmp(outcome, "signal") == 0)
		printf(" (signal %d)", (int)doc_number(event, "code"));
	fputs(cause + cut, stdout);
	printf("%s  %s%s\n", colour ? "\033[90m" : "",
		shown(doc_text(event, "actor")), colour ? "\033[0m" : "");
}

/* Of a group, those that are in it now. */
static bool is_wanted(const struct printing *printing, const json_t *event)
{
	const char *id = doc_text(event, "container");

	/* A picture begins with what was before. */
	if (!printing->drawn && doc_time(event, "time") < printing->since_us)
		return false;
	for (size_t i = 0; i < json_array_size(printing->members); i++) {
		if (strcmp(doc_item(printing->members, i), id) == 0)
			return true;
	}
	return !printing->members;
}

static int print_new(struct printing *printing, struct th_error *err)
{
	json_t *doc = NULL, *event;
	size_t i;

	if (th_container_events(printing->call->hull, printing->name,
		    printing->behind, &doc, err))
		return -1;
	printing->behind = doc_number(doc, "last");
	json_array_foreach(doc_part(doc, "events"), i, event)
	{
		if (!is_wanted(printing, event))
			continue;
		if (printing->drawn)
			drawn_take(printing->drawn, event);
		else if (printing->call->json)
			stream_put(&printing->stream, json_incref(event));
		else
			print_one(printing, event);
		printing->count++;
	}
	json_decref(doc);
	return 0;
}

/* A container that is there, or one that was; or a group. */
static int find(
	struct printing *printing, const char *name, struct th_error *err)
{
	json_t *group = NULL;
	struct th_error other = {0}; /* then it is a container */

	if (th_object(printing->call->hull, name,
		    TH_KIND_CONTAINER | TH_KIND_GROUP, TH_BRIEF, &group,
		    &other) == 0 &&
		strcmp(doc_text(group, "kind"), "group") == 0)
		printing->members = ids_of(doc_part(group, "containers"));
	else
		printing->name = name;
	json_decref(group);
	/* Of several that fit, none is it. */
	if (other.code && other.code != TH_NOT_FOUND) {
		*err = other;
		return -1;
	}
	return 0;
}

static int follow(struct printing *printing, struct th_error *err)
{
	const struct timespec pause = {.tv_nsec = FOLLOW_NS};

	while (!interrupted() && !ferror(stdout)) {
		if (print_new(printing, err))
			return -1;
		fflush(stdout);
		nanosleep(&pause, NULL);
	}
	return 0;
}

static int may_draw(const struct invocation *call, struct th_error *err)
{
	if (!option_given(call, "drawn"))
		return 0;
	if (option_given(call, "follow")) {
		th_fail(err, TH_USAGE, "a picture does not follow");
		return th_hint(err, "use --drawn --watch");
	}
	return call->json ? th_fail(err, TH_USAGE,
				    "--drawn is for people, not for --json")
			  : 0;
}

static int run(struct invocation *call)
{
	struct drawn drawn = {0};
	struct printing printing = {.call = call,
		.drawn = option_given(call, "drawn") ? &drawn : NULL};
	struct th_error err = {0};
	int code = EXIT_DONE;

	stream_open(&printing.stream, call, "events");
	/* What has become of those without a keeper belongs to it. */
	if (stream_may_follow(call, &err) || may_draw(call, &err) ||
		read_time(option_value(call, "since"), &printing.since_us,
			&err) ||
		th_store_settle(call->hull, &err) ||
		(call->object_count &&
			find(&printing, call->objects[0], &err)) ||
		print_new(&printing, &err) ||
		(option_given(call, "follow") && follow(&printing, &err)))
		code = say_error(&err);
	else if (printing.drawn && printing.count)
		drawn_print(&drawn, printing.since_us);
	else if (!printing.count && !call->json && !call->quiet)
		puts(option_given(call, "since")
				? "nothing has happened since then"
				: "there are no events yet; they come with "
				  "the first container: tidyhull launch IMAGE");
	if (call->json && (!err.code || printing.count))
		stream_close(&printing.stream);
	drawn_release(&drawn);
	json_decref(printing.members);
	return code;
}

static const struct option_spec options[] = {
	{"follow", NULL, "continue with new events"},
	{"drawn", NULL, "as a picture: a bar for each container"},
	{"since", "TIME",
		"only from this time on: 10m, or 2026-03-01T05:12:00Z"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"Times are UTC. Each line shows the new "
				   "state (a dot if unchanged), the",
	"cause, and who did it. Removed containers are included.", NULL};

static const char *const examples[] = {"tidyhull timeline gauge-north",
	"tidyhull timeline --since 1h --drawn", "tidyhull timeline --follow",
	NULL};

const struct verb verb_timeline = {.name = "timeline",
	.group = "look",
	.called = "events history journal audit",
	.takes = "container group",
	.summary = "show every change of state: when, what and why",
	.usage = "[CONTAINER|GROUP]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_LINES | VERB_WATCH,
	.least = 0,
	.most = 1,
	.run = run};
