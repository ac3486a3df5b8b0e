/* changes: what differs between a container and its image, or two images; and
 * what an image carries that nobody can see. */
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "build/changes.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"

static const char *const kinds[] = {"new", "changed", "gone"};
static const char *const colours_of[] = {"green", "yellow", "red"};
static const struct {
	int aspect;
	const char *word;
} aspects[] = {{TH_ASPECT_KIND, "kind"}, {TH_ASPECT_CONTENT, "content"},
	{TH_ASPECT_OWNER, "owner"}, {TH_ASPECT_MODE, "mode"},
	{TH_ASPECT_TIME, "time"}};

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

static void aspects_text(int set, char text[64])
{
	text[0] = '\0';
	for (size_t i = 0; i < COUNT(aspects); i++) {
		size_t used = strlen(text);

		if (set & aspects[i].aspect)
			snprintf(text + used, 64 - used, "%s%s",
				used ? ", " : "", aspects[i].word);
	}
}

static const char *kind_of_file(mode_t mode)
{
	switch (mode & S_IFMT) {
	case S_IFREG:
		return "file";
	case S_IFDIR:
		return "folder";
	case S_IFLNK:
		return "link";
	case S_IFIFO:
		return "pipe";
	case S_IFSOCK:
		return "socket";
	default:
		return "device";
	}
}

/* As it is; what is no UTF-8 cannot be said in JSON, and is made visible. */
static json_t *path_json(const char *path)
{
	char text[TH_LAYER_PATH_MAX + 1];
	json_t *made;

	snprintf(text, sizeof(text), "/%s", path);
	made = json_string(text);
	return made ? made : json_string(shown(text));
}

static json_t *change_json(const struct th_file_change *change)
{
	json_t *list = json_array(), *doc;

	for (size_t i = 0; i < COUNT(aspects); i++) {
		if (change->aspects & aspects[i].aspect)
			json_array_append_new(
				list, json_string(aspects[i].word));
	}
	doc = json_pack("{s:s s:o s:s s:o s:I s:o}", "change",
		kinds[change->kind], "path", path_json(change->path), "kind",
		kind_of_file(change->mode), "what", list, "bytes",
		(json_int_t)change->bytes, "modified",
		th_json_time(change->time_us));
	if (doc && change->kind == TH_FILE_CHANGED)
		json_object_set_new(doc, "before-bytes",
			json_integer((json_int_t)change->before_bytes));
	return doc;
}

static void size_cells(struct table *table, const struct th_file_change *change)
{
	char size[SIZE_TEXT] = "", before[SIZE_TEXT + 8] = "", ago[48] = "";
	char text[64];

	if (S_ISREG(change->mode) ||
		(change->kind == TH_FILE_GONE && change->bytes))
		size_text(change->bytes, size);
	if (change->kind == TH_FILE_CHANGED &&
		change->before_bytes != change->bytes) {
		char old[SIZE_TEXT];

		size_text(change->before_bytes, old);
		snprintf(before, sizeof(before), "was %s", old);
	}
	aspects_text(change->aspects, text);
	if (change->kind != TH_FILE_GONE)
		ago_text(change->time_us, ago);
	table_cell(table, NULL, "%s", size);
	table_cell(table, "darkgray", "%s", before);
	table_cell(table, NULL, "%s", text);
	table_cell(table, "darkgray", "%s", ago);
}

static void add_columns(struct table *table)
{
	table_column(table, "size", true);
	table_column(table, "", false);
	table_column(table, "what", false);
	table_column(table, "modified", false);
}

