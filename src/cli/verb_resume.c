/* resume: let a paused container go on. */
#include <stdio.h>

#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool is_paused(const json_t *container)
{
	return is_state(container, "paused");
}

static int resume_one(struct invocation *call, const json_t *container)
{
	struct th_error err = {0};

	if (th_container_thaw(call->hull, doc_text(container, "id"), &err))
		return say_error(&err);
	if (!call->quiet)
		printf("resumed %s\n", doc_text(container, "name"));
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	return each_container(call, is_paused, resume_one);
}

static const struct option_spec options[] = {
	{"all", NULL, "all paused containers"}, {NULL, NULL, NULL}};

static const char *const examples[] = {
	"tidyhull resume gauge-north", "tidyhull resume --all", NULL};

const struct verb verb_resume = {.name = "resume",
	.group = "containers",
	.called = "continue unfreeze thaw unsuspend",
	.takes = "paused group",
	.summary = "resume a paused container",
	.usage = "CONTAINER...",
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 0,
	.most = -1,
	.run = run};
