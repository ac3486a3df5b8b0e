/* wait: until a container or session has ended, or is ready. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "cli/elsewhere.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

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

static int say_end(struct invocation *call, const char *name, bool ready,
	const json_t *end)
{
	const json_t *code = json_object_get(end, "exit-code");
	int number = json_is_integer(code) ? (int)json_integer_value(code)
					   : EXIT_TOOL;

	if (ready && !code) {
		if (!call->quiet)
			printf("%s is ready\n", name);
		return EXIT_DONE;
	}
	if (!call->quiet)
		printf("%s ended with %d\n", name, number);
	return number;
}

static int wait_one(
	struct invocation *call, const char *name, bool ready, int timeout_ms)
{
	json_t *object = NULL, *end = NULL;
	struct th_error err = {0};
	int code = EXIT_TOOL, rc;

	rc = th_object(call->hull, name, TH_KIND_CONTAINER | TH_KIND_SESSION,
		TH_BRIEF, &object, &err);
	if (rc == 0)
		rc = th_container_await(call->hull, doc_text(object, "id"),
			ready, timeout_ms, &end, &err);
	if (rc == 1)
		th_fail(&err, TH_FAILED, "it took too long");
	if (rc == 0)
		code = say_end(call,
			doc_text(object,
				strcmp(doc_text(object, "kind"), "session") == 0
					? "id"
					: "name"),
			ready, end);
	else
		say_error(&err);
	json_decref(object);
	json_decref(end);
	return code;
}

static int wait_all(struct invocation *call, bool ready, int timeout_ms)
{
	json_t *list;
	int code = find_containers(call, is_up, &list);

	for (size_t i = 0; i < json_array_size(list); i++) {
		int one =
			wait_one(call, doc_text(json_array_get(list, i), "id"),
				ready, timeout_ms);

		code = code ? code : one;
	}
	json_decref(list);
	return code;
}

static int run(struct invocation *call)
{
	const char *what = option_value(call, "until");
	bool ready = what && strcmp(what, "ready") == 0;
	struct th_error err = {0};
	int timeout_ms, code = EXIT_DONE;

	if (what && !ready && strcmp(what, "end") != 0) {
		th_fail(&err, TH_USAGE, "\"%.50s\" is not a value of --until",
			what);
		if (have_word(
			    "ended exit exited stop stopped done finished gone",
			    what, strlen(what)))
			th_hint(&err, "it is: --until end");
		if (have_word("running started up healthy well start", what,
			    strlen(what)))
			th_hint(&err, "it is: --until ready");
		th_hint(&err,
			"use end (the container has ended) or ready (it runs, "
			"and its probe has succeeded)");
	}
	if (err.code || read_at_most(call, &timeout_ms, &err)) {
		say_error(&err);
		return EXIT_TOOL;
	}
	if (option_given(call, "all") || !call->object_count)
		return wait_all(call, ready, timeout_ms);
	/* Nothing is waited for where a name is wrong. */
	for (int i = 0; i < call->object_count; i++) {
		if (th_object(call->hull, call->objects[i],
			    TH_KIND_CONTAINER | TH_KIND_SESSION, TH_BRIEF, NULL,
			    &err)) {
			say_error(&err);
			return EXIT_TOOL;
		}
	}
	for (int i = 0; i < call->object_count; i++) {
		int one;

		fflush(stdout);
		one = wait_one(call, call->objects[i], ready, timeout_ms);
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
	.called = "await",
	.takes = "container session",
	.summary = "wait until a container ends or becomes ready",
	.usage = "CONTAINER|SESSION...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_PASSES_CODE,
	.least = 0,
	.most = -1,
	.run = run};
