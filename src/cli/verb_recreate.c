/* recreate: the same container anew, with some settings changed. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "view/describe.h"
#include "cli/output.h"
#include "cli/remaking.h"
#include "cli/replacing.h"
#include "cli/verbs.h"

static int plan(struct invocation *call, struct th_container_row *row,
	struct invocation *merged, struct making *making)
{
	struct th_problems problems = {0};
	int code = EXIT_DONE;

	making->settings.name = row->name;
	making->settings.replaces = row->id;
	th_container_check(&call->hull.context, &making->settings, &problems);
	if (problems.count)
		code = say_problems("recreate", row->name, &problems);
	else
		making_print_plan(merged, &making->settings);
	th_problems_release(&problems);
	return code;
}

/* Of a group: it is not as the file describes it any more, which the next
 * launch is to see. */
static int mark_member(struct invocation *call,
	const struct th_container_row *row, struct th_member *member,
	struct th_error *err)
{
	static const char mark[] = " by-hand=1";
	int rc = th_member_get(
		call->hull.context.store->db, row->id, member, err);
	size_t len = strlen(member->settings);

	if (rc == 1 && !strstr(member->settings, mark) &&
		len + sizeof(mark) <= sizeof(member->settings))
		memcpy(member->settings + len, mark, sizeof(mark));
	return rc;
}

static int run(struct invocation *call)
{
	struct invocation merged;
	struct th_object object;
	struct making making;
	struct th_member member = {0};
	struct th_error err = {0};
	int code;

	if (th_object_find(&call->hull.context, call->objects[0],
		    TH_KIND_CONTAINER, &object, &err))
		return say_error(&err);
	if (remaking_read(call, &object.container, &making, &merged, &err))
		code = say_error(&err);
	else if (making.plan)
		code = plan(call, &object.container, &merged, &making);
	else if (mark_member(call, &object.container, &member, &err) < 0)
		code = say_error(&err);
	else {
		making.settings.member = member.group[0] ? &member : NULL;
		code = replacing_run(call, &object.container, &making,
			option_given(call, "start"));
	}
	free(merged.options == call->options ? NULL : merged.options);
	making_release(&making);
	th_object_release(&object);
	return code;
}

static const struct option_spec options[] = {MAKING_SETTINGS,
	{"image", "IMAGE", "another image"},
	{"start", NULL, "start it also where it did not run"},
	{"without", "SETTING",
		"leave a setting out: port=80, env=MODE, restart"},
	REPLACING_OPTIONS, MAKING_PLAN, {NULL, NULL, NULL}};

static const char *const text[] = {
	"Settings that are not given stay as they are; --port, --mount and",
	"--env replace the one with the same place inside. What was written to",
	"its files goes; volumes and folders stay, and so do its name and its",
	"ports: whoever connects meanwhile waits. If it ran, the new one has "
	"to",
	"be ready in time, or everything is as it was before.", NULL};

static const char *const examples[] = {
	"tidyhull recreate gauge-north --env STATION=south",
	"tidyhull recreate gauge-north --port 80=8090 --without restart",
	"tidyhull recreate ledger --image selwick/ledger:2 --ready-within 2m",
	NULL};

const struct verb verb_recreate = {.name = "recreate",
	.group = "containers",
	.summary = "the same container anew, with some settings changed",
	.usage = "CONTAINER [OPTIONS] [-- COMMAND...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS | VERB_REGISTRIES | VERB_COMMAND |
		VERB_JSON,
	.least = 1,
	.most = 1,
	.run = run};
