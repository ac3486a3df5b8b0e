/* kill: a signal, now. */
#include <signal.h>
#include <stdio.h>

#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool runs(const struct th_container_row *row)
{
	return row->state == TH_STATE_RUNNING || row->state == TH_STATE_PAUSED;
}

static int send(struct invocation *call, struct th_container_row *row)
{
	const char *text = option_value(call, "signal");
	int number = text ? th_signal_parse(text) : SIGKILL;
	struct th_error err = {0};
	const char *name;

	if (number < 0) {
		th_fail(&err, TH_USAGE, "\"%.50s\" is not a signal", text);
		th_hint(&err, "write a name or number: KILL, HUP, USR1, 10");
		return say_error(&err);
	}
	if (th_container_signal(&call->context, row, number, &err))
		return say_error(&err);
	name = th_signal_name(number);
	if (!call->quiet)
		printf("sent %s%s to %s\n", name ? name : "signal ",
			name ? "" : text, row->name);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	return each_container(call, runs, send);
}

static const struct option_spec options[] = {{"all", NULL, "all that run"},
	{"signal", "SIGNAL", "another one than KILL"}, {NULL, NULL, NULL}};

static const char *const examples[] = {"tidyhull kill gauge-north",
	"tidyhull kill --signal HUP gauge-north", NULL};

const struct verb verb_kill = {.name = "kill",
	.group = "containers",
	.summary = "send a signal to the program, KILL if no other",
	.usage = "CONTAINER...",
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 0,
	.most = -1,
	.run = run};
