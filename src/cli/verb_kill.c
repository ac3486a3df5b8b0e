/* kill: a signal, now. */
#include <signal.h>
#include <stdio.h>

#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool runs(const struct th_container_row *row)
{
	return row->state == TH_STATE_RUNNING || row->state == TH_STATE_PAUSED;
}

static int read_signal(
	struct invocation *call, int *number, struct th_error *err)
{
	const char *text = option_value(call, "signal");

	*number = text ? th_signal_parse(text) : SIGKILL;
	if (*number > 0)
		return 0;
	th_fail(err, TH_USAGE, "\"%.50s\" is not a signal", text);
	return th_hint(err, "use a name or number: KILL, HUP, USR1, 10");
}

static void say_sent(struct invocation *call, int number, const char *to)
{
	const char *name = th_signal_name(number);

	if (call->quiet)
		return;
	if (name)
		printf("sent %s to %s\n", name, to);
	else
		printf("sent signal %d to %s\n", number, to);
}

static int send(struct invocation *call, struct th_container_row *row)
{
	struct th_error err = {0};
	int number;

	if (read_signal(call, &number, &err) ||
		th_container_signal(
			&call->hull.context, row, number, false, &err))
		return say_error(&err);
	say_sent(call, number, row->name);
	return EXIT_DONE;
}

static int send_session(
	struct invocation *call, const struct th_session_row *session)
{
	struct th_error err = {0};
	int number;

	if (read_signal(call, &number, &err) ||
		th_session_signal(&call->hull.context, session, number, &err))
		return say_error(&err);
	say_sent(call, number, session->id);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	int code = EXIT_DONE;

	if (option_given(call, "all") || !call->object_count)
		return each_container(call, runs, send);
	for (int i = 0; i < call->object_count; i++) {
		struct th_object object;
		struct th_error err = {0};
		int one;

		if (th_object_find(&call->hull.context, call->objects[i],
			    TH_KIND_CONTAINER | TH_KIND_SESSION, &object, &err))
			one = say_error(&err);
		else if (object.kind == TH_KIND_SESSION)
			one = send_session(call, &object.session);
		else
			one = send(call, &object.container);
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