static void print_flat(const struct th_file_changes *changes)
{
	struct table *table = table_new();

	table_column(table, "change", false);
	table_column(table, "path", false);
	add_columns(table);
	for (size_t i = 0; i < changes->count; i++) {
		const struct th_file_change *change = &changes->list[i];

		table_row(table);
		table_cell(table, colours_of[change->kind], "%s",
			kinds[change->kind]);
		table_cell(table, NULL, "/%s%s", shown(change->path),
			S_ISDIR(change->mode) ? "/" : "");
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

static void print_tree(const struct th_file_changes *changes)
{
	struct table *table = table_new();
	const char *last = "";

	table_column(table, "path", false);
	table_column(table, "change", false);
	add_columns(table);
	for (size_t i = 0; i < changes->count; i++) {
		const struct th_file_change *change = &changes->list[i];
		const char *slash = strrchr(change->path, '/');

		print_way(table, change->path,
			shared_folders(last, change->path));
		table_branch(table, depth_of(change->path));
		table_cell(table, NULL, "%s%s",
			shown(slash ? slash + 1 : change->path),
			S_ISDIR(change->mode) ? "/" : "");
		table_cell(table, colours_of[change->kind], "%s",
			kinds[change->kind]);
		size_cells(table, change);
		last = change->path;
	}
	table_print(table);
}

static void print_sum(const struct th_file_changes *changes)
{
	size_t counts[3] = {0};
	uint64_t bytes[3] = {0};

	for (size_t i = 0; i < changes->count; i++) {
		counts[changes->list[i].kind]++;
		bytes[changes->list[i].kind] += changes->list[i].bytes;
	}
	for (size_t i = 0; i < COUNT(kinds); i++) {
		char size[SIZE_TEXT];

		size_text(bytes[i], size);
		printf("%s%zu %s", i ? ", " : "", counts[i], kinds[i]);
		if (bytes[i])
			printf(" (%s)", size);
	}
	putchar('\n');
}

static int print_changes(
	struct invocation *call, const struct th_file_changes *changes)
{
	json_t *list;

	if (call->json) {
		list = json_array();
		for (size_t i = 0; i < changes->count; i++)
			json_array_append_new(
				list, change_json(&changes->list[i]));
		return print_json(json_pack("{s:o}", "changes", list));
	}
	if (call->quiet) {
		for (size_t i = 0; i < changes->count; i++)
			printf("/%s\n", shown(changes->list[i].path));
		return EXIT_DONE;
	}
	if (!changes->count) {
		puts("nothing has changed");
		return EXIT_DONE;
	}
	if (option_given(call, "flat"))
		print_flat(changes);
	else
		print_tree(changes);
	print_sum(changes);
	return EXIT_DONE;
}

/* ---- what an image carries for nothing ---- */

static int print_hidden(struct invocation *call, const struct th_hidden *hidden)
{
	struct table *table;
	char size[SIZE_TEXT];
	json_t *list;

	if (call->json) {
		list = json_array();
		for (size_t i = 0; i < hidden->count; i++) {
			json_array_append_new(list,
				json_pack("{s:o s:I s:I}", "path",
					path_json(hidden->list[i].path),
					"layer",
					(json_int_t)hidden->list[i].layer + 1,
					"bytes",
					(json_int_t)hidden->list[i].bytes));
		}
		return print_json(json_pack("{s:o s:I s:I}", "hidden", list,
			"bytes", (json_int_t)hidden->bytes, "layers",
			(json_int_t)hidden->layers));
	}
	if (!hidden->count) {
		if (!call->quiet)
			printf("no file of its %zu layer%s is hidden by a "
			       "later "
			       "one\n",
				hidden->layers, hidden->layers == 1 ? "" : "s");
		return EXIT_DONE;
	}
	table = table_new();
	table_column(table, "hidden file", false);
	table_column(table, "in layer", true);
	table_column(table, "size", true);
	for (size_t i = 0; i < hidden->count; i++) {
		size_text(hidden->list[i].bytes, size);
		table_row(table);
		table_cell(table, NULL, "/%s", shown(hidden->list[i].path));
		table_cell(table, NULL, "%zu of %zu", hidden->list[i].layer + 1,
			hidden->layers);
		table_cell(table, NULL, "%s", size);
	}
	table_print(table);
	size_text(hidden->bytes, size);
	printf("%zu file%s that no container can see: %s\n", hidden->count,
		hidden->count == 1 ? "" : "s", size);
	return EXIT_DONE;
}

static int show_hidden(
	struct invocation *call, const char *digest, struct th_error *err)
{
	struct th_hidden hidden;
	int code;

	if (th_hidden_of_image(&call->hull.context, digest, &hidden, err))
		return say_error(err);
	code = print_hidden(call, &hidden);
	th_hidden_release(&hidden);
	return code;
}

static int show_images(
	struct invocation *call, const char *before, struct th_error *err)
{
	struct th_file_changes changes;
	struct th_object other;
	int code, rc;

	if (th_object_find(&call->hull.context, call->objects[1], TH_KIND_IMAGE,
		    &other, err))
		return say_error(err);
	rc = th_changes_of_images(
		&call->hull.context, before, other.image.digest, &changes, err);
	th_object_release(&other);
	if (rc)
		return say_error(err);
	code = print_changes(call, &changes);
	th_file_changes_release(&changes);
	return code;
}

static int show_container(struct invocation *call,
	const struct th_container_row *row, struct th_error *err)
{
	struct th_file_changes changes;
	int code;

	if (th_changes_of_container(&call->hull.context, row, &changes, err))
		return say_error(err);
	code = print_changes(call, &changes);
	th_file_changes_release(&changes);
	return code;
}

static int run(struct invocation *call)
{
	bool two = call->object_count == 2;
	struct th_object object;
	struct th_error err = {0};
	int code;

	if (th_object_find(&call->hull.context, call->objects[0],
		    two ? TH_KIND_IMAGE : TH_KIND_CONTAINER | TH_KIND_IMAGE,
		    &object, &err))
		return say_error(&err);
	if (two)
		code = show_images(call, object.image.digest, &err);
	else if (object.kind == TH_KIND_IMAGE)
		code = show_hidden(call, object.image.digest, &err);
	else
		code = show_container(call, &object.container, &err);
	th_object_release(&object);
	return code;
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
	.summary = "show which files are new, changed or gone",
	.usage = "CONTAINER | IMAGE [IMAGE]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_JSON,
	.least = 1,
	.most = 2,
	.run = run};
