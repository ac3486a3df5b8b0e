/* doctor: is this host able? */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/shown.h"
#include "cli/verbs.h"

/* ---- the store ---- */

static void print_count(const char *before, long long count, const char *what)
{
	printf("%s%lld %s%s", before, count, what, count == 1 ? "" : "s");
}

static void print_looked_at(const json_t *doc)
{
	print_count("looked at the database, ",
		(long long)doc_number(doc, "images"), "image");
	printf(" (%lld blobs, %lld layers)",
		(long long)doc_number(doc, "blobs"),
		(long long)doc_number(doc, "layers"));
	print_count(
		", ", (long long)doc_number(doc, "containers"), "container");
	print_count(", ", (long long)doc_number(doc, "volumes"), "volume");
	printf(", what runs, and the host: ");
}

static void print_findings(const json_t *doc, size_t open)
{
	const json_t *findings = doc_part(doc, "findings"), *one;
	struct table *table = table_new();
	size_t i;

	table_column(table, "part", 0);
	table_column(table, "what", 0);
	table_column(table, "finding", TABLE_BREAK);
	table_column(table, "mended", 0);
	json_array_foreach(findings, i, one)
	{
		const char *mended = doc_text(one, "mended");

		table_row(table);
		table_cell(table, NULL, "%s", doc_text(one, "part"));
		table_cell(table, "bold", "%s", shown(doc_text(one, "what")));
		table_cell(table, *mended ? "yellow" : "red", "%s",
			shown(doc_text(one, "finding")));
		table_cell(table, *mended ? "green" : NULL, "%s",
			*mended ? mended : "no");
	}
	if (json_array_size(findings)) {
		table_print(table);
		putchar('\n');
	} else {
		table_drop(table);
	}
	print_looked_at(doc);
	if (!json_array_size(findings))
		puts("all is well");
	else if (!open)
		puts("all that was found is mended");
	else
		printf("%zu finding%s\n", open, open == 1 ? "" : "s");
}

static int check(struct invocation *call)
{
	struct th_error err = {0};
	json_t *doc = NULL, *one;
	size_t open = 0, i;

	if (th_store_check(
		    call->hull, option_given(call, "repair"), &doc, &err))
		return say_error(&err);
	json_array_foreach(doc_part(doc, "findings"), i, one)
	{
		open += !*doc_text(one, "mended");
	}
	if (call->json)
		print_json(json_incref(doc));
	else
		print_findings(doc, open);
	json_decref(doc);
	return open ? EXIT_FAILED : EXIT_DONE;
}

/* ---- the host ---- */

/* What several features lack in the same way is said once. */
static void print_advice(const json_t *checks)
{
	for (size_t i = 0; i < json_array_size(checks); i++) {
		const json_t *one = json_array_get(checks, i);
		const char *advice = doc_text(one, "advice");
		const char *before = i
			? doc_text(json_array_get(checks, i - 1), "advice")
			: "";

		if (!*advice)
			continue;
		printf("%s%s", strcmp(advice, before) != 0 ? "\n" : ", ",
			doc_text(one, "what"));
		if (strcmp(doc_text(json_array_get(checks, i + 1), "advice"),
			    advice) != 0)
			printf("\n  %s\n", advice);
	}
}

struct host {
	json_t *about, *checks;
	char keeper[PROGRAM_PATH], pilot[PROGRAM_PATH];
	bool has_keeper, has_pilot;
	size_t missing;
};

static void print_host(const struct host *host)
{
	bool user = doc_flag(host->about, "unprivileged");
	struct table *table = table_new();
	const json_t *one;
	size_t i;

	printf("tidyhull %s, %s\n", th_hull_version(),
		user ? "as an unprivileged user" : "as root");
	printf("store    %s\n", doc_text(host->about, "root"));
	printf("running  %s\n", doc_text(host->about, "run"));
	printf("keeper   %s%s\n", host->keeper,
		host->has_keeper ? "" : " (missing)");
	if (user)
		printf("pilot    %s%s\n", host->pilot,
			host->has_pilot ? "" : " (missing)");
	putchar('\n');
	table_column(table, "what", 0);
	table_column(table, "here", 0);
	table_column(table, "needed for", TABLE_BREAK);
	json_array_foreach(host->checks, i, one)
	{
		table_row(table);
		table_cell(table, NULL, "%s", doc_text(one, "what"));
		table_cell(table,
			!doc_flag(one, "able")		? "red"
				: doc_flag(one, "less") ? "yellow"
							: "green",
			"%s", doc_text(one, "here"));
		table_cell(table, NULL, "%s", doc_text(one, "use"));
	}
	table_print(table);
	print_advice(host->checks);
	puts(host->missing ? "\nthis host lacks something that Tidy Hull needs"
			   : "\nthis host has everything that Tidy Hull needs");
}

static void print_host_json(const struct host *host)
{
	json_t *one;
	size_t i;

	json_array_foreach(host->checks, i, one)
	{
		json_object_del(one, "less");
	}
	print_json(json_pack("{s:s s:s s:O s:s s:b s:O}", "version",
		th_hull_version(), "mode",
		doc_flag(host->about, "unprivileged") ? "user" : "root", "root",
		json_object_get(host->about, "root"), "keeper", host->keeper,
		"able", host->missing == 0, "checks", host->checks));
}

/* Tries what it tells of, in this process: nothing can follow it. */
static int look_at_host(struct invocation *call)
{
	struct host host = {.about = NULL};
	struct th_error err = {0};
	json_t *doc = NULL;
	const json_t *one;
	size_t i;

	host.has_keeper = program_path("tidyhull-keeper", host.keeper);
	host.has_pilot = program_path("tidyhull-pilot", host.pilot);
	if (th_hull_about(call->hull, &host.about, &err) ||
		th_hull_host(call->hull, &doc, &err)) {
		json_decref(host.about);
		return say_error(&err);
	}
	host.checks = doc_part(doc, "checks");
	json_array_foreach(host.checks, i, one)
	{
		host.missing += !doc_flag(one, "able");
	}
	host.missing += !host.has_keeper;
	host.missing += doc_flag(host.about, "unprivileged") && !host.has_pilot;
	if (call->json)
		print_host_json(&host);
	else
		print_host(&host);
	json_decref(host.about);
	json_decref(doc);
	return host.missing ? EXIT_NOT_POSSIBLE : EXIT_DONE;
}

static int run(struct invocation *call)
{
	return option_given(call, "verify") || option_given(call, "repair")
		? check(call)
		: look_at_host(call);
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
	.called = "info check diagnose system verify",
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
