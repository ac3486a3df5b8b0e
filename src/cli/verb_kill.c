/* kill: a signal, now. */
#include <stdio.h>

#include "cli/each.h"
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

static int run(struct invocation *call)
{
	int code = EXIT_DONE;

	if (option_given(call, "all") || !call->object_count)
		return each_container(call, runs, send_one);
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
	.summary = "send a signal to the program; KILL by default",
	.usage = "CONTAINER|SESSION...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 0,
	.most = -1,
	.run = run};
