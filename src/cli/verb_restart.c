/* restart: stop where it runs, and start. */
#include <stdio.h>

#include "cli/describe.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool alive(const struct th_container_row *row)
{
	return row->state != TH_STATE_CREATED && row->state != TH_STATE_STOPPED;
}

static int restart(struct invocation *call, struct th_container_row *row)
{
	struct th_error err = {0};
	char reach[512];
	int grace_ms;

	if (read_grace(call, &grace_ms, &err) ||
		th_container_restart(&call->context, row, grace_ms, &err)) {
		char reason[sizeof(err.msg)];

		snprintf(reason, sizeof(reason), "%s", err.msg);
		snprintf(err.msg, sizeof(err.msg),
			"cannot restart \"%s\": %.400s", row->name, reason);
		return say_error(&err);
	}
	reach_text(&call->context, row->id, reach, sizeof(reach));
	if (call->quiet)
		printf("%s\n", row->id);
	else
		printf("restarted %s%s%s\n", row->name,
			reach[0] ? ", port " : "", reach);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	return each_container(call, alive, restart);
}

static const struct option_spec options[] = {
	{"all", NULL, "all that are running or waiting"},
	{"grace", "TIME", "how long to wait before the hard kill"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Its ports stay bound in between. A stopped container is started.",
	NULL};

static const char *const examples[] = {"tidyhull restart gauge-north",
	"tidyhull restart --all --grace 2s", NULL};

const struct verb verb_restart = {.name = "restart",
	.group = "containers",
	.summary = "stop a container and start it again",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS_MADE,
	.least = 0,
	.most = -1,
	.run = run};
