/* changes: what differs between a container and its image, or two images; and
 * what an image carries that nobody can see. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"

/* The kinds of changes, and how they are drawn. */
static const struct {
	const char *word, *colour;
} kinds[] = {{"new", "green"}, {"changed", "yellow"}, {"gone", "red"}};

#define KINDS (sizeof(kinds) / sizeof(*kinds))

static size_t kind_of(const json_t *change)
{
	const char *word = doc_text(change, "change");
	size_t i = 0;

	while (i + 1 < KINDS && strcmp(kinds[i].word, word) != 0)
		i++;
	return i;
}

static bool is_change(const json_t *change, const char *word)
{
	return strcmp(doc_text(change, "change"), word) == 0;
}

/* Without the slash before it. */
static const char *path_of(const json_t *change)
{
	const char *path = doc_text(change, "path");

	return path + (*path == '/');
}

static const char *mark_of(const json_t *change)
{
	return strcmp(doc_text(change, "kind"), "folder") == 0 ? "/" : "";
}

static void size_cells(struct table *table, const json_t *change)
{
	uint64_t bytes = (uint64_t)doc_number(change, "bytes");
	uint64_t before = (uint64_t)doc_number(change, "before-bytes");
	char size[SIZE_TEXT] = "", was[SIZE_TEXT + 8] = "", ago[48] = "";
	struct th_buf what;

	if (strcmp(doc_text(change, "kind"), "file") == 0 ||
		(is_change(change, "gone") && bytes))
		size_text(bytes, size);
	if (is_change(change, "changed") && before != bytes) {
		char old[SIZE_TEXT];

		size_text(before, old);
		snprintf(was, sizeof(was), "was %s", old);
	}
	if (!is_change(change, "gone"))
		ago_text(doc_time(change, "modified"), ago);
	doc_join(change, "what", ", ", &what);
	table_cell(table, NULL, "%s", size);
	table_cell(table, "darkgray", "%s", was);
	table_cell(table, NULL, "%s", what.data);
	table_cell(table, "darkgray", "%s", ago);
	th_buf_release(&what);
}

static void add_columns(struct table *table)
{
	table_column(table, "size", TABLE_RIGHT);
	table_column(table, "before", TABLE_LESS);
	table_column(table, "what", TABLE_LESS);
	table_column(table, "modified", TABLE_LESS);
}

static void add_kind(struct table *table, const json_t *change)
{
	table_cell(table, kinds[kind_of(change)].colour, "%s",
		doc_text(change, "change"));
}

static void print_flat(const json_t *changes)
{
	struct table *table = table_new();
	const json_t *change;
	size_t i;

	table_column(table, "change", 0);
	table_column(table, "path", TABLE_BREAK);
	add_columns(table);
	json_array_foreach(changes, i, change)
	{
		table_row(table);
		add_kind(table, change);
		table_cell(table, NULL, "/%s%s", shown(path_of(change)),
			mark_of(change));
		size_cells(table, change);
	}
	table_print(table);
}

/* How many bytes two paths have in common, up to a slash. */
static size_t shared_folders(const char *one, const char *other)
{
	size_t last = 0, i = 0;

	for (; one[i] && one[i] == other[i]; i++) {
		if (one[i] == '/')
			last = i + 1;
	}
	/* The whole of one is a folder of the other. */
	if (!one[i] && other[i] == '/')
		last = i + 1;
	return last;
}

/* The folders on the way that have no row of their own. */
static void print_way(struct table *table, const char *path, size_t from)
{
	int depth = 0;
	size_t at = 0;

	for (;;) {
		size_t len = strcspn(path + at, "/");

		if (!path[at + len])
			return;
		if (at >= from) {
			char part[300];

			snprintf(part, sizeof(part), "%.*s", (int)len,
				path + at);
			table_branch(table, depth);
			table_cell(table, "darkgray", "%s/", shown(part));
			for (int i = 0; i < 5; i++)
				table_cell(table, NULL, "%s", "");
		}
		at += len + 1;
		depth++;
	}
}

static int depth_of(const char *path)
{
	int depth = 0;

	for (; *path; path++)
		depth += *path == '/';
	return depth;
}

static void print_tree(const json_t *changes)
{
	struct table *table = table_new();
	const char *last = "";
	const json_t *change;
	size_t i;

	table_column(table, "path", 0);
	table_column(table, "change", 0);
	add_columns(table);
	json_array_foreach(changes, i, change)
	{
		const char *path = path_of(change);
		const char *slash = strrchr(path, '/');

		print_way(table, path, shared_folders(last, path));
		table_branch(table, depth_of(path));
		table_cell(table, NULL, "%s%s", shown(slash ? slash + 1 : path),
			mark_of(change));
		add_kind(table, change);
		size_cells(table, change);
		last = path;
	}
	table_print(table);
}

