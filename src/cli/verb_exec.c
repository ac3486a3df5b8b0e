/* exec: another command in a running container. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "cli/attach.h"
#include "cli/output.h"
#include "cli/session.h"
#include "cli/verbs.h"

static int code_of(const struct th_error *err)
{
	return err->code == TH_NO_PROGRAM ? EXIT_NO_PROGRAM
		: err->code == TH_NO_EXEC ? EXIT_NO_EXEC
					  : EXIT_TOOL;
}

static int fill(struct invocation *call, struct th_exec_options *options,
	struct th_strings *command, struct th_strings *env,
	struct th_error *err)
{
	const char *tty = option_value(call, "tty");

	if (!call->command_count) {
		th_fail(err, TH_USAGE, "exec needs a command");
		return th_hint(err, "for example: tidyhull exec %s -- ls /",
			call->objects[0]);
	}
	for (int i = 0; i < call->command_count; i++) {
		if (th_strings_add(command, call->command[i]))
			return th_fail_memory(err);
	}
	if (option_values(call, "env", env))
		return th_fail_memory(err);
	for (size_t i = 0; i < env->count; i++) {
		if (!strchr(env->items[i], '='))
			return th_fail(err, TH_USAGE,
				"\"%.100s\" is not KEY=VALUE", env->items[i]);
	}
	memset(options, 0, sizeof(*options));
	options->command = command;
	options->env = env;
	options->user = option_value(call, "user");
	options->workdir = option_value(call, "workdir");
	options->terminal = isatty(0) && isatty(1);
	if (tty && strcmp(tty, "yes") == 0)
		options->terminal = true;
	else if (tty && strcmp(tty, "no") == 0)
		options->terminal = false;
	options->size = attach_size();
	for (int i = 0; i < 3; i++)
		options->stdio[i] = i;
	options->program = -1;
	options->background = option_given(call, "background");
	if (options->background && tty && strcmp(tty, "yes") == 0)
		return th_fail(err, TH_USAGE,
			"a background session cannot have a terminal");
	if (options->background)
		options->terminal = false;
	return 0;
}

/* It goes on without us: what it is called is the answer. */
static int run_in_background(struct invocation *call,
	struct th_container_row *row, const struct th_exec_options *options,
	struct th_error *err)
{
	char session[TH_ID_LENGTH + 1];
	int channel = -1, console = -1;

	if (th_container_exec(&call->hull.context, row, options, &channel,
		    &console, session, err))
		return code_of(err);
	th_close(&channel);
	if (call->json)
		return print_json(json_pack(
			"{s:s s:s}", "session", session, "container", row->id));
	if (call->quiet)
		printf("%s\n", session);
	else
		printf("session %s is running in %s\n  output: tidyhull logs "
		       "%s; to wait for its end: tidyhull wait %s\n",
			session, row->name, session, session);
	return EXIT_DONE;
}

int session_run(struct invocation *call, struct th_container_row *row,
	const struct th_exec_options *options, struct th_error *err)
{
	struct attach_options attach = {.context = &call->hull.context,
		.row = row,
		.channel = -1,
		.console = -1,
		.input = options->terminal,
		.terminal = options->terminal && isatty(0)};
	struct th_session_row session;
	struct th_ending ending = {0};
	int rc;

	memset(&session, 0, sizeof(session));
	attach_prepare();
	if (th_container_exec(&call->hull.context, row, options,
		    &attach.channel, &attach.console, session.id, err))
		return code_of(err);
	snprintf(session.container, sizeof(session.container), "%s", row->id);
	attach.session = &session;
	rc = attach_run(&attach, &ending, err);
	th_close(&attach.console);
	th_close(&attach.channel);
	if (rc > 0)
		return attach_exit_code(&ending);
	if (rc == 0)
		th_fail(err, TH_FAILED,
			"container \"%s\" ended, and the command with it",
			row->name);
	return EXIT_TOOL;
}

static int run(struct invocation *call)
{
	struct th_strings command = {0}, env = {0};
	struct th_exec_options options;
	struct th_object object = {0};
	struct th_error err = {0};
	int code = EXIT_TOOL;

	if (fill(call, &options, &command, &env, &err) == 0 &&
		th_object_find(&call->hull.context, call->objects[0],
			TH_KIND_CONTAINER, &object, &err) == 0)
		code = options.background
			? run_in_background(
				  call, &object.container, &options, &err)
			: session_run(call, &object.container, &options, &err);
	if (err.code)
		say_error(&err);
	th_object_release(&object);
	th_strings_release(&command);
	th_strings_release(&env);
	return code;
}

static const struct option_spec options[] = {
	{"env", "KEY=VALUE", "added to the container's environment"},
	{"user", "USER", "run as another user"},
	{"workdir", "DIR", "start in another folder"},
	{"tty", "WHEN", "a terminal inside: auto, yes or no"},
	{"background", NULL, "do not wait; the session keeps its own log"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"The exit code is the command's. Each command is recorded as a session",
	"(\"list sessions\"). A background session is addressed by its ID in "
	"logs,",
	"wait, kill and show.", NULL};

static const char *const examples[] = {
	"tidyhull exec gauge-north -- ls /srv/history",
	"tidyhull exec --background ledger -- pack-old-pages",
	"tidyhull exec gauge-north -- sh", NULL};

const struct verb verb_exec = {.name = "exec",
	.group = "inside",
	.summary = "run another command in a running container",
	.usage = "CONTAINER [OPTIONS] -- COMMAND...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_COMMAND | VERB_PASSES_CODE |
		VERB_JSON,
	.least = 1,
	.most = 1,
	.run = run};
