/* adjust: other limits, restart policy or probe for a container that may be
 * running. */
#include <stdio.h>
#include <string.h>

#include "cli/each.h"
#include "cli/output.h"
#include "cli/right_line.h"
#include "cli/verbs.h"
#include "cli/wrong_option.h"

static bool every(const json_t *container)
{
	(void)container;
	return true;
}

static void print_changed(const struct invocation *call, const char *name,
	const json_t *changes, const json_t *now)
{
	const char *probe = doc_text(changes, "probe");
	const char *limit = doc_text(now, "limit");

	if (call->quiet)
		return;
	if (json_object_get(changes, "restart"))
		printf("the restart policy of %s is now %s\n", name,
			doc_text(changes, "restart"));
	if (json_object_get(changes, "probe"))
		printf("the probe of %s is now %s\n", name,
			*probe ? probe : "none");
	if (json_object_get(changes, "limit"))
		printf("the limits of %s are now %s\n", name,
			*limit ? limit : "none");
}

/* Only what is given is changed. */
static json_t *read_changes(const struct invocation *call)
{
	const char *restart = option_value(call, "restart");
	const char *probe = option_value(call, "probe");
	json_t *changes = json_object();

	if (restart)
		json_object_set_new(changes, "restart", json_string(restart));
	if (probe)
		json_object_set_new(changes, "probe",
			json_string(strcmp(probe, "none") == 0 ? "" : probe));
	if (option_given(call, "limit"))
		json_object_set_new(
			changes, "limit", option_list(call, "limit"));
	return changes;
}

static int adjust_one(struct invocation *call, const json_t *container)
{
	json_t *changes = read_changes(call), *now = NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (th_container_change(
		    call->hull, doc_text(container, "id"), changes, &now, &err))
		code = say_error(&err);
	else
		print_changed(call, doc_text(container, "name"), changes, now);
	json_decref(changes);
	json_decref(now);
	return code;
}

static bool differs(const struct line *one, const struct line *other)
{
	bool same = one->count == other->count;

	for (int i = 0; same && i < one->count; i++)
		same = strcmp(one->words[i], other->words[i]) == 0;
	return !same;
}

static int run(struct invocation *call)
{
	if (!option_given(call, "limit") && !option_given(call, "restart") &&
		!option_given(call, "probe")) {
		struct th_error err = {0};
		struct line line, before;

		th_fail(&err, TH_USAGE, "nothing to adjust");
		line_get(&before);
		line_get(&line);
		/* "adjust web memory=64M" */
		if (right_line(call->verb, &line) && differs(&line, &before))
			line_hint(&err, "it is: ", &line);
		else
			th_hint(&err,
				"give a change, for example --limit "
				"memory=512M or --restart always");
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
	.called = "update set limit configure change modify",
	.takes = "container",
	.summary = "change limits, restart policy or probe, even while it runs",
	.usage = "CONTAINER... OPTIONS",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK,
	.least = 0,
	.most = -1,
	.run = run};
