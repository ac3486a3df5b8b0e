/* rename: another name for a container. */
#include <stdio.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "cli/wrong_object.h"

static int refuse_image(const struct invocation *call, struct th_error *err)
{
	struct th_error none = {0};

	if (th_object(call->hull, call->objects[0], TH_KIND_CONTAINER, TH_BRIEF,
		    NULL, &none) == 0 ||
		th_object(call->hull, call->objects[0], TH_KIND_IMAGE, TH_BRIEF,
			NULL, &none))
		return 0;
	th_fail(err, TH_NOT_FOUND,
		"\"%.100s\" is an image, which can have "
		"several names",
		call->objects[0]);
	return th_hint(err,
		"tidyhull tag %.100s %.100s gives another, tidyhull remove "
		"%.100s takes the old one",
		call->objects[0], call->objects[1], call->objects[0]);
}

static int run(struct invocation *call)
{
	json_t *container = NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (refuse_image(call, &err))
		return say_error(&err);

	if (th_object(call->hull, call->objects[0], TH_KIND_CONTAINER, TH_BRIEF,
		    &container, &err) ||
		th_container_name(call->hull, doc_text(container, "id"),
			call->objects[1], &err)) {
		hint_swapped(call, &err);
		code = say_error(&err);
	} else if (!call->quiet)
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
	.called = "mv move ren",
	.takes = "container",
	.summary = "rename a container",
	.usage = "CONTAINER NAME",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 2,
	.most = 2,
	.run = run};
