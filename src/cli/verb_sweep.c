/* sweep: what lies about unused; sizes first, then a question. */
#include <inttypes.h>
#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "cli/choose.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "image/reclaim.h"

static uint64_t total_bytes(const struct th_litter *litter)
{
	return litter->image_bytes + litter->blob_bytes + litter->tree_bytes +
		litter->partial_bytes;
}

static bool is_empty(const struct th_litter *litter)
{
	return !litter->image_count && !litter->blob_count &&
		!litter->tree_count && !litter->partial_count;
}

static void add_row(struct table *table, const char *what, size_t count,
	uint64_t bytes, const char *note)
{
	char size[SIZE_TEXT];

	if (!count)
		return;
	size_text(bytes, size);
	table_row(table);
	table_cell(table, NULL, "%s", what);
	table_cell(table, NULL, "%zu", count);
	table_cell(table, NULL, "%s", size);
	table_cell(table, "darkgray", "%s", note);
}

static void print_litter(const struct th_litter *litter)
{
	struct table *table = table_new();

	table_column(table, "what", false);
	table_column(table, "count", true);
	table_column(table, "frees", true);
	table_column(table, "", false);
	add_row(table, "images without a name", litter->image_count,
		litter->image_bytes, "used by no container");
	add_row(table, "layers", litter->tree_count, litter->tree_bytes,
		"unpacked, of no image");
	add_row(table, "blobs", litter->blob_count, litter->blob_bytes,
		"of no image");
	add_row(table, "unfinished downloads", litter->partial_count,
		litter->partial_bytes, "a pull would go on from them");
	table_print(table);
}

static json_t *describe(const struct th_litter *litter, bool removed)
{
	json_t *images = json_array();

	for (size_t i = 0; i < litter->image_count; i++)
		json_array_append_new(
			images, json_string(litter->images[i].digest));
	return json_pack("{s:o s:I s:I s:I s:I s:I s:I s:I s:b}", "images",
		images, "image-bytes", (json_int_t)litter->image_bytes,
		"layers", (json_int_t)litter->tree_count, "layer-bytes",
		(json_int_t)litter->tree_bytes, "blobs",
		(json_int_t)litter->blob_count, "blob-bytes",
		(json_int_t)litter->blob_bytes, "unfinished",
		(json_int_t)litter->partial_count, "unfinished-bytes",
		(json_int_t)litter->partial_bytes, "removed", removed);
}

/* Asks, where it has to be; false where it is not to be done. */
static bool agreed(struct invocation *call, const struct th_litter *litter)
{
	char question[100], size[SIZE_TEXT];

	if (call->yes)
		return true;
	size_text(total_bytes(litter), size);
	snprintf(question, sizeof(question), "remove all this (%s)?", size);
	return !call->json && choose_yes(question);
}

static int sweep(struct invocation *call, int64_t before_us)
{
	struct th_store *store = call->context.store;
	struct th_litter litter;
	struct th_error err = {0};
	char size[SIZE_TEXT];
	bool removed = false;

	if (th_litter_find(store, before_us, &litter, &err))
		return say_error(&err);
	if (is_empty(&litter) && !call->json) {
		struct th_error ignored = {0};

		/* Locks of killed pulls take no room, and go without a word. */
		th_litter_remove(store, &litter, before_us, &ignored);
		if (!call->quiet)
			puts("nothing lies about");
		th_litter_release(&litter);
		return EXIT_DONE;
	}
	if (!call->json && !call->quiet) {
		print_litter(&litter);
		fflush(stdout);
	}
	if (agreed(call, &litter))
		removed =
			th_litter_remove(store, &litter, before_us, &err) == 0;
	size_text(total_bytes(&litter), size);
	if (call->json && !err.code)
		print_json(describe(&litter, removed));
	else if (removed && !call->quiet)
		printf("freed %s\n", size);
	else if (!err.code && !call->quiet)
		puts("nothing was removed; tidyhull sweep --yes removes it");
	th_litter_release(&litter);
	return err.code ? say_error(&err) : EXIT_DONE;
}

static int run(struct invocation *call)
{
	const char *only = option_value(call, "only");
	const char *older = option_value(call, "older-than");
	struct th_error err = {0};
	int64_t span_us = 0;

	if (only && strcmp(only, "images") != 0) {
		th_fail(&err, TH_USAGE, "\"%.50s\" is not swept", only);
		th_hint(&err, "--only images");
	} else if (older && th_clock_parse_span(older, &span_us)) {
		th_fail(&err, TH_USAGE, "\"%.50s\" is not a span of time",
			older);
		th_hint(&err, "write 12h or 7d");
	}
	if (err.code)
		return say_error(&err);
	return sweep(call, older ? th_clock_now_us() - span_us : INT64_MAX);
}

static const struct option_spec options[] = {
	{"only", "KIND", "only images, and what belongs to them"},
	{"older-than", "SPAN", "only what was not touched for so long: 7d"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"Says what could go and how much that would "
				   "free, and asks. Images with a",
	"name, and those that a container uses, are never touched.", NULL};

static const char *const examples[] = {
	"tidyhull sweep", "tidyhull sweep --yes --older-than 7d", NULL};

const struct verb verb_sweep = {.name = "sweep",
	.group = "away with it",
	.summary = "see and remove what lies about unused",
	.usage = "",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_JSON,
	.least = 0,
	.most = 0,
	.run = run};
