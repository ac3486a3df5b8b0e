/* What lies about unused: found, told, and removed. */
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "image/reclaim.h"
#include "library/library.h"
#include "network/network.h"

struct th_sweep {
	int kinds;
	int64_t before_us;
	struct th_litter litter; /* of images */
	struct th_container_row *rows; /* ended containers */
	size_t count;
	uint64_t bytes, *sizes; /* theirs: in all, and of each */
	struct th_volume_row *volumes;
	size_t volume_count;
	uint64_t volume_bytes, *volume_sizes;
	struct th_network_row *networks; /* that came by themselves */
	size_t network_count;
};

/* Containers that have ended before the time, but for those that their restart
 * policy wants up again. Those that were never started are there for a reason.
 */
static int find_ended(th_hull *hull, th_sweep *sweep, struct th_error *err)
{
	struct th_store *store = hull->context.store;
	size_t all = 0;

	if (th_container_rows(&hull->context, &sweep->rows, &all, err))
		return -1;
	sweep->sizes = calloc(all + 1, sizeof(*sweep->sizes));
	if (!sweep->sizes)
		return th_fail_memory(err);
	for (size_t i = 0; i < all; i++) {
		const struct th_container_row *row = &sweep->rows[i];
		uint64_t *size = &sweep->sizes[sweep->count];
		char path[64];

		if (row->state != TH_STATE_STOPPED || row->wanted ||
			row->ended_us >= sweep->before_us)
			continue;
		snprintf(path, sizeof(path), "containers/%s", row->id);
		*size = th_tree_size(store->root_fd, path);
		sweep->bytes += *size;
		sweep->rows[sweep->count++] = *row;
	}
	return 0;
}

static int find_volumes(th_hull *hull, th_sweep *sweep, struct th_error *err)
{
	struct th_store *store = hull->context.store;
	size_t all = 0;

	if (th_volume_list(store, NULL, &sweep->volumes, &all, err))
		return -1;
	sweep->volume_sizes = calloc(all + 1, sizeof(*sweep->volume_sizes));
	if (!sweep->volume_sizes)
		return th_fail_memory(err);
	for (size_t i = 0; i < all; i++) {
		const struct th_volume_row *row = &sweep->volumes[i];
		int64_t last = row->used_us > row->created_us ? row->used_us
							      : row->created_us;
		uint64_t *size = &sweep->volume_sizes[sweep->volume_count];
		char path[TH_NAME_MAX + 16];

		if (row->users || last >= sweep->before_us)
			continue;
		snprintf(path, sizeof(path), "volumes/%s", row->name);
		*size = th_tree_size(store->root_fd, path);
		sweep->volume_bytes += *size;
		sweep->volumes[sweep->volume_count++] = *row;
	}
	return 0;
}

/* One that somebody made, or chose addresses on, is theirs. */
static int find_networks(th_hull *hull, th_sweep *sweep, struct th_error *err)
{
	size_t all = 0;

	if (th_network_list(
		    hull->context.store, NULL, &sweep->networks, &all, err))
		return -1;
	for (size_t i = 0; i < all; i++) {
		const struct th_network_row *row = &sweep->networks[i];

		if (row->by_hand || row->given4 || row->given6 || row->users ||
			row->running || row->created_us >= sweep->before_us ||
			strcmp(row->name, TH_NETWORK_DEFAULT) == 0)
			continue;
		sweep->networks[sweep->network_count++] = *row;
	}
	return 0;
}

static uint64_t total_bytes(const th_sweep *sweep)
{
	const struct th_litter *litter = &sweep->litter;

	return sweep->bytes + sweep->volume_bytes + litter->image_bytes +
		litter->blob_bytes + litter->tree_bytes +
		litter->partial_bytes + litter->step_bytes;
}

