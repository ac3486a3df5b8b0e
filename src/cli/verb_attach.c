/* attach: the terminal, or the output, of a running container. */
#include <stdio.h>
#include <unistd.h>

#include "base/file.h"
#include "cli/attach.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "container/plan.h"
#include "container/reach.h"
#include "ipc/words.h"
#include "store/machine.h"

static void say_how_to_leave(struct invocation *call,
	const struct th_container_row *row, const struct leave_keys *keys,
	bool terminal)
{
	char text[64];

	leave_keys_text(keys, text);
	if (call->quiet)
		return;
	if (terminal && keys->count)
		fprintf(stderr, "attached to %s; %s leaves it running\n",
			row->name, text);
	else if (!terminal && isatty(0))
		fprintf(stderr, "attached to %s; Ctrl-C leaves it running\n",
			row->name);
}

static int attach(struct invocation *call, struct th_container_row *row,
	bool has_terminal, struct th_error *err)
{
	struct th_size size = attach_size();
	struct leave_keys keys;
	struct th_ending ending = {0};
	struct attach_options options = {.context = &call->hull.context,
		.row = row,
		.channel = -1,
		.console = -1,
		.input = !option_given(call, "watch"),
		.terminal = has_terminal && isatty(0) &&
			!option_given(call, "watch"),
		.leaves_by_signal = true,
		.leave = &keys};
	int rc;

	if (th_act_check(row, TH_ACT_ATTACH, err) ||
		attach_keys(call, &keys, err))
		return EXIT_TOOL;
	rc = th_keeper_reach(call->hull.context.store->run_fd, row->id,
		&options.channel, err);
	if (rc <= 0) {
		if (rc == 0)
			th_fail(err, TH_FAILED,
				"container \"%s\" has just ended", row->name);
		return EXIT_TOOL;
	}
	say_how_to_leave(call, row, &keys, options.terminal);
	attach_prepare();
	th_words_send(options.channel, TH_SAY_ATTACH, th_words_of_size(size));
	rc = attach_run(&options, &ending, err);
	th_close(&options.channel);
	return attach_code(call, &options, rc, &ending, err);
}

static int run(struct invocation *call)
{
	struct th_object object = {0};
	struct th_error err = {0};
	int code = EXIT_TOOL, rc;

	if (th_object_find(&call->hull.context, call->objects[0],
		    TH_KIND_CONTAINER, &object, &err)) {
		say_error(&err);
		return EXIT_TOOL;
	}
	rc = th_container_has_terminal(
		&call->hull.context, &object.container, &err);
	if (rc >= 0)
		code = attach(call, &object.container, rc > 0, &err);
	if (err.code && code == EXIT_TOOL)
		say_error(&err);
	th_object_release(&object);
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
	.summary = "connect to the terminal of a running container",
	.usage = "CONTAINER",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_PASSES_CODE,
	.least = 1,
	.most = 1,
	.run = run};
