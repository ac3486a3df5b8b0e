/* find: which registries have something of that name. */
#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"

#define TAGS_SHOWN 6

static void tags_text(const json_t *tags, char text[200])
{
	size_t count = json_array_size(tags), used = 0;

	text[0] = '\0';
	for (size_t i = 0; i < count && i < TAGS_SHOWN; i++) {
		snprintf(text + used, 200 - used, "%s%.24s", i ? ", " : "",
			doc_item(tags, i));
		used = strlen(text);
	}
	if (count > TAGS_SHOWN)
		snprintf(text + used, 200 - used, " and %zu more",
			count - TAGS_SHOWN);
}

static void print_found(const json_t *found)
{
	struct table *table = table_new();
	const json_t *one;
	char tags[200];
	size_t i;

	table_column(table, "image", TABLE_BREAK);
	table_column(table, "tags", TABLE_BREAK);
	json_array_foreach(found, i, one)
	{
		tags_text(doc_part(one, "tags"), tags);
		table_row(table);
		table_cell(table, doc_number(one, "rank") < 3 ? "bold" : NULL,
			"%s", doc_text(one, "name"));
		table_cell(table, NULL, "%s", tags);
	}
	table_print(table);
}

static void print_all(struct invocation *call, json_t *doc)
{
	const json_t *found = doc_part(doc, "found");
	const json_t *notes = doc_part(doc, "notes");
	json_t *one;
	size_t i;

	if (call->json) {
		/* How well it fits is told by its place. */
		json_array_foreach(found, i, one)
		{
			json_object_del(one, "rank");
		}
		print_json(json_incref(doc));
		return;
	}
	if (call->quiet)
		print_each(found, "name");
	else if (json_array_size(found))
		print_found(found);
	for (i = 0; !call->quiet && i < json_array_size(notes); i++)
		say_note(doc_item(notes, i));
}

static int run(struct invocation *call)
{
	const char *term = call->objects[0];
	struct th_error err = {0};
	json_t *doc = NULL;

	if (th_registry_find(call->hull, term, &doc, &err))
		return say_error(&err);
	print_all(call, doc);
	if (!doc_count(doc, "found")) {
		th_fail(&err, TH_NOT_FOUND, "no image matches \"%.100s\"",
			term);
		/* A tag is no part of the name. */
		if (strchr(term, ':') && !strchr(strchr(term, ':'), '/'))
			th_hint(&err, "without the tag: tidyhull find %.*s",
				(int)strcspn(term, ":"), term);
		th_hint(&err, "part of the name is enough");
		if (!call->json)
			say_error(&err);
	}
	json_decref(doc);
	return exit_code_of(err.code);
}

static const char *const text[] = {
	"TERM is part of a name; small typing mistakes are tolerated. All",
	"configured registries are searched, or only one: HOST/TERM.", NULL};

static const char *const examples[] = {"tidyhull find gauge",
	"tidyhull find registry.selwick.example/tide --json", NULL};

const struct verb verb_find = {.name = "find",
	.group = "registries",
	.called = "search lookup locate query browse",
	.summary = "search the registries by part of a name",
	.usage = "TERM",
	.text = text,
	.examples = examples,
	.flags = VERB_REGISTRIES | VERB_JSON | VERB_TABLE,
	.least = 1,
	.most = 1,
	.run = run};
