/* wait: until a container or session has ended, or is ready. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "cli/attach.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "store/machine.h"

static int read_at_most(
	struct invocation *call, int *timeout_ms, struct th_error *err)
{
	const char *text = option_value(call, "at-most");
	int64_t span_us;

	*timeout_ms = -1;
	if (!text)
		return 0;
	if (th_clock_parse_span(text, &span_us) ||
		span_us > (int64_t)7 * 86400 * 1000000) {
		th_fail(err, TH_USAGE, "\"%.50s\" is not a duration", text);
		return th_hint(err, "for example 30s or 2m");
	}
	*timeout_ms = (int)(span_us / 1000);
	return 0;
}

/* How it ended last, as the state has it. */
static int ended_code(const struct th_container_row *row)
{
	struct th_ending ending = {
		.outcome = (int32_t)row->outcome, .code = row->code};

	switch (row->outcome) {
	case TH_OUTCOME_EXITED:
	case TH_OUTCOME_SIGNAL:
		return attach_exit_code(&ending);
	case TH_OUTCOME_OUT_OF_MEMORY:
		return 137;
	default:
		return EXIT_TOOL;
	}
}

static int say_ended(struct invocation *call, const char *name, int code)
{
	if (!call->quiet)
		printf("%s ended with %d\n", name, code);
	return code;
}

static int wait_end(struct invocation *call, struct th_container_row *row,
	int timeout_ms, struct th_error *err)
{
	struct th_ending ending;
	struct th_container_row now = *row;
	int rc;

	if (row->state == TH_STATE_CREATED) {
		th_fail(err, TH_FAILED,
			"container \"%s\" has never been started", row->name);
		th_hint(err, "tidyhull start %s", row->name);
		return EXIT_TOOL;
	}
	rc = th_container_wait(&call->hull.context, row->id, "end", NULL,
		timeout_ms, &ending, err);
	if (rc < 0)
		return EXIT_TOOL;
	if (rc == 1 && ending.outcome == TH_OUTCOME_OUT_OF_MEMORY)
		return say_ended(call, row->name, 137);
	if (rc == 1 && ending.outcome != TH_OUTCOME_NONE)
		return say_ended(call, row->name, attach_exit_code(&ending));
	if (th_container_settle_row(&call->hull.context, &now, err) ||
		th_state_get(call->hull.context.store->db, row->id, &now, err) <
			0)
		return EXIT_TOOL;
	if (!now.id[0] || now.outcome == TH_OUTCOME_NONE) {
		th_fail(err, TH_FAILED,
			"container \"%s\" is gone; how it ended is unknown",
			row->name);
		return EXIT_TOOL;
	}
	return say_ended(call, row->name, ended_code(&now));
}

static int wait_ready(struct invocation *call, struct th_container_row *row,
	int timeout_ms, struct th_error *err)
{
	struct th_ending ending;
	int rc;

	if (!row->probe[0]) {
		th_fail(err, TH_USAGE,
			"container \"%s\" has no probe, so it cannot become "
			"ready",
			row->name);
		th_hint(err, "for example: tidyhull adjust %s --probe tcp:80",
			row->name);
		return EXIT_TOOL;
	}
	rc = th_container_wait(&call->hull.context, row->id, "ready", NULL,
		timeout_ms, &ending, err);
	if (rc == 2) {
		if (!call->quiet)
			printf("%s is ready\n", row->name);
		return EXIT_DONE;
	}
	if (rc >= 0) {
		th_fail(err, TH_FAILED, "container \"%s\" is not running",
			row->name);
		th_hint(err, "tidyhull why %s", row->name);
	}
	return EXIT_TOOL;
}

static int wait_session(struct invocation *call,
	const struct th_session_row *session, int timeout_ms,
	struct th_error *err)
{
	struct th_session_row *now = NULL;
	struct th_ending ending;
	size_t count = 0;
	int rc = 0, code;

	if (session->ended_us)
		return say_ended(call, session->id, session->code);
	rc = th_container_wait(&call->hull.context, session->container, "end",
		session->id, timeout_ms, &ending, err);
	if (rc < 0)
		return EXIT_TOOL;
	if (rc == 1)
		return say_ended(call, session->id, attach_exit_code(&ending));
	if (th_state_sessions(call->hull.context.store->db, NULL, session->id,
		    &now, &count, err))
		return EXIT_TOOL;
	code = count && now[0].ended_us ? now[0].code : 137;
	free(now);
	return say_ended(call, session->id, code);
}

static int wait_one(
	struct invocation *call, const char *name, bool ready, int timeout_ms)
{
	struct th_object object;
	struct th_error err = {0};
	int code = EXIT_TOOL;

	if (th_object_find(&call->hull.context, name,
		    TH_KIND_CONTAINER | TH_KIND_SESSION, &object, &err)) {
		say_error(&err);
		return EXIT_TOOL;
	}
	if (object.kind == TH_KIND_SESSION)
		code = wait_session(call, &object.session, timeout_ms, &err);
	else if (ready)
		code = wait_ready(call, &object.container, timeout_ms, &err);
	else
		code = wait_end(call, &object.container, timeout_ms, &err);
	if (err.code)
		say_error(&err);
	th_object_release(&object);
	return code;
}

static int wait_all(struct invocation *call, bool ready, int timeout_ms)
{
	struct th_container_row *rows = NULL;
	size_t count = 0;
	int code = find_containers(call, th_container_is_up, &rows, &count);

	for (size_t i = 0; i < count; i++) {
		int one = wait_one(call, rows[i].id, ready, timeout_ms);

		code = code ? code : one;
	}
	free(rows);
	return code;
}

static int run(struct invocation *call)
{
	const char *what = option_value(call, "until");
	struct th_error err = {0};
	int timeout_ms, code = EXIT_DONE;

	if (what && strcmp(what, "end") != 0 && strcmp(what, "ready") != 0) {
		th_fail(&err, TH_USAGE, "\"%.50s\" is not a value of --until",
			what);
		th_hint(&err, "use end or ready");
	}
	if (err.code || read_at_most(call, &timeout_ms, &err)) {
		say_error(&err);
		return EXIT_TOOL;
	}
	if (option_given(call, "all") || !call->object_count)
		return wait_all(
			call, what && strcmp(what, "ready") == 0, timeout_ms);
	for (int i = 0; i < call->object_count; i++) {
		int one;

		fflush(stdout);
		one = wait_one(call, call->objects[i],
			what && strcmp(what, "ready") == 0, timeout_ms);
		code = code ? code : one;
	}
	return code;
}

static const struct option_spec options[] = {
	{"all", NULL, "all that are running or waiting to be restarted"},
	{"until", "WHAT",
		"end (the default), or ready: when its probe succeeds"},
	{"at-most", "TIME", "give up after this time"}, {NULL, NULL, NULL}};

static const char *const text[] = {"The exit code is that of the program, or "
				   "of the session's command; with",
	"several, that of the first one that failed. A container that is being",
	"restarted has not ended.", NULL};

static const char *const examples[] = {"tidyhull wait almanac",
	"tidyhull wait --until ready --at-most 1m ledger", NULL};

const struct verb verb_wait = {.name = "wait",
	.group = "containers",
	.summary = "wait until a container ends or becomes ready",
	.usage = "CONTAINER|SESSION...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_PASSES_CODE,
	.least = 0,
	.most = -1,
	.run = run};