static json_t *view(const th_sweep *sweep)
{
	const struct th_litter *litter = &sweep->litter;
	json_t *images = json_array(), *containers = json_array();
	json_t *networks = json_array(), *sizes = json_array();

	for (size_t i = 0; i < sweep->count; i++) {
		json_array_append_new(
			containers, json_string(sweep->rows[i].name));
		json_array_append_new(
			sizes, json_integer((json_int_t)sweep->sizes[i]));
	}
	for (size_t i = 0; i < sweep->network_count; i++)
		json_array_append_new(
			networks, json_string(sweep->networks[i].name));
	for (size_t i = 0; i < litter->image_count; i++)
		json_array_append_new(
			images, json_string(litter->images[i].digest));
	return json_pack(
		"{s:o s:o s:I s:I s:I s:o s:I s:I s:I s:I s:I s:I s:I s:I s:I "
		"s:o s:I}",
		"containers", containers, "container-sizes", sizes,
		"container-bytes", (json_int_t)sweep->bytes, "volumes",
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
		(json_int_t)litter->step_bytes, "networks", networks,
		"total-bytes", (json_int_t)total_bytes(sweep));
}

int th_sweep_find(th_hull *hull, int kinds, int64_t before_us, th_sweep **sweep,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	th_sweep *made;

	error = error ? error : &own;
	library_begin(doc);
	*sweep = NULL;
	made = calloc(1, sizeof(*made));
	if (!made)
		return th_fail_memory(error);
	made->kinds = kinds;
	made->before_us = before_us;
	if ((kinds & TH_SWEEP_CONTAINERS && find_ended(hull, made, error)) ||
		(kinds & TH_SWEEP_VOLUMES && find_volumes(hull, made, error)) ||
		(kinds & TH_SWEEP_NETWORKS &&
			find_networks(hull, made, error)) ||
		(kinds & TH_SWEEP_IMAGES &&
			th_litter_find(hull->context.store, before_us,
				&made->litter, error)) ||
		library_give(view(made), doc, error)) {
		th_sweep_free(made);
		return -1;
	}
	*sweep = made;
	return 0;
}

static int remove_ended(th_hull *hull, const th_sweep *sweep,
	struct th_cancel cancel, struct th_error *err)
{
	struct th_store *store = hull->context.store;

	for (size_t i = 0; i < sweep->count && !th_cancelled(cancel); i++) {
		struct th_container_row now;

		/* Somebody may have started it while the question stood. */
		if (th_state_get(store->db, sweep->rows[i].id, &now, err) ==
				1 &&
			now.state == TH_STATE_STOPPED &&
			th_container_remove(&hull->context, &now, false, err))
			return -1;
		th_work_add(cancel.work, sweep->sizes[i]);
	}
	return 0;
}

static int remove_all(th_hull *hull, const th_sweep *sweep,
	struct th_cancel cancel, struct th_error *err)
{
	struct th_store *store = hull->context.store;

	if (remove_ended(hull, sweep, cancel, err))
		return -1;
	for (size_t i = 0; i < sweep->volume_count; i++) {
		if (th_cancelled(cancel))
			return 0;
		if (th_volume_remove(store, sweep->volumes[i].name, err))
			return -1;
		th_work_add(cancel.work, sweep->volume_sizes[i]);
	}
	for (size_t i = 0; i < sweep->network_count; i++) {
		struct th_error in_use = {0};

		/* Somebody may have come to it meanwhile. */
		th_network_remove(store, sweep->networks[i].name, &in_use);
	}
	return sweep->kinds & TH_SWEEP_IMAGES
		? th_litter_remove(
			  store, &sweep->litter, sweep->before_us, cancel, err)
		: 0;
}

int th_sweep_remove(th_hull *hull, th_sweep *sweep, th_error *error)
{
	struct th_cancel cancel = hull->registries.cancel;
	struct th_error own = {0};
	int rc;

	error = error ? error : &own;
	th_work_begin(cancel.work, total_bytes(sweep));
	rc = remove_all(hull, sweep, cancel, error);
	th_work_end(cancel.work);
	if (rc == 0 && th_cancelled(cancel)) {
		th_fail(error, TH_FAILED, "the removal was interrupted");
		return th_hint(error,
			"what is not removed yet: tidyhull sweep shows it");
	}
	return rc;
}

void th_sweep_free(th_sweep *sweep)
{
	if (!sweep)
		return;
	th_litter_release(&sweep->litter);
	free(sweep->rows);
	free(sweep->sizes);
	free(sweep->volumes);
	free(sweep->volume_sizes);
	free(sweep->networks);
	free(sweep);
}
