/* rename: another name for a container. */
#include <stdio.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"

static int run(struct invocation *call)
{
	json_t *container = NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (th_object(call->hull, call->objects[0], TH_KIND_CONTAINER, TH_BRIEF,
		    &container, &err) ||
		th_container_name(call->hull, doc_text(container, "id"),
			call->objects[1], &err))
		code = say_error(&err);
	else if (!call->quiet)
		printf("renamed %s to %s\n", doc_text(container, "name"),
			call->objects[1]);
	json_decref(container);
	return code;
}

static const char *const text[] = {
	"Works in every state. The host name inside the container does not",
	"change.", NULL};

static const char *const examples[] = {"tidyhull rename amber-buoy gauge-north",
	"tidyhull rename silver-buoy pier-gauge", NULL};

const struct verb verb_rename = {.name = "rename",
	.group = "containers",
	.called = "mv move",
	.takes = "container",
	.summary = "rename a container",
	.usage = "CONTAINER NAME",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 2,
	.most = 2,
	.run = run};
