/* start: run again what was set when the container was made. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/attach.h"
#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool can_start(const json_t *container)
{
	return is_state(container, "created") || is_state(container, "stopped");
}

/* What was up when the host went down, or its keeper was lost, and is wanted
 * up by its restart policy. */
static bool is_due(const json_t *container)
{
	return is_state(container, "stopped") &&
		doc_flag(container, "wanted") &&
		strcmp(doc_text(doc_part(container, "restart"), "policy"),
			"never") != 0;
}

static int say_cannot(const char *name, struct th_error *err)
{
	char reason[sizeof(err->msg)];

	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg), "cannot start \"%.60s\": %.400s",
		name, reason);
	return say_error(err);
}

/* A service whose main process is not its own is none. */
static bool is_service(struct invocation *call)
{
	struct th_error ignored = {0}; /* then it is none */
	json_t *about = NULL;
	bool service;

	th_hull_about(call->hull, &about, &ignored);
	service = doc_flag(about, "service");
	json_decref(about);
	return service;
}

static int start(struct invocation *call, const json_t *container)
{
	const char *name = doc_text(container, "name");
	struct th_error err = {0};
	char reach[512];
	json_t *now = NULL;
	int code = EXIT_DONE;

	if (is_state(container, "running") && !is_service(call)) {
		if (!call->quiet)
			printf("%s is already running\n", name);
		return EXIT_DONE;
	}
	if (th_container_begin(
		    call->hull, doc_text(container, "id"), &now, &err)) {
		code = is_state(container, "running") ? say_error(&err)
						      : say_cannot(name, &err);
	} else if (call->quiet) {
		printf("%s\n", doc_text(now, "id"));
	} else {
		reach_text(now, reach, sizeof(reach));
		printf("started %s%s%s\n", name, reach[0] ? ", port " : "",
			reach);
	}
	json_decref(now);
	return code;
}

static int attend(struct invocation *call, const json_t *container)
{
	const char *name = doc_text(container, "name");
	struct th_news end = {.told = TH_TOLD_NOTHING};
	struct leave_keys keys;
	struct th_error err = {0};
	struct attach_options attach = {.name = name,
		.input = true,
		.pass_signals = true,
		.leave = &keys};
	int rc;

	if (attach_keys(call, &keys, &err)) {
		say_error(&err);
		return EXIT_TOOL;
	}
	if (!can_start(container)) {
		th_fail(&err, TH_IN_USE, "container \"%s\" is %s", name,
			doc_text(container, "state"));
		th_hint(&err, "tidyhull attach %s", name);
		say_error(&err);
		return EXIT_TOOL;
	}
	attach_prepare();
	if (th_talk_start(call->hull, doc_text(container, "id"), attach_size(),
		    &attach.talk, &err)) {
		rc = attach_failure(&err);
		say_cannot(name, &err);
		return rc;
	}
	attach.terminal = isatty(0) && th_talk_has_terminal(attach.talk);
	rc = attach_run(&attach, &end, &err);
	th_talk_close(attach.talk);
	return attach_code(call, &attach, rc, &end, &err);
}

static int start_attached(struct invocation *call)
{
	json_t *container = NULL;
	struct th_error err = {0};
	int code;

	if (th_object(call->hull, call->objects[0], TH_KIND_CONTAINER, TH_BRIEF,
		    &container, &err)) {
		say_error(&err);
		return EXIT_TOOL;
	}
	code = attend(call, container);
	json_decref(container);
	return code;
}

/* Those of groups in their order, where they have one. */
static int start_found(struct invocation *call, const json_t *list)
{
	json_t *ids = ids_of(list), *order = NULL, *one;
	struct th_error err = {0};
	int code = EXIT_DONE;
	size_t i;

	if (th_containers_order(call->hull, ids, &order, &err)) {
		code = say_error(&err);
	} else if (doc_flag(order, "ordered")) {
		code = start_in_order(call, ids);
	} else {
		json_array_foreach(doc_part(order, "containers"), i, one)
		{
			int rc = start(call, one);

			code = code ? code : rc;
		}
	}
	json_decref(order);
	json_decref(ids);
	return code;
}

/* At boot, and whenever somebody likes. */
static int start_due(struct invocation *call)
{
	json_t *doc = NULL, *due = json_array(), *one;
	struct th_error err = {0};
	int code = EXIT_DONE;
	size_t i;

	if (th_list(call->hull, TH_KIND_CONTAINER, true, &doc, &err))
		code = say_error(&err);
	json_array_foreach(doc_part(doc, "containers"), i, one)
	{
		if (is_due(one))
			json_array_append(due, one);
	}
	if (json_array_size(due))
		code = start_found(call, due);
	else if (!code && !call->quiet)
		puts("no container is due to start");
	json_decref(doc);
	json_decref(due);
	return code;
}

static int start_each(struct invocation *call)
{
	json_t *list;
	int code = find_containers(call, can_start, &list);
	int rc = start_found(call, list);

	json_decref(list);
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
	.called = "boot on",
	.takes = "down group",
	.summary = "start a created or ended container",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS_MADE | VERB_COMMAND,
	.least = 0,
	.most = -1,
	.run = run};
