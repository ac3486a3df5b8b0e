#include "cli/group_progress.h"

#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/output.h"
#include "cli/shown.h"

static bool is_silent(const struct group_progress *progress)
{
	return progress->call->quiet || progress->call->json;
}

void group_progress_begin(struct group_progress *progress)
{
	progress->began_us = th_clock_now_us();
	fflush(stdout);
}

static bool is_act(const json_t *step, const char *act)
{
	return strcmp(doc_text(step, "act"), act) == 0;
}

/* What is said of each act of docs/json.md, once it is done. */
static const char *done_word(const json_t *step)
{
	return is_act(step, "start")	   ? "started"
		: is_act(step, "create")   ? "launched"
		: is_act(step, "recreate") ? "recreated"
		: is_act(step, "remove")   ? "removed"
					   : "left as it was";
}

static void print_done(struct group_progress *progress, const json_t *step)
{
	const char *name = shown(doc_text(step, "container"));
	char reach[512], span[TH_TIME_TEXT];

	if (doc_flag(step, "ready")) {
		th_clock_span(th_clock_now_us() - progress->began_us, span);
		printf("  %-16s ready after %s\n", name, span);
		return;
	}
	reach_text(doc_part(step, "now"), reach, sizeof(reach));
	printf("  %-16s %s", name, done_word(step));
	if (is_act(step, "recreate"))
		printf(", as it was changed: %s", doc_text(step, "why"));
	if (is_act(step, "remove"))
		fputs(", as the file no longer has it", stdout);
	printf("%s%s\n", reach[0] ? "; port " : "", reach);
}

static void print_failed(const json_t *step)
{
	const json_t *error = doc_part(step, "error");
	const char *name = doc_text(step, "container");

	fprintf(stderr, "tidyhull: cannot %s \"%s\": %s\n",
		is_act(step, "leave") ? "use" : doc_text(step, "act"),
		shown(name), shown(doc_text(error, "message")));
	if (*doc_text(error, "hint"))
		fprintf(stderr, "  %s\n", shown(doc_text(error, "hint")));
	say_last_words(doc_text(step, "last-words"));
	if (doc_flag(step, "went-back"))
		fprintf(stderr, "  %s is as it was before%s\n", shown(name),
			doc_flag(step, "ran") ? ", and runs" : "");
}

void group_progress_tell(void *owner, const json_t *step)
{
	struct group_progress *progress = owner;
	bool ready = doc_flag(step, "ready"), leave = is_act(step, "leave");

	if (strcmp(doc_text(step, "step"), "failed") == 0) {
		progress->failed = true;
		fflush(stdout);
		print_failed(step);
	} else if (progress->call->quiet && !ready && !leave &&
		!is_act(step, "remove")) {
		printf("%s\n", doc_text(doc_part(step, "now"), "id"));
	} else if (!is_silent(progress) && (!leave || !ready)) {
		print_done(progress, step);
		fflush(stdout);
	}
}

int group_progress_left(const struct group_progress *progress,
	const json_t *outcome, const struct th_error *err)
{
	struct th_buf left;

	/* What stood in the way of all of it has not been told. */
	if (!progress->failed)
		return say_error(err);
	doc_join(outcome, "left-out", ", ", &left);
	if (left.len)
		fprintf(stderr, "  not begun: %s\n", shown(left.data));
	th_buf_release(&left);
	return exit_code_of(err->code);
}

/* One that ended at once was up, too: it is told, and no failure. */
static size_t count_up(
	const struct group_progress *progress, const json_t *containers)
{
	const json_t *one;
	size_t up = 0, i;
	char state[96];

	json_array_foreach(containers, i, one)
	{
		if (is_state(one, "running") || is_state(one, "paused")) {
			up++;
			continue;
		}
		state_text(one, state);
		if (!is_silent(progress) && doc_flag(one, "did"))
			printf("  %-16s %s\n", shown(doc_text(one, "name")),
				state);
	}
	return up;
}

static int print_outcome(json_t *outcome)
{
	json_t *one;
	size_t i;

	json_array_foreach(doc_part(outcome, "containers"), i, one)
	{
		json_object_del(one, "did");
	}
	return print_json(json_pack("{s:s s:O s:O}", "kind", "group", "name",
		json_object_get(outcome, "name"), "containers",
		json_object_get(outcome, "containers")));
}

int group_progress_end(const struct group_progress *progress, json_t *outcome,
	int rc, const struct th_error *err)
{
	const struct invocation *call = progress->call;
	const json_t *containers = doc_part(outcome, "containers");
	const char *name = doc_text(outcome, "name");
	bool undone = doc_flag(outcome, "undone");
	int code = rc ? group_progress_left(progress, outcome, err) : EXIT_DONE;
	size_t up;

	if (!outcome)
		return code;
	if (undone)
		fprintf(stderr, "  the group \"%s\" is as it was before\n",
			shown(name));
	if (call->json)
		return print_outcome(outcome) ? EXIT_FAILED : code;
	up = count_up(progress, containers);
	if (is_silent(progress) || undone)
		return code;
	printf("group %s: %zu of %zu containers run\n", shown(name), up,
		json_array_size(containers));
	if (rc)
		printf("  look: tidyhull list --all; again, once it is mended: "
		       "tidyhull launch --settings %s\n",
			shown(option_value(call, "settings")));
	return code;
}
