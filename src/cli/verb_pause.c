/* pause: freeze all processes of a container. */
#include <stdio.h>

#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool runs(const json_t *container)
{
	return is_state(container, "running");
}

static int pause_one(struct invocation *call, const json_t *container)
{
	struct th_error err = {0};

	if (th_container_freeze(call->hull, doc_text(container, "id"), &err))
		return say_error(&err);
	if (!call->quiet)
		printf("paused %s\n", doc_text(container, "name"));
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
	.called = "freeze suspend hold",
	.takes = "running group",
	.summary = "freeze all processes of a container",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 0,
	.most = -1,
	.run = run};