static void print_sum(const json_t *changes)
{
	size_t counts[KINDS] = {0}, i;
	uint64_t bytes[KINDS] = {0};
	const json_t *change;

	json_array_foreach(changes, i, change)
	{
		counts[kind_of(change)]++;
		bytes[kind_of(change)] += (uint64_t)doc_number(change, "bytes");
	}
	for (i = 0; i < KINDS; i++) {
		char size[SIZE_TEXT];

		size_text(bytes[i], size);
		table_note("%s%zu %s", i ? ", " : "", counts[i], kinds[i].word);
		if (bytes[i])
			table_note(" (%s)", size);
	}
	table_note("\n");
}

static void print_changes(struct invocation *call, const json_t *doc)
{
	const json_t *changes = doc_part(doc, "changes");

	if (call->quiet)
		print_each(changes, "path");
	else if (!json_array_size(changes))
		puts("nothing has changed");
	else if (option_given(call, "flat"))
		print_flat(changes);
	else
		print_tree(changes);
	if (!call->quiet && json_array_size(changes))
		print_sum(changes);
}

/* ---- what an image carries for nothing ---- */

static void print_hidden(struct invocation *call, const json_t *doc)
{
	const json_t *hidden = doc_part(doc, "hidden"), *one;
	long long layers = (long long)doc_number(doc, "layers");
	size_t count = json_array_size(hidden), i;
	struct table *table;
	char size[SIZE_TEXT];

	if (!count) {
		if (!call->quiet)
			printf("no file of its %lld layer%s is hidden by a "
			       "later "
			       "one\n",
				layers, layers == 1 ? "" : "s");
		return;
	}
	table = table_new();
	table_column(table, "hidden file", TABLE_BREAK);
	table_column(table, "in layer", TABLE_RIGHT);
	table_column(table, "size", TABLE_RIGHT);
	json_array_foreach(hidden, i, one)
	{
		size_text((uint64_t)doc_number(one, "bytes"), size);
		table_row(table);
		table_cell(table, NULL, "%s", shown(doc_text(one, "path")));
		table_cell(table, NULL, "%lld of %lld",
			(long long)doc_number(one, "layer"), layers);
		table_cell(table, NULL, "%s", size);
	}
	table_print(table);
	size_text((uint64_t)doc_number(doc, "bytes"), size);
	table_note("%zu file%s that no container can see: %s\n", count,
		count == 1 ? "" : "s", size);
}

static int look(struct invocation *call, json_t **doc, struct th_error *err)
{
	const char *name = call->objects[0];
	json_t *object = NULL;
	bool is_image;
	int rc;

	if (call->object_count == 2)
		return th_image_changes(
			call->hull, name, call->objects[1], doc, err);
	if (th_object(call->hull, name, TH_KIND_CONTAINER | TH_KIND_IMAGE,
		    TH_BRIEF, &object, err))
		return -1;
	is_image = strcmp(doc_text(object, "kind"), "image") == 0;
	rc = is_image ? th_image_hidden(call->hull, doc_text(object, "digest"),
				doc, err)
		      : th_container_changes(
				call->hull, doc_text(object, "id"), doc, err);
	json_decref(object);
	return rc;
}

static int run(struct invocation *call)
{
	struct th_error err = {0};
	json_t *doc = NULL;

	if (look(call, &doc, &err)) {
		/* "changes web /etc" */
		if (call->object_count == 2 && call->objects[1][0] == '/') {
			err.hint[0] = '\0';
			th_hint(&err,
				"of one folder: tidyhull changes %.80s --flat "
				"| grep %.80s",
				call->objects[0], call->objects[1]);
		}
		return say_error(&err);
	}
	if (call->json)
		return print_json(doc);
	if (doc_part(doc, "hidden"))
		print_hidden(call, doc);
	else
		print_changes(call, doc);
	json_decref(doc);
	return EXIT_DONE;
}

static const struct option_spec options[] = {
	{"flat", NULL, "one path per line instead of a tree"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Of a container: what it has written into its root since it was "
	"created.",
	"Mounts and volumes are not part of it. Of two images: what is "
	"different",
	"in the second one. Of one image: files in its layers that later "
	"layers",
	"replace or remove, so that no container can see them.", NULL};

static const char *const examples[] = {"tidyhull changes gauge-north",
	"tidyhull changes gauge-north --flat",
	"tidyhull changes selwick/gauge:1 selwick/gauge:2",
	"tidyhull changes selwick/gauge", NULL};

const struct verb verb_changes = {.name = "changes",
	.group = "look",
	.called = "diff compare cmp delta",
	.takes = "container image",
	.summary = "show which files are new, changed or gone",
	.usage = "CONTAINER | IMAGE [IMAGE]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_JSON | VERB_TABLE | VERB_WATCH,
	.least = 1,
	.most = 2,
	.run = run};
