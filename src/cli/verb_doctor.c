/* doctor: is this host able? */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "cli/output.h"
#include "cli/programs.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "container/ability.h"

/* What several features lack in the same way is said once. */
static void print_advice(const struct th_ability *list, size_t count)
{
	for (size_t i = 0; i < count; i++) {
		bool same = i + 1 < count &&
			strcmp(list[i].advice, list[i + 1].advice) == 0;
		bool first = i == 0 ||
			strcmp(list[i].advice, list[i - 1].advice) != 0;

		if (!list[i].advice[0])
			continue;
		printf("%s%s", first ? "\n" : ", ", list[i].what);
		if (!same)
			printf("\n  %s\n", list[i].advice);
	}
}

static json_t *describe_finding(const struct th_finding *one)
{
	return json_pack("{s:s s:s s:s s:s}", "part", th_part_word(one->part),
		"what", one->what, "finding", one->text, "mended", one->mended);
}

static void print_findings(const struct th_findings *findings, size_t open)
{
	struct table *table = table_new();

	table_column(table, "part", false);
	table_column(table, "what", false);
	table_column(table, "finding", false);
	table_column(table, "mended", false);
	for (size_t i = 0; i < findings->count; i++) {
		const struct th_finding *one = &findings->list[i];

		table_row(table);
		table_cell(table, NULL, "%s", th_part_word(one->part));
		table_cell(table, "bold", "%s", shown(one->what));
		table_cell(table, one->mended[0] ? "yellow" : "red", "%s",
			shown(one->text));
		table_cell(table, one->mended[0] ? "green" : NULL, "%s",
			one->mended[0] ? one->mended : "no");
	}
	if (findings->count) {
		table_print(table);
		putchar('\n');
	} else {
		table_drop(table);
	}
	printf("looked at the database, %zu image%s (%zu blobs, %zu layers), "
	       "%zu container%s, %zu volume%s, what runs, and the host: ",
		findings->images, findings->images == 1 ? "" : "s",
		findings->blobs, findings->trees, findings->containers,
		findings->containers == 1 ? "" : "s", findings->volumes,
		findings->volumes == 1 ? "" : "s");
	if (!findings->count)
		puts("all is well");
	else if (!open)
		puts("all that was found is mended");
	else
		printf("%zu finding%s\n", open, open == 1 ? "" : "s");
}

static int check(struct invocation *call)
{
	struct th_findings *findings = &call->hull.findings;
	struct th_error err = {0};
	json_t *list = json_array();
	size_t open = 0;

	if (th_check(&call->hull.context, option_given(call, "repair"),
		    findings, &err)) {
		json_decref(list);
		return say_error(&err);
	}
	for (size_t i = 0; i < findings->count; i++) {
		open += !findings->list[i].mended[0];
		json_array_append_new(
			list, describe_finding(&findings->list[i]));
	}
	if (call->json)
		print_json(json_pack("{s:b s:o s:I s:I s:I s:I s:I}", "whole",
			open == 0, "findings", json_incref(list), "images",
			(json_int_t)findings->images, "blobs",
			(json_int_t)findings->blobs, "layers",
			(json_int_t)findings->trees, "containers",
			(json_int_t)findings->containers, "volumes",
			(json_int_t)findings->volumes));
	else
		print_findings(findings, open);
	json_decref(list);
	return open ? EXIT_FAILED : EXIT_DONE;
}

/* Tries what it tells of, in this process: nothing can follow it. */
static int look_at_host(struct invocation *call)
{
	struct th_ability list[TH_ABILITIES_MAX];
	char keeper[PROGRAM_PATH], pilot[PROGRAM_PATH];
	const struct th_ability_user user = {
		call->hull.caller.unprivileged ? call->hull.caller.name : NULL,
		call->hull.caller.uid, call->hull.caller.gid,
		th_hull_has_bus(&call->hull), .store = call->hull.root};
	size_t count = th_ability_check(&user, list), missing = 0;
	bool has_keeper = program_path("tidyhull-keeper", keeper);
	bool has_pilot = program_path("tidyhull-pilot", pilot) ||
		!call->hull.caller.unprivileged;
	json_t *checks = json_array();
	struct table *table = table_new();

	table_column(table, "what", false);
	table_column(table, "here", false);
	table_column(table, "needed for", false);
	for (size_t i = 0; i < count; i++) {
		missing += list[i].state == TH_ABILITY_MISSING;
		table_row(table);
		table_cell(table, NULL, "%s", list[i].what);
		table_cell(table,
			list[i].state == TH_ABILITY_THERE	   ? "green"
				: list[i].state == TH_ABILITY_LESS ? "yellow"
								   : "red",
			"%s", list[i].here);
		table_cell(table, NULL, "%s", list[i].use);
		json_array_append_new(checks,
			json_pack("{s:s s:b s:s s:s s:s}", "what", list[i].what,
				"able", list[i].state != TH_ABILITY_MISSING,
				"here", list[i].here, "use", list[i].use,
				"advice", list[i].advice));
	}
	missing += !has_keeper + !has_pilot;
	if (call->json) {
		print_json(json_pack("{s:s s:s s:s s:s s:b s:o}", "version",
			TH_VERSION, "mode",
			call->hull.caller.unprivileged ? "user" : "root",
			"root", call->hull.root, "keeper", keeper, "able",
			missing == 0, "checks", json_incref(checks)));
		table_drop(table);
	} else {
		printf("tidyhull %s, %s\n", TH_VERSION,
			call->hull.caller.unprivileged
				? "as an unprivileged user"
				: "as root");
		printf("store    %s\n", call->hull.root);
		printf("running  %s\n", call->hull.run);
		printf("keeper   %s%s\n", keeper,
			has_keeper ? "" : " (missing)");
		if (call->hull.caller.unprivileged)
			printf("pilot    %s%s\n", pilot,
				has_pilot ? "" : " (missing)");
		putchar('\n');
		table_print(table);
		print_advice(list, count);
		puts(missing ? "\nthis host lacks something that Tidy Hull "
			       "needs"
			     : "\nthis host has everything that Tidy Hull "
			       "needs");
	}
	json_decref(checks);
	return missing ? EXIT_NOT_POSSIBLE : EXIT_DONE;
}

static int run(struct invocation *call)
{
	return call->hull.context.store ? check(call) : look_at_host(call);
}

static const char *const text[] = {
	"Shows version and paths, checks each kernel feature that is used, and",
	"explains how to get what is missing. Changes nothing.", "",
	"With --verify, the store is looked at instead: its database, each "
	"image",
	"with the digests of its blobs, containers, volumes, and what is left "
	"of",
	"them on the host. With --repair, what can be mended is: what the disk "
	"has",
	"and the state does not know is taken up again, and a damaged database "
	"is",
	"put aside and made anew from what is on the disk. Nothing that a "
	"container",
	"has written is removed.", NULL};

static const struct option_spec options[] = {
	{"verify", NULL, "check that the store is whole"},
	{"repair", NULL, "the same, and mend what can be mended"},
	{NULL, NULL, NULL}};

static const char *const examples[] = {
	"tidyhull doctor", "tidyhull doctor --verify", NULL};

const struct verb verb_doctor = {.name = "doctor",
	.group = "start here",
	.summary =
		"check what this host can do, and whether the store is whole",
	.usage = "",
	.options = options,
	.text = text,
	.examples = examples,
	.flags = VERB_JSON | VERB_CHECKS,
	.least = 0,
	.most = 0,
	.run = run};
