/* recreate: the same container anew, with some settings changed. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/remaking.h"
#include "cli/replacing.h"
#include "cli/verbs.h"

static int plan(struct invocation *call, const json_t *container,
	const struct invocation *merged, const struct making *making)
{
	json_t *planned = NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	/* It takes the place of the one that has the name. */
	doc_set(making->settings, "name", doc_text(container, "name"));
	doc_set(making->settings, "replaces", doc_text(container, "id"));
	if (th_container_plan(call->hull, making->settings, &planned, &err))
		code = say_problems(
			"recreate", doc_text(container, "name"), planned, &err);
	else
		making_print_plan(merged, making, planned);
	json_decref(planned);
	return code;
}

static int recreate(struct invocation *call, const json_t *container)
{
	struct invocation merged;
	struct making making;
	struct th_error err = {0};
	int code;

	if (remaking_read(
		    call, doc_text(container, "id"), &making, &merged, &err))
		code = say_error(&err);
	else if (making.plan)
		code = plan(call, container, &merged, &making);
	else
		code = replacing_run(call, container, &making,
			option_given(call, "start"), true);
	free(merged.options == call->options ? NULL : merged.options);
	making_release(&making);
	return code;
}

static int run(struct invocation *call)
{
	json_t *container = NULL;
	struct th_error err = {0};
	int code;

	if (th_object(call->hull, call->objects[0], TH_KIND_CONTAINER, TH_BRIEF,
		    &container, &err))
		return say_error(&err);
	code = recreate(call, container);
	json_decref(container);
	return code;
}

static const struct option_spec options[] = {MAKING_SETTINGS,
	{"image", "IMAGE", "another image"},
	{"start", NULL, "start it also where it did not run"},
	{"without", "SETTING",
		"leave a setting out: port=80, env=MODE, restart"},
	REPLACING_OPTIONS, MAKING_PLAN, {NULL, NULL, NULL}};

static const char *const text[] = {
	"Settings that are not given stay as they are; --port, --mount and",
	"--env replace the one with the same place inside. What was written to",
	"its files goes; volumes and folders stay, and so do its name and its",
	"ports: whoever connects meanwhile waits. If it ran, the new one has "
	"to",
	"be ready in time, or everything is as it was before.", NULL};

static const char *const examples[] = {
	"tidyhull recreate gauge-north --env STATION=south",
	"tidyhull recreate gauge-north --port 80=8090 --without restart",
	"tidyhull recreate ledger --image selwick/ledger:2 --ready-within 2m",
	NULL};

const struct verb verb_recreate = {.name = "recreate",
	.group = "containers",
	.called = "upgrade update edit reconfigure replace redo change modify",
	.takes = "container",
	.summary = "the same container anew, with some settings changed",
	.usage = "CONTAINER [OPTIONS] [-- COMMAND...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS | VERB_REGISTRIES | VERB_COMMAND |
		VERB_JSON,
	.least = 1,
	.most = 1,
	.run = run};
