/* pause: freeze all processes of a container. */
#include <stdio.h>

#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool runs(const struct th_container_row *row)
{
	return row->state == TH_STATE_RUNNING;
}

static int pause_one(struct invocation *call, struct th_container_row *row)
{
	struct th_error err = {0};

	if (th_container_pause(&call->hull.context, row, true, &err))
		return say_error(&err);
	if (!call->quiet)
		printf("paused %s\n", row->name);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	return each_container(call, runs, pause_one);
}

static const struct option_spec options[] = {
	{"all", NULL, "all running containers"}, {NULL, NULL, NULL}};

static const char *const text[] = {
	"None of its processes run, and none of them notice. Its ports stay",
	"bound: connections wait until \"resume\".", NULL};

static const char *const examples[] = {
	"tidyhull pause gauge-north", "tidyhull pause --all", NULL};

const struct verb verb_pause = {.name = "pause",
	.group = "containers",
	.summary = "freeze all processes of a container",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 0,
	.most = -1,
	.run = run};
