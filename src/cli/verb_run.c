/* run: create, start, stay attached; gone when it ends. */
#include <stdio.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/foreground.h"
#include "cli/making.h"
#include "cli/output.h"
#include "cli/verbs.h"

/* The name that was made up for it is needed to find it again. */
static void tell_name(struct invocation *call, const json_t *container)
{
	const char *name = doc_text(container, "name");
	struct th_error ignored = {0}; /* it is gone */
	json_t *now = NULL;

	if (call->quiet || !option_given(call, "keep") ||
		option_given(call, "name") ||
		th_object(call->hull, doc_text(container, "id"),
			TH_KIND_CONTAINER, TH_BRIEF, &now, &ignored))
		return;
	if (!is_up(now))
		fprintf(stderr,
			"note: it is kept as %s: tidyhull logs %s, tidyhull "
			"start %s\n",
			name, name, name);
	json_decref(now);
}

static int run(struct invocation *call)
{
	json_t *container = NULL;
	struct th_error err = {0};
	struct making making;
	int code;

	if (making_read(call, &making, isatty(0) && isatty(1), &err)) {
		making_release(&making);
		say_error(&err);
		return EXIT_TOOL;
	}
	json_object_set_new(making.settings, "keep",
		json_boolean(option_given(call, "keep")));
	code = making_create(call, &making, &container);
	if (code == EXIT_DONE) {
		code = foreground_run(call, container, making.terminal);
		tell_name(call, container);
	} else if (code > 0) {
		code = EXIT_TOOL;
	}
	making_release(&making);
	json_decref(container);
	return code < 0 ? EXIT_DONE : code;
}

static const struct option_spec options[] = {MAKING_OPTIONS,
	{"keep", NULL, "keep the container after it ends"},
	{"leave-keys", "KEYS", "leave it running; \"Ctrl-T l\" by default"},
	{"discard", NULL, "remove it after it ends (the default)"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"The exit code is the program's; 125 if tidyhull itself failed, 126 or",
	"127 if the program cannot be executed or does not exist, 128+n if",
	"signal n killed it. Signals and input are passed to the program.",
	"On a terminal, Ctrl-T l detaches; \"attach\" returns to it.", NULL};

static const char *const examples[] = {
	"tidyhull run selwick/almanac -- --days 3",
	"cat log | tidyhull run selwick/base -- sort > sorted",
	"tidyhull run selwick/base -- sh", NULL};

const struct verb verb_run = {.name = "run",
	.group = "containers",
	.called = "do foreground",
	.takes = "image file",
	.summary = "run a program in the foreground; removed when it ends",
	.usage = "IMAGE [OPTIONS] [-- COMMAND...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS | VERB_REGISTRIES | VERB_COMMAND |
		VERB_PASSES_CODE,
	.least = 0,
	.most = 1,
	.run = run};
