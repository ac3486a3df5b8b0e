/* why: in plain words why a container is in the state that it is in. */
#include <stdio.h>
#include <string.h>

#include "base/json.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "container/why.h"
#include "view/look.h"

static void print_last_line(const struct th_last_line *line)
{
	printf("  %s", line->err ? "(err) " : "");
	if (colours())
		print_written(stdout, line->text, strlen(line->text));
	else
		fputs(shown(line->text), stdout);
	putchar('\n');
}

static void print(const struct th_container_row *row, const struct th_why *why)
{
	bool ended = row->state == TH_STATE_STOPPED ||
		row->state == TH_STATE_WAITING;

	for (size_t i = 0; i < why->sentences.count; i++)
		puts(shown(why->sentences.items[i]));
	for (size_t i = 0; i < why->advice.count; i++)
		printf("  %s\n", shown(why->advice.items[i]));
	if (why->line_count)
		puts("its last output:");
	else if (row->state != TH_STATE_CREATED &&
		row->state != TH_STATE_PAUSED)
		puts("it has not written anything");
	for (size_t i = 0; i < why->line_count; i++)
		print_last_line(&why->lines[i]);
	if (ended)
		printf("see also: tidyhull timeline %s, tidyhull logs %s\n",
			row->name, row->name);
}

static void hint_past(
	struct invocation *call, const char *name, struct th_error *err)
{
	char id[TH_ID_LENGTH + 1];
	struct th_error ignored = {0}; /* a hint only */

	if (th_state_last_named(
		    call->hull.context.store->db, name, id, &ignored) != 1)
		return;
	err->hint[0] = '\0';
	th_hint(err,
		"it existed and was removed: tidyhull timeline %.60s shows how "
		"it ended; run --keep keeps it",
		name);
}

static int run(struct invocation *call)
{
	json_t *list = json_array();
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		struct th_object object;
		struct th_error err = {0};
		struct th_why why;

		if (th_object_find(&call->hull.context, call->objects[i],
			    TH_KIND_CONTAINER, &object, &err) ||
			th_why(&call->hull.context, &object.container, &why,
				&err)) {
			/* It may have been one that was not kept. */
			if (err.code == TH_NOT_FOUND)
				hint_past(call, call->objects[i], &err);
			code = say_error(&err);
			continue;
		}
		if (call->json) {
			json_array_append_new(
				list, th_view_why(&object.container, &why));
		} else {
			if (i > 0)
				putchar('\n');
			print(&object.container, &why);
		}
		th_why_release(&why);
		th_object_release(&object);
	}
	if (call->json)
		print_json(json_pack("{s:O}", "containers", list));
	json_decref(list);
	return code;
}

static const char *const text[] = {"Draws on its events, how it ended, its "
				   "restart policy, its probe and the",
	"last lines of its log, and suggests what to do.", NULL};

static const char *const examples[] = {"tidyhull why gauge-north", NULL};

const struct verb verb_why = {.name = "why",
	.group = "look",
	.summary = "explain why a container is in its state",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS,
	.least = 1,
	.most = -1,
	.run = run};
