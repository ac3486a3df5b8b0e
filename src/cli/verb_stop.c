/* stop: the stop signal, a grace period, then the hard kill. */
#include <stdio.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "store/machine.h"

/* How often the person who waits is told. */
#define TELL_MS 200
/* After so many of these it is asked whether the keeper still answers. */
#define LOOKS 15

/* One that is being stopped. */
struct stopping {
	const struct th_container_row *row;
	int channel; /* -1: there is nothing to wait for */
	int code;
};

static void begin(struct invocation *call, struct stopping *one, int grace_ms)
{
	struct th_error err = {0};

	one->channel = -1;
	if (!th_container_is_up(one->row)) {
		if (!call->quiet)
			printf("%s is not running\n", one->row->name);
		return;
	}
	if (th_container_stop_begin(&call->hull.context, one->row, 0, grace_ms,
		    &one->channel, &err))
		one->code = say_error(&err);
}

static void clear_line(const struct invocation *call)
{
	if (on_terminal() && !call->quiet)
		fputs("\r\033[K", stderr);
}

static void tell_waiting(struct invocation *call, const char *name, size_t left,
	int64_t begin_us)
{
	char span[TH_TIME_TEXT];

	if (!on_terminal() || call->quiet)
		return;
	th_clock_span(th_clock_now_us() - begin_us, span);
	fprintf(stderr, "\r\033[Kstopping %s", name);
	if (left > 1)
		fprintf(stderr, " and %zu more", left - 1);
	fprintf(stderr, ": waiting for %s ...", span);
	fflush(stderr);
}

static void say_stopped(const struct th_container_row *row,
	const struct th_ending *ending, int64_t begin_us)
{
	char took[TH_TIME_TEXT];

	th_clock_span(th_clock_now_us() - begin_us, took);
	if (row->state == TH_STATE_WAITING)
		printf("stopped %s; it will not be restarted", row->name);
	else if (ending->by_force)
		printf("stopped %s: killed after %s, as it ignored its stop "
		       "signal",
			row->name, took);
	else
		printf("stopped %s: it ended on its stop signal after %s",
			row->name, took);
	if (ending->sessions)
		printf("; %d session%s ended with it", ending->sessions,
			ending->sessions == 1 ? "" : "s");
	putchar('\n');
}

static void finish(struct invocation *call, struct stopping *one, size_t left,
	int64_t begin_us)
{
	struct th_ending ending;
	struct th_error err = {0};
	int rc;

	for (int looks = 1; (rc = th_container_stop_await(&one->channel,
				     TELL_MS, &ending, &err)) == 0;
		looks++) {
		tell_waiting(call, one->row->name, left, begin_us);
		if (looks % LOOKS == 0 &&
			th_container_end_stuck(
				&call->hull.context, one->row, &err)) {
			th_close(&one->channel);
			rc = -1;
			break;
		}
	}
	clear_line(call);
	if (rc < 0)
		one->code = say_error(&err);
	else if (!call->quiet)
		say_stopped(one->row, &ending, begin_us);
	fflush(stdout);
}

/* All are told first, and then waited for; of groups those first that others do
 * not wait for. */
int stop_rows(
	struct invocation *call, const struct th_group *group, int grace_ms)
{
	struct stopping *list = calloc(group->count + 1, sizeof(*list));
	int64_t begin_us = th_clock_now_us();
	int code = list ? EXIT_DONE : EXIT_FAILED;
	size_t end = group->count, from;

	for (; list && end > 0; end = from) {
		for (from = end; from > 0 &&
			group->items[from - 1].rank ==
				group->items[end - 1].rank;
			from--) {
			list[from - 1].row = &group->items[from - 1].before;
			begin(call, &list[from - 1], grace_ms);
		}
		for (size_t i = from; i < end; i++) {
			if (list[i].channel >= 0)
				finish(call, &list[i], end - i, begin_us);
			code = code ? code : list[i].code;
		}
	}
	free(list);
	return code;
}

static int run(struct invocation *call)
{
	struct th_container_row *rows = NULL;
	struct th_group group;
	struct th_error err = {0};
	struct rlimit files;
	size_t count = 0;
	int grace_ms, code, rc;

	if (read_grace(call, &grace_ms, &err))
		return say_error(&err);
	call->hull.context.stays_due = option_given(call, "stay-due");
	/* A connection for each. */
	if (getrlimit(RLIMIT_NOFILE, &files) == 0) {
		files.rlim_cur = files.rlim_max;
		setrlimit(RLIMIT_NOFILE, &files);
	}
	code = find_containers(call, th_container_is_up, &rows, &count);
	if (th_group_of(&call->hull.context, rows, count, &group, &err)) {
		rc = say_error(&err);
	} else {
		rc = stop_rows(call, &group, grace_ms);
		th_group_release(&group);
	}
	free(rows);
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
	.summary = "stop containers: stop signal, grace period, then hard kill",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 0,
	.most = -1,
	.run = run};
