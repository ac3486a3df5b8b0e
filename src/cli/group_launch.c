#include "cli/group_launch.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/choose.h"
#include "cli/doc.h"
#include "cli/each.h"
#include "cli/group_parts.h"
#include "cli/group_progress.h"
#include "cli/output.h"
#include "cli/settings_text.h"
#include "cli/shown.h"

#define READY_MS 60000

/* ---- what is asked for ---- */

/* Options that are settings would be those of which container? */
static int check_options(const struct invocation *call, struct th_error *err)
{
	static const char *const own[] = {"settings", "given", "plan", "fetch",
		"ready-within", "grace", "on-failure", "root", "config", "json",
		"quiet", "yes"};

	if (call->object_count || call->has_command) {
		th_fail(err, TH_USAGE,
			"a group's containers have their images and commands "
			"in the file");
		return th_hint(err, "leave the %s out",
			call->has_command ? "command" : "image");
	}
	for (int i = 0; i < call->option_count; i++) {
		bool known = false;

		for (size_t k = 0; k < sizeof(own) / sizeof(*own); k++)
			known |= strcmp(call->options[i].name, own[k]) == 0;
		if (known)
			continue;
		th_fail(err, TH_USAGE,
			"--%s does not say which container of the group it is "
			"for",
			call->options[i].name);
		return th_hint(err,
			"write it into the file, with a value that --given "
			"sets");
	}
	return 0;
}

static int read_options(struct launching *launching, struct th_error *err)
{
	struct invocation *call = launching->call;
	const char *on_failure = option_value(call, "on-failure");

	if (check_options(call, err))
		return -1;
	if (on_failure && strcmp(on_failure, "keep") != 0 &&
		strcmp(on_failure, "undo") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --on-failure; use keep or "
			"undo",
			on_failure);
	launching->how.undo = on_failure && strcmp(on_failure, "undo") == 0;
	launching->how.ready_ms = READY_MS;
	return read_grace(call, &launching->how.grace_ms, err) ||
			read_span(call, "ready-within",
				&launching->how.ready_ms, err)
		? -1
		: 0;
}

/* ---- the containers of the file ---- */

static void add_problem(const struct launching *launching, const json_t *one,
	const struct th_error *err, json_t *problems)
{
	char text[sizeof(err->msg) + 300];

	snprintf(text, sizeof(text), "%.150s, line %d, column %d: %.60s: %s",
		option_value(launching->call, "settings"),
		(int)doc_number(one, "line"), (int)doc_number(one, "column"),
		doc_text(one, "name"), err->msg);
	json_array_append_new(problems,
		json_pack("{s:i s:s s:s}", "code", (int)err->code, "message",
			text, "hint", err->hint));
}

/* As an invocation of its own: the file's words are options. */
static int read_settings(struct launching *launching, const json_t *one,
	struct making *making, struct th_error *err)
{
	struct invocation own = *launching->call;
	const char *fetch = option_value(launching->call, "fetch");
	char *recipe[2] = {(char *)(uintptr_t)doc_text(one, "build"), NULL};
	int rc;

	own.options = calloc(3, sizeof(*own.options));
	if (!own.options)
		return th_fail_memory(err);
	own.option_count = 0;
	own.options[own.option_count++] =
		(struct given_option){"name", doc_text(one, "name")};
	if (fetch)
		own.options[own.option_count++] =
			(struct given_option){"fetch", fetch};
	if (*recipe[0]) {
		own.objects = recipe;
		own.object_count = 1;
	}
	rc = settings_file_merge(&own, one, err);
	if (rc == 0)
		rc = making_read(&own, making, false, err);
	if (own.objects != recipe)
		free(own.objects);
	free(own.options);
	return rc;
}

static void read_one(struct launching *launching, const json_t *one,
	json_t *list, json_t *problems)
{
	static const char *const same[] = {
		"member", "after", "line", "column", "build"};
	struct making making = {.settings = NULL};
	struct th_error err = {0};
	json_t *made = json_object();

	if (read_settings(launching, one, &making, &err))
		add_problem(launching, one, &err, problems);
	for (size_t i = 0; i < sizeof(same) / sizeof(*same); i++)
		json_object_set(made, same[i], json_object_get(one, same[i]));
	json_object_set(made, "settings", making.settings);
	json_array_append_new(list, made);
	making_release(&making);
}

/* What the library wants of the group; or the problems. */
static void read_all(struct launching *launching, json_t *problems)
{
	const json_t *file = launching->file, *one;
	json_t *list = json_array();
	size_t i;

	json_array_foreach(doc_part(file, "containers"), i, one)
	{
		read_one(launching, one, list, problems);
	}
	launching->group = json_pack("{s:O s:O s:O s:o}", "name",
		json_object_get(file, "group"), "networks",
		json_object_get(file, "networks"), "volumes",
		json_object_get(file, "volumes"), "containers", list);
	doc_set(launching->group, "file",
		option_value(launching->call, "settings"));
}

/* ---- what is to be done ---- */

