/* sweep: what lies about unused; sizes first, then a question. */
#include <inttypes.h>
#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "cli/choose.h"
#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"

/* Names in a row; where they are too many, the first and the last. */
static void names_text(const json_t *names, char text[64])
{
	size_t count = json_array_size(names), used = 0;

	text[0] = '\0';
	for (size_t i = 0; i < count && used < 60; i++)
		used += (size_t)snprintf(text + used, 64 - used, "%s%s",
			i ? ", " : "", doc_item(names, i));
	if (used >= 60)
		snprintf(text, 64, "%.30s, ..., %.20s", doc_item(names, 0),
			doc_item(names, count - 1));
}

/* What each line of the table is of. */
static const struct line {
	const char *what, *count, *bytes, *note;
} lines[] = {{"ended containers", "containers", "container-bytes", NULL},
	{"volumes", "volumes", "volume-bytes", "used by no container"},
	{"networks", "networks", "",
		"created on first use, with no containers"},
	{"untagged images", "images", "image-bytes", "used by no container"},
	{"remembered steps", "steps", "step-bytes",
		"the next build would run them again"},
	{"layers", "layers", "layer-bytes", "unpacked, but part of no image"},
	{"blobs", "blobs", "blob-bytes", "part of no image"},
	{"unfinished downloads", "unfinished", "unfinished-bytes",
		"a pull would resume them"}};

#define LINES (sizeof(lines) / sizeof(*lines))

static uint64_t count_of(const json_t *found, const struct line *line)
{
	const json_t *value = json_object_get(found, line->count);

	return json_is_array(value) ? json_array_size(value)
				    : (uint64_t)json_integer_value(value);
}

static bool is_empty(const json_t *found)
{
	for (size_t i = 0; i < LINES; i++) {
		if (count_of(found, &lines[i]))
			return false;
	}
	return true;
}

static void print_found(const json_t *found)
{
	struct table *table = table_new();
	char size[SIZE_TEXT], names[64];

	table_column(table, "what", 0);
	table_column(table, "count", TABLE_RIGHT);
	table_column(table, "frees", TABLE_RIGHT);
	table_column(table, "note", TABLE_BREAK);
	names_text(doc_part(found, "containers"), names);
	for (size_t i = 0; i < LINES; i++) {
		const struct line *line = &lines[i];
		uint64_t count = count_of(found, line);

		if (!count)
			continue;
		size_text((uint64_t)doc_number(found, line->bytes), size);
		table_row(table);
		table_cell(table, NULL, "%s", line->what);
		table_cell(table, NULL, "%" PRIu64, count);
		table_cell(table, NULL, "%s", size);
		table_cell(table, "darkgray", "%s",
			line->note ? line->note : names);
	}
	table_print(table);
}

/* Asks, where it has to be; false where it is not to be done. */
static bool agreed(struct invocation *call, const char *size)
{
	char question[100];

	if (call->yes)
		return true;
	snprintf(question, sizeof(question), "remove all this (%s)?", size);
	return !call->json && choose_yes(question);
}

static int finish(struct invocation *call, th_sweep *sweep, json_t *found)
{
	struct th_error err = {0}, ignored = {0}; /* the next sweep */
	char size[SIZE_TEXT];
	bool removed = false;

	size_text((uint64_t)doc_number(found, "total-bytes"), size);
	if (is_empty(found) && !call->json) {
		/* Locks of killed pulls take no room, and go without a word. */
		th_sweep_remove(call->hull, sweep, &ignored);
		if (!call->quiet)
			puts("there is nothing to remove");
		return EXIT_DONE;
	}
	if (!call->json && !call->quiet) {
		print_found(found);
		fflush(stdout);
	}
	if (agreed(call, size))
		removed = th_sweep_remove(call->hull, sweep, &err) == 0;
	if (err.code)
		return say_error(&err);
	if (call->json) {
		json_object_del(found, "total-bytes");
		json_object_set_new(found, "removed", json_boolean(removed));
		print_json(json_incref(found));
	} else if (removed && !call->quiet) {
		printf("freed %s\n", size);
	} else if (!call->quiet) {
		puts("nothing was removed; to remove it: tidyhull sweep --yes");
	}
	return EXIT_DONE;
}

/* Named volumes are never touched unless somebody says so. */
static int read_kinds(const char *only, int *kinds, struct th_error *err)
{
	static const struct {
		const char *word;
		int kind;
	} words[] = {{"containers", TH_SWEEP_CONTAINERS},
		{"images", TH_SWEEP_IMAGES}, {"volumes", TH_SWEEP_VOLUMES},
		{"networks", TH_SWEEP_NETWORKS}};

	*kinds = TH_SWEEP_CONTAINERS | TH_SWEEP_IMAGES | TH_SWEEP_NETWORKS;
	for (size_t i = 0; only && i < sizeof(words) / sizeof(*words); i++) {
		if (strcmp(only, words[i].word) == 0) {
			*kinds = words[i].kind;
			return 0;
		}
	}
	if (!only)
		return 0;
	th_fail(err, TH_USAGE, "sweep cannot remove \"%.50s\"", only);
	return th_hint(
		err, "use --only containers, images, volumes or networks");
}

static int read_age(const char *older, int64_t *before_us, struct th_error *err)
{
	int64_t span_us;

	*before_us = INT64_MAX;
	if (!older)
		return 0;
	if (th_clock_parse_span(older, &span_us)) {
		th_fail(err, TH_USAGE, "\"%.50s\" is not a duration", older);
		return th_hint(err, "for example 12h or 7d");
	}
	*before_us = th_clock_now_us() - span_us;
	return 0;
}

static int run(struct invocation *call)
{
	th_sweep *sweep = NULL;
	json_t *found = NULL;
	struct th_error err = {0};
	int64_t before_us;
	int kinds, code;

	if (read_kinds(option_value(call, "only"), &kinds, &err) ||
		read_age(option_value(call, "older-than"), &before_us, &err) ||
		th_sweep_find(
			call->hull, kinds, before_us, &sweep, &found, &err))
		code = say_error(&err);
	else
		code = finish(call, sweep, found);
	json_decref(found);
	th_sweep_free(sweep);
	return code;
}

static const struct option_spec options[] = {
	{"only", "KIND", "containers, images, networks or volumes"},
	{"older-than", "SPAN", "only what has been unused for this long: 7d"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Shows what can be removed and how much that frees, and asks first:",
	"containers that have ended (longer ago than --older-than), untagged "
	"images,",
	"and steps that builds remember. Never touches containers that a "
	"restart",
	"policy wants running or that were never started, nor images that "
	"have a",
	"name or are in use. Volumes are removed only with --only volumes, and "
	"only",
	"those without a container. Networks created on first use go when no",
	"container uses them.", NULL};

static const char *const examples[] = {"tidyhull sweep",
	"tidyhull sweep --yes --older-than 7d",
	"tidyhull sweep --only containers", NULL};

const struct verb verb_sweep = {.name = "sweep",
	.group = "away with it",
	.called = "clean cleanup prune gc purge tidy df du space",
	.summary = "show and remove what is unused",
	.usage = "",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_JSON,
	.least = 0,
	.most = 0,
	.run = run};
