/* adjust: other limits, restart policy or probe for a container that may be
 * running. */
#include <stdio.h>
#include <string.h>

#include "cli/each.h"
#include "cli/output.h"
#include "cli/verbs.h"

static bool every(const struct th_container_row *row)
{
	(void)row;
	return true;
}

static int adjust_one(struct invocation *call, struct th_container_row *row)
{
	const char *restart = option_value(call, "restart");
	const char *probe = option_value(call, "probe");
	struct th_strings changes = {0};
	struct th_error err = {0};
	char text[TH_LIMIT_TEXT];
	int rc;

	if (probe && strcmp(probe, "none") == 0)
		probe = "";
	if ((restart || probe) &&
		th_container_adjust_life(
			&call->hull.context, row, restart, probe, &err))
		return say_error(&err);
	if (restart && !call->quiet)
		printf("the restart policy of %s is now %s\n", row->name,
			restart);
	if (probe && !call->quiet)
		printf("the probe of %s is now %s\n", row->name,
			*probe ? probe : "none");
	if (!option_given(call, "limit"))
		return EXIT_DONE;
	rc = option_values(call, "limit", &changes)
		? th_fail_memory(&err)
		: th_container_adjust(
			  &call->hull.context, row, &changes, text, &err);
	th_strings_release(&changes);
	if (rc)
		return say_error(&err);
	if (!call->quiet)
		printf("the limits of %s are now %s\n", row->name,
			*text ? text : "none");
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	if (!option_given(call, "limit") && !option_given(call, "restart") &&
		!option_given(call, "probe")) {
		struct th_error err = {0};

		th_fail(&err, TH_USAGE, "nothing to adjust");
		th_hint(&err,
			"give a change, for example --limit memory=512M or "
			"--restart always");
		return say_error(&err);
	}
	return each_container(call, every, adjust_one);
}

static const struct option_spec options[] = {
	{"limit", "LIMIT",
		"memory=256M,swap=1G,cpu=1.5,processes=200,io=300; none"},
	{"restart", "POLICY", "never, always, or on-failure,tries=5,delay=1s"},
	{"probe", "PROBE", "http:80/health, tcp:7070, exec:CMD; none"},
	{"all", NULL, "all containers"}, {NULL, NULL, NULL}};

static const char *const text[] = {"Changes apply to a running container at "
				   "once, and to every later start.",
	"Everything else stays as it is; \"memory=none\" removes a limit.",
	NULL};

static const char *const examples[] = {
	"tidyhull adjust gauge-north --limit memory=512M",
	"tidyhull adjust ledger --limit cpu=none,processes=50",
	"tidyhull adjust ledger --restart on-failure,tries=3 --probe tcp:7070",
	NULL};

const struct verb verb_adjust = {.name = "adjust",
	.group = "containers",
	.summary = "change limits, restart policy or probe, even while it runs",
	.usage = "CONTAINER... OPTIONS",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 0,
	.most = -1,
	.run = run};