static const char *build_of(const struct launching *launching, size_t at)
{
	return doc_text(
		json_array_get(doc_part(launching->group, "containers"), at),
		"build");
}

static const char *because(const json_t *act, const char *build, char text[200])
{
	const char *word = doc_text(act, "act");

	if (strcmp(word, "create") == 0)
		return "there is none";
	if (strcmp(word, "start") == 0)
		return "it does not run";
	if (strcmp(word, "remove") == 0)
		return "the file no longer has it";
	if (strcmp(word, "recreate") == 0) {
		snprintf(text, 200, "changed: %.180s", doc_text(act, "why"));
		return text;
	}
	return *build ? shown(build) : "it is as described";
}

static void print_plan(const struct launching *launching, const json_t *acts)
{
	struct table *table = table_new();
	const json_t *act;
	bool any = false;
	char text[200];
	size_t i;

	table_column(table, "container", 0);
	table_column(table, "what is done", 0);
	table_column(table, "because", TABLE_BREAK);
	json_array_foreach(acts, i, act)
	{
		bool leave = strcmp(doc_text(act, "act"), "leave") == 0;
		const char *build = build_of(launching, i);

		any |= !leave || *build;
		table_row(table);
		table_cell(table, "bold", "%s", doc_text(act, "container"));
		table_cell(table, leave ? "darkgray" : NULL, "%s",
			leave && *build ? "build, then see"
					: doc_text(act, "act"));
		table_cell(table, NULL, "%s", because(act, build, text));
	}
	table_print(table);
	puts(any ? "nothing was changed"
		 : "there is nothing to do, and nothing was changed");
}

/* Those that the file no longer has: a person is asked, a script is not. False
 * where nothing is to be done at all. */
static bool confirm_gone(
	struct launching *launching, const json_t *acts, struct th_error *err)
{
	char names[200] = "", question[300];
	const json_t *act;
	size_t gone = 0, i;

	json_array_foreach(acts, i, act)
	{
		size_t used = strlen(names);

		if (strcmp(doc_text(act, "act"), "remove") != 0)
			continue;
		gone++;
		snprintf(names + used, sizeof(names) - used, "%s%s",
			used ? ", " : "", doc_text(act, "container"));
	}
	if (!gone || launching->call->yes)
		return true;
	snprintf(question, sizeof(question),
		"the file no longer has %s: remove %s?", names,
		gone == 1 ? "it" : "them");
	if (isatty(0) && on_terminal()) {
		/* Otherwise they stay as they are. */
		launching->how.leave_gone = !choose_yes(question);
		return true;
	}
	th_fail(err, TH_USAGE,
		"the file no longer has %s, which would be removed", names);
	th_hint(err, "add --yes to remove %s, or put %s back into the file",
		gone == 1 ? "it" : "them", gone == 1 ? "it" : "them");
	return false;
}

/* ---- the whole ---- */

static void tell_waiting(void *owner)
{
	const struct group_progress *progress = owner;

	if (!progress->call->quiet)
		fputs("note: another command changes the group; waiting for "
		      "it\n",
			stderr);
}

static int bring_up(struct launching *launching, const json_t *acts)
{
	struct group_progress progress = {.call = launching->call};
	struct th_error err = {0};
	json_t *outcome = NULL;
	int code, rc;

	if (!confirm_gone(launching, acts, &err) ||
		build_images(launching, &err))
		return say_error(&err);
	launching->how.tell = group_progress_tell;
	launching->how.waits = tell_waiting;
	launching->how.owner = &progress;
	group_progress_begin(&progress);
	rc = th_group_launch(launching->call->hull, launching->group,
		&launching->how, &outcome, &err);
	code = doc_part(outcome, "problems")
		? say_problems("launch", doc_text(launching->group, "name"),
			  outcome, &err)
		: group_progress_end(&progress, outcome, rc, &err);
	json_decref(outcome);
	return code;
}

static int look_and_launch(struct launching *launching)
{
	struct invocation *call = launching->call;
	struct th_error err = {0};
	json_t *look = NULL;
	int code = EXIT_DONE;

	if (th_group_look(call->hull, launching->group, &look, &err))
		code = say_problems("launch",
			doc_text(launching->group, "name"), look, &err);
	else if (option_given(call, "plan"))
		print_plan(launching, doc_part(look, "acts"));
	else
		code = bring_up(launching, doc_part(look, "acts"));
	json_decref(look);
	return code;
}

int group_launch(struct invocation *call, const json_t *file)
{
	struct launching launching = {.call = call, .file = file};
	json_t *wrong = json_pack("{s:[]}", "problems");
	struct th_error err = {0};
	int code;

	if (read_options(&launching, &err)) {
		code = say_error(&err);
	} else {
		read_all(&launching, doc_part(wrong, "problems"));
		code = doc_count(wrong, "problems")
			? say_problems("launch", doc_text(file, "group"), wrong,
				  &err)
			: look_and_launch(&launching);
	}
	json_decref(launching.group);
	json_decref(wrong);
	return code;
}
