/* stop: the stop signal, a grace period, then the hard kill. */
#include <stdio.h>
#include <sys/resource.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/verbs.h"

struct stopping {
	struct invocation *call;
	int64_t begin_us;
	int code;
};

static void clear_line(const struct invocation *call)
{
	if (on_terminal() && !call->quiet)
		fputs("\r\033[K", stderr);
}

static void tell_waiting(void *owner, const json_t *container, size_t others)
{
	const struct stopping *stopping = owner;
	char span[TH_TIME_TEXT];

	if (!on_terminal() || stopping->call->quiet)
		return;
	th_clock_span(th_clock_now_us() - stopping->begin_us, span);
	fprintf(stderr, "\r\033[Kstopping %s", doc_text(container, "name"));
	if (others)
		fprintf(stderr, " and %zu more", others);
	fprintf(stderr, ": waiting for %s ...", span);
	fflush(stderr);
}

static void say_stopped(const struct stopping *stopping,
	const json_t *container, const json_t *ending)
{
	const char *name = doc_text(container, "name");
	int sessions = (int)doc_number(ending, "sessions");
	char took[TH_TIME_TEXT];

	th_clock_span(th_clock_now_us() - stopping->begin_us, took);
	if (is_state(container, "waiting"))
		printf("stopped %s; it will not be restarted", name);
	else if (doc_flag(ending, "by-force"))
		printf("stopped %s: killed after %s, as it ignored its stop "
		       "signal",
			name, took);
	else
		printf("stopped %s: it ended on its stop signal after %s", name,
			took);
	if (sessions)
		printf("; %d session%s ended with it", sessions,
			sessions == 1 ? "" : "s");
	putchar('\n');
}

static void tell_ended(void *owner, const json_t *container,
	const json_t *ending, const th_error *error)
{
	struct stopping *stopping = owner;
	const struct invocation *call = stopping->call;

	clear_line(call);
	if (error) {
		int code = say_error(error);

		stopping->code = stopping->code ? stopping->code : code;
	} else if (!ending && !call->quiet) {
		printf("%s is not running\n", doc_text(container, "name"));
	} else if (!call->quiet) {
		say_stopped(stopping, container, ending);
	}
	fflush(stdout);
}

int stop_all(struct invocation *call, const json_t *ids, int grace_ms,
	bool stays_due)
{
	struct stopping stopping = {
		.call = call, .begin_us = th_clock_now_us()};
	const struct th_end_watch watch = {
		.waits = tell_waiting, .ended = tell_ended, .owner = &stopping};
	struct th_error err = {0};

	if (th_containers_end(
		    call->hull, ids, grace_ms, stays_due, &watch, &err) &&
		!stopping.code)
		return say_error(&err);
	return stopping.code;
}

static int run(struct invocation *call)
{
	struct th_error err = {0};
	struct rlimit files;
	json_t *list, *ids;
	int grace_ms, code, rc;

	if (read_grace(call, &grace_ms, &err))
		return say_error(&err);
	/* A connection for each. */
	if (getrlimit(RLIMIT_NOFILE, &files) == 0) {
		files.rlim_cur = files.rlim_max;
		setrlimit(RLIMIT_NOFILE, &files);
	}
	code = find_containers(call, is_up, &list);
	ids = ids_of(list);
	rc = stop_all(call, ids, grace_ms, option_given(call, "stay-due"));
	json_decref(ids);
	json_decref(list);
	return code ? code : rc;
}

static const struct option_spec options[] = {
	{"all", NULL, "all that are running or waiting to be restarted"},
	{"grace", "TIME", "how long to wait before the hard kill"},
	{"stay-due", NULL, "start --all-due starts them again"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Says which of the two it took. A stop holds: whatever the restart",
	"policy, the container stays down until you start it. With --stay-due "
	"it",
	"does not, as when a host goes down.", NULL};

static const char *const examples[] = {"tidyhull stop gauge-north",
	"tidyhull stop --all --grace 2s", "tidyhull stop group:harbour", NULL};

const struct verb verb_stop = {.name = "stop",
	.group = "containers",
	.called = "down halt close end shutdown quit terminate off",
	.takes = "up group",
	.summary = "stop containers: stop signal, grace period, then hard kill",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 0,
	.most = -1,
	.run = run};
