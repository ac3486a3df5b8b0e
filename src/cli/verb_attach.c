/* attach: the terminal, or the output, of a running container. */
#include <stdio.h>
#include <unistd.h>

#include "cli/attach.h"
#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"

static void say_how_to_leave(
	struct invocation *call, const struct attach_options *options)
{
	char text[64];

	leave_keys_text(options->leave, text);
	if (call->quiet)
		return;
	if (options->terminal && options->leave->count)
		fprintf(stderr, "attached to %s; %s leaves it running\n",
			options->name, text);
	else if (!options->terminal && isatty(0))
		fprintf(stderr, "attached to %s; Ctrl-C leaves it running\n",
			options->name);
}

static int attach(struct invocation *call, const json_t *container)
{
	bool watch = option_given(call, "watch");
	struct leave_keys keys;
	struct th_news end = {.told = TH_TOLD_NOTHING};
	struct th_error err = {0};
	struct attach_options options = {.name = doc_text(container, "name"),
		.input = !watch,
		.leaves_by_signal = true,
		.leave = &keys};
	int rc;

	if (attach_keys(call, &keys, &err) == 0) {
		attach_prepare();
		th_talk_attach(call->hull, doc_text(container, "id"),
			attach_size(), &options.talk, &err);
	}
	if (!options.talk) {
		say_error(&err);
		return EXIT_TOOL;
	}
	options.terminal =
		!watch && isatty(0) && th_talk_has_terminal(options.talk);
	say_how_to_leave(call, &options);
	rc = attach_run(&options, &end, &err);
	th_talk_close(options.talk);
	return attach_code(call, &options, rc, &end, &err);
}

static int run(struct invocation *call)
{
	json_t *container = NULL;
	struct th_error err = {0};
	int code;

	if (th_object(call->hull, call->objects[0], TH_KIND_CONTAINER, TH_BRIEF,
		    &container, &err)) {
		say_error(&err);
		return EXIT_TOOL;
	}
	code = attach(call, container);
	json_decref(container);
	return code;
}

static const struct option_spec options[] = {
	{"leave-keys", "KEYS", "other keys than \"Ctrl-T l\"; none: no keys"},
	{"watch", NULL, "watch only: send no input"}, {NULL, NULL, NULL}};

static const char *const text[] = {"First redraws the screen from the log.",
	"Several people can be attached at once. Ctrl-T l leaves the container",
	"running; without a terminal, Ctrl-C does. If the program ends "
	"meanwhile,",
	"the exit code is the program's.", NULL};

static const char *const examples[] = {"tidyhull attach pilot-desk",
	"tidyhull attach --watch gauge-north",
	"tidyhull attach --leave-keys \"Ctrl-] q\" pilot-desk", NULL};

const struct verb verb_attach = {.name = "attach",
	.group = "inside",
	.called = "reattach connect fg",
	.takes = "running session",
	.summary = "connect to the terminal of a running container",
	.usage = "CONTAINER",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_PASSES_CODE,
	.least = 1,
	.most = 1,
	.run = run};
