/* stop: the stop signal, a grace period, then the hard kill. */
#include <stdio.h>

#include "base/clock.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool runs(const struct th_container_row *row)
{
	return row->state == TH_STATE_RUNNING || row->state == TH_STATE_PAUSED;
}

static int stop(struct invocation *call, struct th_container_row *row)
{
	const char *grace = option_value(call, "grace");
	struct th_ending ending;
	struct th_error err = {0};
	char took[TH_TIME_TEXT];
	int64_t grace_us = -1000, begin = th_clock_now_us();

	if (grace &&
		(th_clock_parse_span(grace, &grace_us) ||
			grace_us > (int64_t)86400 * 1000000)) {
		th_fail(&err, TH_USAGE, "\"%.50s\" is not a span of time",
			grace);
		th_hint(&err, "write for example 30s or 2m");
		return say_error(&err);
	}
	if (!runs(row)) {
		if (!call->quiet)
			printf("%s does not run\n", row->name);
		return EXIT_DONE;
	}
	if (on_terminal() && !call->quiet) {
		fprintf(stderr, "stopping %s ...", row->name);
		fflush(stderr);
	}
	if (th_container_stop(&call->context, row, 0, (int)(grace_us / 1000),
		    &ending, &err)) {
		if (on_terminal() && !call->quiet)
			fputs("\r\033[K", stderr);
		return say_error(&err);
	}
	if (on_terminal() && !call->quiet)
		fputs("\r\033[K", stderr);
	th_clock_span(th_clock_now_us() - begin, took);
	if (!call->quiet)
		printf(ending.by_force
				? "stopped %s: it did not heed its stop "
				  "signal, killed after %s\n"
				: "stopped %s: it ended at its stop signal, "
				  "after %s\n",
			row->name, took);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	return each_container(call, runs, stop);
}

static const struct option_spec options[] = {{"all", NULL, "all that run"},
	{"grace", "TIME", "how long it may take before the hard kill"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"The program gets the container's stop "
				   "signal (TERM, or what the image or",
	"--stop says). One that cannot hear the signal is ended at once.",
	NULL};

static const char *const examples[] = {
	"tidyhull stop gauge-north", "tidyhull stop --all --grace 30s", NULL};

const struct verb verb_stop = {.name = "stop",
	.group = "containers",
	.summary = "end a container properly, and say how it went",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 0,
	.most = -1,
	.run = run};
