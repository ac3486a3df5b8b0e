/* rename: another name for a container. */
#include <stdio.h>

#include "cli/output.h"
#include "cli/verbs.h"

static int run(struct invocation *call)
{
	struct th_object object = {0};
	struct th_error err = {0};

	if (th_object_find(&call->hull.context, call->objects[0],
		    TH_KIND_CONTAINER, &object, &err) ||
		th_container_rename(&call->hull.context, &object.container,
			call->objects[1], &err))
		return say_error(&err);
	if (!call->quiet)
		printf("renamed %s to %s\n", object.container.name,
			call->objects[1]);
	th_object_release(&object);
	return EXIT_DONE;
}

static const char *const text[] = {
	"Works in every state. The host name inside the container does not",
	"change.", NULL};

static const char *const examples[] = {
	"tidyhull rename amber-buoy gauge-north", NULL};

const struct verb verb_rename = {.name = "rename",
	.group = "containers",
	.summary = "rename a container",
	.usage = "CONTAINER NAME",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 2,
	.most = 2,
	.run = run};
