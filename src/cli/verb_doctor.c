/* doctor: is this host able? */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "cli/output.h"
#include "cli/programs.h"
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

static int run(struct invocation *call)
{
	struct th_ability list[TH_ABILITIES_MAX];
	char keeper[PROGRAM_PATH], pilot[PROGRAM_PATH];
	const struct th_ability_user user = {
		call->caller.unprivileged ? call->caller.name : NULL,
		call->caller.uid, call->caller.gid, caller_has_bus(),
		.store = call->root};
	size_t count = th_ability_check(&user, list), missing = 0;
	bool has_keeper = program_path("tidyhull-keeper", keeper);
	bool has_pilot = program_path("tidyhull-pilot", pilot) ||
		!call->caller.unprivileged;
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
			call->caller.unprivileged ? "user" : "root", "root",
			call->root, "keeper", keeper, "able", missing == 0,
			"checks", json_incref(checks)));
		table_drop(table);
	} else {
		printf("tidyhull %s, %s\n", TH_VERSION,
			call->caller.unprivileged ? "as an unprivileged user"
						  : "as root");
		printf("store    %s\n", call->root);
		printf("running  %s\n", call->run);
		printf("keeper   %s%s\n", keeper,
			has_keeper ? "" : " (missing)");
		if (call->caller.unprivileged)
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

static const char *const text[] = {
	"Shows version and paths, checks each kernel feature that is used, and",
	"explains how to get what is missing. Changes nothing.", NULL};

static const char *const examples[] = {"tidyhull doctor", NULL};

const struct verb verb_doctor = {.name = "doctor",
	.group = "start here",
	.summary = "check what this host can do, and what is missing",
	.usage = "",
	.text = text,
	.examples = examples,
	.flags = VERB_JSON,
	.least = 0,
	.most = 0,
	.run = run};
