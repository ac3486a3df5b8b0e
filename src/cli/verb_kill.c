/* kill: a signal, now. */
#include <stdio.h>
#include <string.h>

#include "cli/each.h"
#include "cli/line.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool runs(const json_t *container)
{
	return is_state(container, "running") || is_state(container, "paused");
}

static int send(struct invocation *call, const char *name)
{
	const char *signal = option_value(call, "signal");
	struct th_error err = {0};
	json_t *sent = NULL;

	if (th_container_kill(
		    call->hull, name, signal ? signal : "KILL", &sent, &err))
		return say_error(&err);
	if (!call->quiet && *doc_text(sent, "signal"))
		printf("sent %s to %s\n", doc_text(sent, "signal"),
			doc_text(sent, "name"));
	else if (!call->quiet)
		printf("sent signal %d to %s\n",
			(int)doc_number(sent, "number"),
			doc_text(sent, "name"));
	json_decref(sent);
	return EXIT_DONE;
}

static int send_one(struct invocation *call, const json_t *container)
{
	return send(call, doc_text(container, "id"));
}

/* "kill web KILL": the signal is an option, and there is no such container. */
static int refuse_signal(struct invocation *call)
{
	const char *last = call->objects[call->object_count - 1];
	struct th_error err = {0}, none = {0};
	struct line line;

	if (call->object_count < 2 ||
		strspn(last, "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789+-") !=
			strlen(last) ||
		th_object(call->hull, last, TH_KIND_CONTAINER | TH_KIND_SESSION,
			TH_BRIEF, NULL, &none) == 0)
		return 0;
	th_fail(&err, TH_USAGE,
		"there is no container \"%.60s\"; a signal is an option", last);
	line_get(&line);
	line_put(&line, line_find(&line, last), 1, NULL, NULL);
	line_put(&line, 2, 0, "--signal", last);
	line_hint(&err, "it is: ", &line);
	return say_error(&err);
}

static int run(struct invocation *call)
{
	int code = EXIT_DONE;

	if (option_given(call, "all") || !call->object_count)
		return each_container(call, runs, send_one);
	code = refuse_signal(call);
	if (code)
		return code;
	for (int i = 0; i < call->object_count; i++) {
		int one = send(call, call->objects[i]);

		code = code ? code : one;
	}
	return code;
}

static const char *const text[] = {
	"A signal is not a stop: if it ends the program, the restart policy",
	"applies. To keep it down, use \"stop\".", NULL};

static const struct option_spec options[] = {
	{"all", NULL, "all running containers"},
	{"signal", "SIGNAL", "the signal; KILL by default"},
	{NULL, NULL, NULL}};

static const char *const examples[] = {"tidyhull kill gauge-north",
	"tidyhull kill --signal HUP gauge-north", NULL};

const struct verb verb_kill = {.name = "kill",
	.group = "containers",
	.called = "signal send",
	.takes = "running session",
	.summary = "send a signal to the program; KILL by default",
	.usage = "CONTAINER|SESSION...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 0,
	.most = -1,
	.run = run};
