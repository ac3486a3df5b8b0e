/* start: run again what was set when the container was made. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "cli/attach.h"
#include "view/describe.h"
#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool can_start(const struct th_container_row *row)
{
	return row->state == TH_STATE_CREATED || row->state == TH_STATE_STOPPED;
}

/* What was up when the host went down, or its keeper was lost, and is wanted
 * up by its restart policy. */
static bool is_due(const struct th_container_row *row)
{
	return row->state == TH_STATE_STOPPED && row->wanted &&
		row->restart[0] && strcmp(row->restart, "never") != 0;
}

static int say_cannot(const struct th_container_row *row, struct th_error *err)
{
	char reason[sizeof(err->msg)];

	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg), "cannot start \"%s\": %.400s",
		row->name, reason);
	return say_error(err);
}

static int start(struct invocation *call, struct th_container_row *row)
{
	const struct th_size none = {0, 0};
	struct th_error err = {0};
	char reach[512];
	int rc;

	/* A service whose main process is not its own is none. */
	if (row->state == TH_STATE_RUNNING && call->hull.context.notify) {
		th_fail(&err, TH_IN_USE,
			"container \"%s\" already runs outside this service",
			row->name);
		th_hint(&err, "tidyhull stop %s, then start the service again",
			row->name);
		return say_error(&err);
	}
	if (row->state == TH_STATE_RUNNING) {
		if (!call->quiet)
			printf("%s is already running\n", row->name);
		return EXIT_DONE;
	}
	rc = row->state == TH_STATE_WAITING
		? th_container_start_waiting(&call->hull.context, row, &err)
		: th_container_start(&call->hull.context, row, TH_BACKGROUND,
			  none, NULL, &err);
	if (rc)
		return say_cannot(row, &err);
	th_view_reach(&call->hull.context, row->id, reach, sizeof(reach));
	if (call->quiet)
		printf("%s\n", row->id);
	else
		printf("started %s%s%s\n", row->name, reach[0] ? ", port " : "",
			reach);
	return EXIT_DONE;
}

static int start_attached(struct invocation *call)
{
	struct leave_keys keys;
	struct th_object object;
	struct th_ending ending = {0};
	struct th_error err = {0};
	struct attach_options attach = {.context = &call->hull.context,
		.row = &object.container,
		.channel = -1,
		.console = -1,
		.input = true,
		.pass_signals = true,
		.leave = &keys};
	int rc;

	if (attach_keys(call, &keys, &err) ||
		th_object_find(&call->hull.context, call->objects[0],
			TH_KIND_CONTAINER, &object, &err)) {
		say_error(&err);
		return EXIT_TOOL;
	}
	if (!can_start(&object.container)) {
		th_fail(&err, TH_IN_USE, "container \"%s\" is %s",
			object.container.name,
			th_state_word(object.container.state));
		th_hint(&err, "tidyhull attach %s", object.container.name);
		say_error(&err);
		return EXIT_TOOL;
	}
	rc = th_container_has_terminal(
		&call->hull.context, &object.container, &err);
	attach.terminal = rc > 0 && isatty(0);
	attach_prepare();
	if (rc < 0 ||
		th_container_start(&call->hull.context, &object.container,
			TH_ATTACHED_INPUT, attach_size(), &attach.channel,
			&err)) {
		enum th_code code = err.code;

		say_cannot(&object.container, &err);
		return code == TH_NO_PROGRAM ? EXIT_NO_PROGRAM
			: code == TH_NO_EXEC ? EXIT_NO_EXEC
					     : EXIT_TOOL;
	}
	rc = attach_run(&attach, &ending, &err);
	th_close(&attach.channel);
	return attach_code(call, &attach, rc, &ending, &err);
}

/* Those of groups in their order, where they have one. */
static int start_found(
	struct invocation *call, struct th_container_row *rows, size_t count)
{
	struct th_group group;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (th_group_of(&call->hull.context, rows, count, &group, &err))
		return say_error(&err);
	if (has_order(&group)) {
		code = start_rows(call, &group);
	} else {
		for (size_t i = 0; i < group.count; i++) {
			int one = start(call, &group.items[i].before);

			code = code ? code : one;
		}
	}
	th_group_release(&group);
	return code;
}

/* At boot, and whenever somebody likes. */
static int start_due(struct invocation *call)
{
	struct th_container_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 0, due = 0;
	int code = EXIT_DONE;

	if (th_container_rows(&call->hull.context, &rows, &count, &err))
		return say_error(&err);
	for (size_t i = 0; i < count; i++) {
		if (is_due(&rows[i]))
			rows[due++] = rows[i];
	}
	code = start_found(call, rows, due);
	free(rows);
	if (!due && !call->quiet)
		puts("no container is due to start");
	return code;
}

static int start_each(struct invocation *call)
{
	struct th_container_row *rows = NULL;
	size_t count = 0;
	int code = find_containers(call, can_start, &rows, &count), rc;

	rc = start_found(call, rows, count);
	free(rows);
	return code ? code : rc;
}

static int run(struct invocation *call)
{
	struct th_error err = {0};

	if (call->has_command) {
		th_fail(&err, TH_USAGE,
			"start does not take a command: it runs the one set "
			"when the container was created");
		th_hint(&err,
			"for another command in it: tidyhull exec; for a "
			"container with another command: tidyhull launch");
		return say_error(&err);
	}
	if (option_given(call, "all-due")) {
		if (!call->object_count && !option_given(call, "attach"))
			return start_due(call);
		th_fail(&err, TH_USAGE,
			"--all-due cannot be combined with a container or "
			"--attach");
		return say_error(&err);
	}
	if (!option_given(call, "attach"))
		return start_each(call);
	if (call->object_count == 1 && !option_given(call, "all"))
		return start_attached(call);
	th_fail(&err, TH_USAGE, "--attach takes exactly one container");
	return say_error(&err);
}

static const struct option_spec options[] = {
	{"all", NULL, "all that are not running"},
	{"all-due", NULL, "all that should be running, after a reboot"},
	{"attach", NULL, "stay attached, like run"},
	{"leave-keys", "KEYS", "with --attach: other keys than \"Ctrl-T l\""},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"A container that waits for its next attempt is started at once. Those",
	"of a group are started in its order. With --attach, the exit code is",
	"the program's.", NULL};

static const char *const examples[] = {"tidyhull start gauge-north",
	"tidyhull start --attach almanac", "tidyhull start group:harbour",
	"tidyhull start --all-due", NULL};

const struct verb verb_start = {.name = "start",
	.group = "containers",
	.summary = "start a created or ended container",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS_MADE | VERB_COMMAND,
	.least = 0,
	.most = -1,
	.run = run};
