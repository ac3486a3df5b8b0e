/* start: run again what was set when the container was made. */
#include <stdio.h>

#include "cli/describe.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool can_start(const struct th_container_row *row)
{
	return row->state == TH_STATE_CREATED || row->state == TH_STATE_STOPPED;
}

static int start(struct invocation *call, struct th_container_row *row)
{
	const struct th_size none = {0, 0};
	struct th_error err = {0};
	char reach[512];

	if (row->state == TH_STATE_RUNNING) {
		if (!call->quiet)
			printf("%s runs already\n", row->name);
		return EXIT_DONE;
	}
	if (th_container_start(
		    &call->context, row, TH_BACKGROUND, none, NULL, &err)) {
		char reason[sizeof(err.msg)];

		snprintf(reason, sizeof(reason), "%s", err.msg);
		snprintf(err.msg, sizeof(err.msg),
			"cannot start \"%s\": %.400s", row->name, reason);
		return say_error(&err);
	}
	reach_text(&call->context, row->id, reach, sizeof(reach));
	if (call->quiet)
		printf("%s\n", row->id);
	else
		printf("started %s%s%s\n", row->name, reach[0] ? ", port " : "",
			reach);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	if (call->has_command) {
		struct th_error err = {0};

		th_fail(&err, TH_USAGE,
			"start runs what was set when the container was made");
		th_hint(&err,
			"another command in it: tidyhull exec; a container "
			"with another command: tidyhull launch");
		return say_error(&err);
	}
	return each_container(call, can_start, start);
}

static const struct option_spec options[] = {
	{"all", NULL, "all that do not run"}, {NULL, NULL, NULL}};

static const char *const examples[] = {"tidyhull start gauge-north", NULL};

const struct verb verb_start = {.name = "start",
	.group = "containers",
	.summary = "start a container that was made or has ended",
	.usage = "CONTAINER...",
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_COMMAND,
	.least = 0,
	.most = -1,
	.run = run};
