#include "cli/watch.h"

#include <stdio.h>
#include <time.h>
#include <unistd.h>

#include "cli/output.h"

static int once(struct invocation *call)
{
	struct th_error err = {0};
	int code = call->verb->run(call);

	return table_chosen(&err) ? say_error(&err) : code;
}

/* On the same screen, until somebody has seen enough. */
static int watch(struct invocation *call)
{
	const struct timespec span = {.tv_sec = 1};
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (!isatty(1) || call->json) {
		th_fail(&err, TH_USAGE, "--watch is for a terminal");
		th_hint(&err,
			"programs follow: tidyhull timeline --follow "
			"--json-lines");
		return say_error(&err);
	}
	while (code == EXIT_DONE && !interrupted()) {
		fputs("\033[H\033[J", stdout);
		code = once(call);
		fflush(stdout);
		if (code == EXIT_DONE)
			nanosleep(&span, NULL);
	}
	return code;
}

int run_table(struct invocation *call)
{
	const char *columns = option_value(call, "columns");
	const char *sort = option_value(call, "sort");
	struct th_error err = {0};

	if ((columns || sort) && (call->json || call->quiet)) {
		th_fail(&err, TH_USAGE, "--%s is for tables, not for --%s",
			columns ? "columns" : "sort",
			call->json ? "json" : "quiet");
		return say_error(&err);
	}
	table_choose(columns, sort);
	return option_given(call, "watch") ? watch(call) : once(call);
}
