/* create: a container that is not started. */
#include <stdio.h>
#include <unistd.h>

#include "view/describe.h"
#include "cli/making.h"
#include "cli/output.h"
#include "cli/verbs.h"

static int run(struct invocation *call)
{
	struct th_container_row row;
	struct th_error err = {0};
	struct making making;
	int code;

	if (making_read(call, &making, false, &err))
		return say_error(&err);
	code = making_create(call, &making, &row);
	if (code == EXIT_DONE && call->json)
		code = print_json(th_view_container(&call->hull.context, &row));
	else if (code == EXIT_DONE && call->quiet)
		printf("%s\n", row.id);
	else if (code == EXIT_DONE)
		printf("created %s (%s); to start it: tidyhull start %s\n",
			row.name, row.id, row.name);
	making_release(&making);
	return code < 0 ? EXIT_DONE : code;
}

static const struct option_spec options[] = {
	MAKING_OPTIONS, {NULL, NULL, NULL}};

static const char *const text[] = {"Checks name, ports, mounts and image "
				   "first, and reports all problems at",
	"once. The settings apply to every later start.", NULL};

static const char *const examples[] = {
	"tidyhull create selwick/gauge --name gauge-north --port 80=8080",
	"tidyhull start gauge-north", NULL};

const struct verb verb_create = {.name = "create",
	.group = "containers",
	.summary = "create a container without starting it",
	.usage = "IMAGE [OPTIONS] [-- COMMAND...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_REGISTRIES | VERB_COMMAND | VERB_JSON,
	.least = 0,
	.most = 1,
	.run = run};
