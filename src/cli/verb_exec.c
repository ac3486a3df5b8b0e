/* exec: another command in a running container. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "cli/attach.h"
#include "cli/doc.h"
#include "cli/output.h"
#include "cli/session.h"
#include "cli/verbs.h"

static int fill(struct invocation *call, struct th_talk_command *command,
	struct th_error *err)
{
	const char *tty = option_value(call, "tty");

	if (!call->command_count) {
		th_fail(err, TH_USAGE, "exec needs a command");
		return th_hint(err, "for example: tidyhull exec %s -- ls /",
			call->objects[0]);
	}
	*command = (struct th_talk_command){.terminal = isatty(0) && isatty(1),
		.background = option_given(call, "background"),
		.streams = {0, 1, 2},
		.program = -1,
		.size = attach_size()};
	if (tty && strcmp(tty, "yes") == 0)
		command->terminal = true;
	else if (tty && strcmp(tty, "no") == 0)
		command->terminal = false;
	if (command->background && tty && strcmp(tty, "yes") == 0)
		return th_fail(err, TH_USAGE,
			"a background session cannot have a terminal");
	if (command->background)
		command->terminal = false;
	return 0;
}

static json_t *read_words(const struct invocation *call)
{
	json_t *words = json_object();

	json_object_set_new(words, "command",
		doc_of_texts(call->command, (size_t)call->command_count));
	json_object_set_new(words, "env", option_list(call, "env"));
	doc_set(words, "user", option_value(call, "user"));
	doc_set(words, "workdir", option_value(call, "workdir"));
	return words;
}

/* It goes on without us: what it is called is the answer. */
static int run_in_background(struct invocation *call, const json_t *container,
	const struct th_talk_command *command, struct th_error *err)
{
	json_t *doc = NULL;
	const char *session;

	if (th_talk_exec(call->hull, doc_text(container, "id"), command, NULL,
		    &doc, err))
		return attach_failure(err);
	session = doc_text(doc, "session");
	if (call->json)
		return print_json(doc);
	if (call->quiet)
		printf("%s\n", session);
	else
		printf("session %s is running in %s\n  output: tidyhull logs "
		       "%s; to wait for its end: tidyhull wait %s\n",
			session, doc_text(container, "name"), session, session);
	json_decref(doc);
	return EXIT_DONE;
}

int session_run(struct invocation *call, const char *name,
	const struct th_talk_command *command, struct th_error *err)
{
	struct attach_options attach = {.name = name,
		.input = command->terminal,
		.terminal = command->terminal && isatty(0),
		.pass_signals = true};
	struct th_news end = {.told = TH_TOLD_NOTHING};
	int rc;

	attach_prepare();
	if (th_talk_exec(call->hull, name, command, &attach.talk, NULL, err))
		return attach_failure(err);
	rc = attach_run(&attach, &end, err);
	th_talk_close(attach.talk);
	if (rc > 0)
		return end.exit_code;
	if (rc == 0)
		th_fail(err, TH_FAILED,
			"container \"%s\" ended, and the command with it",
			name);
	return EXIT_TOOL;
}

static int run(struct invocation *call)
{
	struct th_talk_command command;
	json_t *container = NULL, *words = read_words(call);
	struct th_error err = {0};
	int code = EXIT_TOOL;

	if (fill(call, &command, &err) == 0 &&
		th_object(call->hull, call->objects[0], TH_KIND_CONTAINER,
			TH_BRIEF, &container, &err) == 0) {
		command.words = words;
		code = command.background
			? run_in_background(call, container, &command, &err)
			: session_run(call, doc_text(container, "name"),
				  &command, &err);
	}
	if (err.code)
		say_error(&err);
	json_decref(container);
	json_decref(words);
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
	.called = "execute remote do",
	.takes = "running",
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
