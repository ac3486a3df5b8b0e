#include "cli/replacing.h"

#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "view/describe.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "container/replace.h"

#define READY_MS 60000

static int say_failure(struct invocation *call,
	const struct th_container_row *row,
	const struct th_replacing *replacing, struct th_error *err)
{
	bool ran = row->state == TH_STATE_RUNNING ||
		row->state == TH_STATE_PAUSED || row->state == TH_STATE_WAITING;
	char reason[sizeof(err->msg)];
	int code;

	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg), "cannot %s \"%s\": %.400s",
		call->verb->name, row->name, reason);
	code = say_error(err);
	say_last_words(replacing->words);
	if (replacing->went_back)
		fprintf(stderr, "  %s is as it was before%s\n",
			shown(row->name), ran ? ", and runs" : "");
	return code;
}

static void print_result(struct invocation *call,
	const struct th_container_row *before,
	const struct th_container_row *row)
{
	char reach[512];

	if (call->quiet) {
		printf("%s\n", row->id);
		return;
	}
	th_view_reach(&call->hull.context, row->id, reach, sizeof(reach));
	printf("%s %s (%s)%s%s\n",
		strcmp(call->verb->name, "restart") == 0 ? "restarted"
							 : "recreated",
		row->name, row->id, reach[0] ? ", port " : "", reach);
	if (strcmp(row->image, before->image) != 0)
		printf("  image %s is now %.12s, before %.12s\n",
			row->image_name, th_digest_hex(row->image),
			th_digest_hex(before->image));
}

int replacing_run(struct invocation *call, struct th_container_row *row,
	struct making *making, bool start)
{
	struct th_replacing replacing = {.settings = &making->settings,
		.start = start,
		.until_ready = true,
		.ready_ms = READY_MS};
	struct th_problems problems = {0};
	struct th_container_row now;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (read_grace(call, &replacing.grace_ms, &err) ||
		read_span(call, "ready-within", &replacing.ready_ms, &err))
		return say_error(&err);
	if (th_container_replace(&call->hull.context, row, &replacing,
		    &problems, &now, &err)) {
		code = problems.count
			? say_problems(call->verb->name, row->name, &problems)
			: say_failure(call, row, &replacing, &err);
	} else {
		making_note(call, &making->settings);
		if (call->json)
			code = print_json(
				th_view_container(&call->hull.context, &now));
		else
			print_result(call, row, &now);
	}
	th_problems_release(&problems);
	return code;
}
