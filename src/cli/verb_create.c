/* create: a container that is not started. */
#include <stdio.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/making.h"
#include "cli/output.h"
#include "cli/verbs.h"

static int run(struct invocation *call)
{
	json_t *container = NULL;
	struct th_error err = {0};
	struct making making;
	int code;

	if (making_read(call, &making, false, &err)) {
		making_release(&making);
		return say_error(&err);
	}
	code = making_create(call, &making, &container);
	making_release(&making);
	if (code)
		return code < 0 ? EXIT_DONE : code;
	if (call->json)
		return print_json(container);
	if (call->quiet)
		printf("%s\n", doc_text(container, "id"));
	else
		printf("created %s (%s); to start it: tidyhull start %s\n",
			doc_text(container, "name"), doc_text(container, "id"),
			doc_text(container, "name"));
	json_decref(container);
	return EXIT_DONE;
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
	.called = "add prepare",
	.takes = "image",
	.summary = "create a container without starting it",
	.usage = "IMAGE [OPTIONS] [-- COMMAND...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_REGISTRIES | VERB_COMMAND | VERB_JSON,
	.least = 0,
	.most = 1,
	.run = run};
