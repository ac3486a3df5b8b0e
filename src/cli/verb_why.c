/* why: in plain words why a container is in the state that it is in. */
#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"

static void print_last_line(const json_t *line)
{
	const char *text = doc_text(line, "text");

	printf("  %s",
		strcmp(doc_text(line, "stream"), "err") == 0 ? "(err) " : "");
	if (colours())
		print_written(stdout, text, strlen(text));
	else
		fputs(shown(text), stdout);
	putchar('\n');
}

static void print(const json_t *why)
{
	const json_t *sentences = doc_part(why, "sentences");
	const json_t *advice = doc_part(why, "advice");
	const json_t *lines = doc_part(why, "last-lines");
	const char *name = doc_text(why, "name");

	for (size_t i = 0; i < json_array_size(sentences); i++)
		puts(shown(doc_item(sentences, i)));
	for (size_t i = 0; i < json_array_size(advice); i++)
		printf("  %s\n", shown(doc_item(advice, i)));
	if (json_array_size(lines))
		puts("its last output:");
	else if (!is_state(why, "created") && !is_state(why, "paused"))
		puts("it has not written anything");
	for (size_t i = 0; i < json_array_size(lines); i++)
		print_last_line(json_array_get(lines, i));
	if (is_state(why, "stopped") || is_state(why, "waiting"))
		printf("see also: tidyhull timeline %s, tidyhull logs %s\n",
			name, name);
}

static void hint_past(
	struct invocation *call, const char *name, struct th_error *err)
{
	struct th_error ignored = {0}; /* a hint only */

	if (th_past(call->hull, name, NULL, &ignored))
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
		struct th_error err = {0};
		json_t *why = NULL;

		if (th_container_reason(
			    call->hull, call->objects[i], &why, &err)) {
			/* It may have been one that was not kept. */
			if (err.code == TH_NOT_FOUND)
				hint_past(call, call->objects[i], &err);
			code = say_error(&err);
			continue;
		}
		if (!call->json && i > 0)
			putchar('\n');
		if (!call->json)
			print(why);
		json_array_append_new(list, why);
	}
	if (call->json)
		print_json(json_pack("{s:O}", "containers", list));
	json_decref(list);
	return code;
}

static const char *const text[] = {"Draws on its events, how it ended, its "
				   "restart policy, its probe and the",
	"last lines of its log, and suggests what to do.", NULL};

static const char *const examples[] = {"tidyhull why gauge-north",
	"tidyhull why gauge-north ledger --json", NULL};

const struct verb verb_why = {.name = "why",
	.group = "look",
	.called = "explain reason debug status cause health",
	.takes = "container",
	.summary = "explain why a container is in its state",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS,
	.least = 1,
	.most = -1,
	.run = run};
