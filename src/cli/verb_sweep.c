/* sweep: what lies about unused; sizes first, then a question. */
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/file.h"
#include "cli/choose.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "image/reclaim.h"
#include "network/network.h"

/* Everything that could go. */
struct sweep {
	struct th_litter litter; /* of images */
	struct th_container_row *rows; /* ended containers */
	size_t count;
	uint64_t bytes; /* theirs */
	struct th_volume_row *volumes; /* only where they are asked for */
	size_t volume_count;
	uint64_t volume_bytes;
	struct th_network_row *networks; /* that came by themselves */
	size_t network_count;
};

static uint64_t total_bytes(const struct sweep *sweep)
{
	const struct th_litter *litter = &sweep->litter;

	return sweep->bytes + sweep->volume_bytes + litter->image_bytes +
		litter->blob_bytes + litter->tree_bytes +
		litter->partial_bytes + litter->step_bytes;
}

static bool is_empty(const struct sweep *sweep)
{
	const struct th_litter *litter = &sweep->litter;

	return !sweep->count && !sweep->volume_count && !sweep->network_count &&
		!litter->image_count && !litter->blob_count &&
		!litter->tree_count && !litter->partial_count &&
		!litter->step_count;
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

static void print_litter(const struct sweep *sweep)
{
	const struct th_litter *litter = &sweep->litter;
	struct th_buf names;
	struct table *table = table_new();

	table_column(table, "what", false);
	table_column(table, "count", true);
	table_column(table, "frees", true);
	table_column(table, "", false);
	th_buf_init(&names, 60);
	for (size_t i = 0; i < sweep->count; i++)
		th_buf_addf(&names, "%s%s", i ? ", " : "", sweep->rows[i].name);
	if (names.failed) {
		th_buf_release(&names);
		th_buf_init(&names, 60);
		th_buf_addf(&names, "%.30s, ..., %.20s", sweep->rows[0].name,
			sweep->rows[sweep->count - 1].name);
	}
	add_row(table, "ended containers", sweep->count, sweep->bytes,
		names.data);
	th_buf_release(&names);
	add_row(table, "volumes", sweep->volume_count, sweep->volume_bytes,
		"used by no container");
	add_row(table, "networks", sweep->network_count, 0,
		"created on first use, with no containers");
	add_row(table, "untagged images", litter->image_count,
		litter->image_bytes, "used by no container");
	add_row(table, "remembered steps", litter->step_count,
		litter->step_bytes, "the next build would run them again");
	add_row(table, "layers", litter->tree_count, litter->tree_bytes,
		"unpacked, but part of no image");
	add_row(table, "blobs", litter->blob_count, litter->blob_bytes,
		"part of no image");
	add_row(table, "unfinished downloads", litter->partial_count,
		litter->partial_bytes, "a pull would resume them");
	table_print(table);
}

static json_t *describe(const struct sweep *sweep, bool removed)
{
	const struct th_litter *litter = &sweep->litter;
	json_t *images = json_array(), *containers = json_array();
	json_t *networks = json_array();

	for (size_t i = 0; i < sweep->count; i++)
		json_array_append_new(
			containers, json_string(sweep->rows[i].name));

	for (size_t i = 0; i < sweep->network_count; i++)
		json_array_append_new(
			networks, json_string(sweep->networks[i].name));
	for (size_t i = 0; i < litter->image_count; i++)
		json_array_append_new(
			images, json_string(litter->images[i].digest));
	return json_pack(
		"{s:o s:I s:I s:I s:o s:I s:I s:I s:I s:I s:I s:I s:I s:I s:o"
		" s:b}",
		"containers", containers, "container-bytes",
		(json_int_t)sweep->bytes, "volumes",
		(json_int_t)sweep->volume_count, "volume-bytes",
		(json_int_t)sweep->volume_bytes, "images", images,
		"image-bytes", (json_int_t)litter->image_bytes, "layers",
		(json_int_t)litter->tree_count, "layer-bytes",
		(json_int_t)litter->tree_bytes, "blobs",
		(json_int_t)litter->blob_count, "blob-bytes",
		(json_int_t)litter->blob_bytes, "unfinished",
		(json_int_t)litter->partial_count, "unfinished-bytes",
		(json_int_t)litter->partial_bytes, "steps",
		(json_int_t)litter->step_count, "step-bytes",
		(json_int_t)litter->step_bytes, "networks", networks, "removed",
		removed);
}

/* Asks, where it has to be; false where it is not to be done. */
static bool agreed(struct invocation *call, const struct sweep *sweep)
{
	char question[100], size[SIZE_TEXT];

	if (call->yes)
		return true;
	size_text(total_bytes(sweep), size);
	snprintf(question, sizeof(question), "remove all this (%s)?", size);
	return !call->json && choose_yes(question);
}

/* Containers that have ended before the time, but for those that their restart
 * policy wants up again. Those that were never started are there for a reason.
 */
static int find_containers_ended(struct invocation *call, int64_t before_us,
	struct sweep *sweep, struct th_error *err)
{
	struct th_store *store = call->hull.context.store;
	size_t all = 0;

	if (th_container_rows(&call->hull.context, &sweep->rows, &all, err))
		return -1;
	for (size_t i = 0; i < all; i++) {
		const struct th_container_row *row = &sweep->rows[i];
		char path[64];

		if (row->state != TH_STATE_STOPPED || row->wanted ||
			row->ended_us >= before_us)
			continue;
		snprintf(path, sizeof(path), "containers/%s", row->id);
		sweep->bytes += th_tree_size(store->root_fd, path);
		sweep->rows[sweep->count++] = *row;
	}
	return 0;
}

/* Named volumes are never touched unless somebody says so. */
static int find_volumes(struct invocation *call, int64_t before_us,
	struct sweep *sweep, struct th_error *err)
{
	struct th_store *store = call->hull.context.store;
	size_t all = 0;

	if (th_volume_list(store, NULL, &sweep->volumes, &all, err))
		return -1;
	for (size_t i = 0; i < all; i++) {
		const struct th_volume_row *row = &sweep->volumes[i];
		int64_t last = row->used_us > row->created_us ? row->used_us
							      : row->created_us;
		char path[TH_NAME_MAX + 16];

		if (row->users || last >= before_us)
			continue;
		snprintf(path, sizeof(path), "volumes/%s", row->name);
		sweep->volume_bytes += th_tree_size(store->root_fd, path);
		sweep->volumes[sweep->volume_count++] = *row;
	}
	return 0;
}

/* One that somebody made, or chose addresses on, is his. */
static int find_networks(struct invocation *call, int64_t before_us,
	struct sweep *sweep, struct th_error *err)
{
	size_t all = 0;

	if (th_network_list(call->hull.context.store, NULL, &sweep->networks,
		    &all, err))
		return -1;
	for (size_t i = 0; i < all; i++) {
		const struct th_network_row *row = &sweep->networks[i];

		if (row->by_hand || row->given4 || row->given6 || row->users ||
			row->running || row->created_us >= before_us ||
			strcmp(row->name, TH_NETWORK_DEFAULT) == 0)
			continue;
		sweep->networks[sweep->network_count++] = *row;
	}
	return 0;
}

static int remove_all(struct invocation *call, struct sweep *sweep,
	int64_t before_us, struct th_error *err)
{
	for (size_t i = 0; i < sweep->count; i++) {
		struct th_container_row now;

		/* Somebody may have started it while the question stood. */
		if (th_state_get(call->hull.context.store->db,
			    sweep->rows[i].id, &now, err) == 1 &&
			now.state == TH_STATE_STOPPED &&
			th_container_remove(
				&call->hull.context, &now, false, err))
			return -1;
	}
	for (size_t i = 0; i < sweep->volume_count; i++) {
		if (th_volume_remove(call->hull.context.store,
			    sweep->volumes[i].name, err))
			return -1;
	}
	for (size_t i = 0; i < sweep->network_count; i++) {
		struct th_error in_use = {0};

		/* Somebody may have come to it meanwhile. */
		th_network_forget(call->hull.context.store,
			sweep->networks[i].name, &in_use);
	}
	return th_litter_remove(
		call->hull.context.store, &sweep->litter, before_us, err);
}

static int finish(struct invocation *call, struct sweep *sweep,
	int64_t before_us, struct th_error *err)
{
	char size[SIZE_TEXT];
	bool removed = false;

	if (is_empty(sweep) && !call->json) {
		struct th_error ignored = {0}; /* the next sweep */

		/* Locks of killed pulls take no room, and go without a word. */
		th_litter_remove(call->hull.context.store, &sweep->litter,
			before_us, &ignored);
		if (!call->quiet)
			puts("there is nothing to remove");
		return EXIT_DONE;
	}
	if (!call->json && !call->quiet) {
		print_litter(sweep);
		fflush(stdout);
	}
	if (agreed(call, sweep))
		removed = remove_all(call, sweep, before_us, err) == 0;
	size_text(total_bytes(sweep), size);
	if (call->json && !err->code)
		print_json(describe(sweep, removed));
	else if (removed && !call->quiet)
		printf("freed %s\n", size);
	else if (!err->code && !call->quiet)
		puts("nothing was removed; to remove it: tidyhull sweep --yes");
	return err->code ? say_error(err) : EXIT_DONE;
}

static int run(struct invocation *call)
{
	const char *only = option_value(call, "only");
	const char *older = option_value(call, "older-than");
	bool containers = !only || strcmp(only, "containers") == 0;
	bool images = !only || strcmp(only, "images") == 0;
	bool volumes = only && strcmp(only, "volumes") == 0;
	bool networks = !only || strcmp(only, "networks") == 0;
	struct sweep sweep = {.rows = NULL};
	struct th_error err = {0};
	int64_t span_us = 0, before_us;
	int code;

	if (!containers && !images && !volumes && !networks) {
		th_fail(&err, TH_USAGE, "sweep cannot remove \"%.50s\"", only);
		th_hint(&err,
			"use --only containers, images, volumes or networks");
	} else if (older && th_clock_parse_span(older, &span_us)) {
		th_fail(&err, TH_USAGE, "\"%.50s\" is not a duration", older);
		th_hint(&err, "for example 12h or 7d");
	}
	if (err.code)
		return say_error(&err);
	before_us = older ? th_clock_now_us() - span_us : INT64_MAX;
	if ((containers &&
		    find_containers_ended(call, before_us, &sweep, &err)) ||
		(volumes && find_volumes(call, before_us, &sweep, &err)) ||
		(networks && find_networks(call, before_us, &sweep, &err)) ||
		(images &&
			th_litter_find(call->hull.context.store, before_us,
				&sweep.litter, &err)))
		code = say_error(&err);
	else
		code = finish(call, &sweep, before_us, &err);
	th_litter_release(&sweep.litter);
	free(sweep.rows);
	free(sweep.volumes);
	free(sweep.networks);
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
	.summary = "show and remove what is unused",
	.usage = "",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_JSON,
	.least = 0,
	.most = 0,
	.run = run};
