/* find: which registries have something of that name. */
#include <stdio.h>
#include <string.h>

#include "base/json.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "registry/search.h"

#define TAGS_SHOWN 6

static void tags_text(const struct th_strings *tags, char text[200])
{
	size_t used = 0;

	text[0] = '\0';
	for (size_t i = 0; i < tags->count && i < TAGS_SHOWN; i++) {
		snprintf(text + used, 200 - used, "%s%.24s", i ? ", " : "",
			tags->items[i]);
		used = strlen(text);
	}
	if (tags->count > TAGS_SHOWN)
		snprintf(text + used, 200 - used, " and %zu more",
			tags->count - TAGS_SHOWN);
}

static void print_found(const struct th_found *list, size_t count)
{
	struct table *table = table_new();
	char tags[200];

	table_column(table, "image", false);
	table_column(table, "tags", false);
	for (size_t i = 0; i < count; i++) {
		tags_text(&list[i].tags, tags);
		table_row(table);
		table_cell(table, list[i].rank < 3 ? "bold" : NULL, "%s/%s",
			list[i].host, list[i].path);
		table_cell(table, NULL, "%s", tags);
	}
	table_print(table);
}

static void print_found_json(const struct th_found *list, size_t count,
	const struct th_strings *notes)
{
	json_t *found = json_array();

	for (size_t i = 0; i < count; i++)
		json_array_append_new(found,
			json_pack("{s:s+++ s:s s:s s:o}", "name", list[i].host,
				"/", list[i].path, "", "host", list[i].host,
				"path", list[i].path, "tags",
				th_json_from_strings(&list[i].tags)));
	print_json(json_pack("{s:o s:o}", "found", found, "notes",
		th_json_from_strings(notes)));
}

static int run(struct invocation *call)
{
	const char *term = call->objects[0];
	struct th_strings notes = {0};
	struct th_found *list = NULL;
	struct th_error err = {0};
	size_t count = 0;

	if (call->hull.config.registry_count == 0 && !strchr(term, '/')) {
		th_fail(&err, TH_NOT_FOUND, "no registry is configured");
		th_hint(&err,
			"add one to the configuration (docs/configuration.md)");
		return say_error(&err);
	}
	if (th_search(
		    &call->hull.registries, term, &list, &count, &notes, &err))
		say_error(&err);
	else if (call->json)
		print_found_json(list, count, &notes);
	else if (call->quiet)
		for (size_t i = 0; i < count; i++)
			printf("%s/%s\n", list[i].host, shown(list[i].path));
	else if (count)
		print_found(list, count);
	for (size_t i = 0; !call->quiet && !call->json && i < notes.count; i++)
		say_note(notes.items[i]);
	if (!err.code && !count) {
		th_fail(&err, TH_NOT_FOUND, "no image matches \"%.100s\"",
			term);
		th_hint(&err, "part of the name is enough");
		if (!call->json)
			say_error(&err);
	}
	th_found_free(list, count);
	th_strings_release(&notes);
	return exit_code_of(err.code);
}

static const char *const text[] = {
	"TERM is part of a name; small typing mistakes are tolerated. All",
	"configured registries are searched, or only one: HOST/TERM.", NULL};

static const char *const examples[] = {"tidyhull find gauge",
	"tidyhull find registry.selwick.example/tide --json", NULL};

const struct verb verb_find = {.name = "find",
	.group = "registries",
	.summary = "search the registries by part of a name",
	.usage = "TERM",
	.text = text,
	.examples = examples,
	.flags = VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = 1,
	.run = run};
