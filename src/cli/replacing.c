#include "cli/replacing.h"

#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/shown.h"

#define READY_MS 60000

static int say_failure(struct invocation *call, const json_t *before,
	const json_t *failure, struct th_error *err)
{
	const char *name = doc_text(before, "name");
	char reason[sizeof(err->msg)];
	int code;

	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg), "cannot %s \"%.60s\": %.400s",
		call->verb->name, name, reason);
	code = say_error(err);
	say_last_words(doc_text(failure, "last-words"));
	if (doc_flag(failure, "went-back"))
		fprintf(stderr, "  %s is as it was before%s\n", shown(name),
			is_up(before) ? ", and runs" : "");
	return code;
}

static void print_result(
	struct invocation *call, const json_t *before, const json_t *now)
{
	const char *image = doc_text(now, "image-digest");
	const char *former = doc_text(before, "image-digest");
	char reach[512];

	if (call->quiet) {
		printf("%s\n", doc_text(now, "id"));
		return;
	}
	reach_text(now, reach, sizeof(reach));
	printf("%s %s (%s)%s%s\n",
		strcmp(call->verb->name, "restart") == 0 ? "restarted"
							 : "recreated",
		doc_text(now, "name"), doc_text(now, "id"),
		reach[0] ? ", port " : "", reach);
	if (strcmp(image, former) != 0)
		printf("  image %s is now %.12s, before %.12s\n",
			doc_text(now, "image"), short_digest(image),
			short_digest(former));
}

int replacing_run(struct invocation *call, const json_t *before,
	const struct making *making, bool start, bool by_hand)
{
	struct th_replacement how = {
		.start = start, .by_hand = by_hand, .ready_ms = READY_MS};
	struct th_error err = {0};
	json_t *now = NULL;
	int code = EXIT_DONE;

	if (read_grace(call, &how.grace_ms, &err) ||
		read_span(call, "ready-within", &how.ready_ms, &err))
		return say_error(&err);
	if (th_container_remake(call->hull, doc_text(before, "id"),
		    making->settings, &how, &now, &err)) {
		code = doc_part(now, "problems")
			? say_problems(call->verb->name,
				  doc_text(before, "name"), now, &err)
			: say_failure(call, before, now, &err);
	} else {
		making_note(call, now);
		if (call->json)
			return print_json(now);
		print_result(call, before, now);
	}
	json_decref(now);
	return code;
}
