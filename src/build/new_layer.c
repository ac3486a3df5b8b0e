#include "build/new_layer.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/random.h"
#include "image/room.h"

/* What lies in tmp/ while it is made. */
struct place {
	char blob[64], tree[64];
	int blob_fd, tree_fd;
};

static int open_place(
	struct th_store *store, struct place *place, struct th_error *err)
{
	char id[TH_ID_LENGTH + 1];

	th_id_new(id);
	snprintf(place->blob, sizeof(place->blob), "tmp/%s.blob", id);
	snprintf(place->tree, sizeof(place->tree), "tmp/%s.tree", id);
	place->tree_fd = -1;
	place->blob_fd = openat(store->root_fd, place->blob,
		O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
	if (place->blob_fd >= 0 &&
		mkdirat(store->root_fd, place->tree, 0755) == 0)
		place->tree_fd = openat(store->root_fd, place->tree,
			O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	return place->tree_fd >= 0
		? 0
		: th_fail_write(
			  err, errno, "cannot write to %s/tmp", store->root);
}

static void close_place(struct th_store *store, struct place *place)
{
	th_close(&place->blob_fd);
	th_close(&place->tree_fd);
	/* What was staged has another name by now. */
	unlinkat(store->root_fd, place->blob, 0);
	th_tree_remove(store->root_fd, place->tree, NULL);
}

static int write_entries(struct th_new_layer *new, struct th_produce *produce,
	struct th_error *err)
{
	struct th_tar_out out;
	int rc;

	th_tar_out_init_sink(&out, th_produce_sink(produce));
	rc = new->fill(new->owner, &out, err);
	new->empty = out.written_bytes == 0;
	if (rc == 0)
		rc = th_tar_out_end(&out, err);
	th_tar_out_release(&out);
	return rc;
}

static int stage(struct th_new_layer *new, const struct place *place,
	const struct th_produced *produced, struct th_error *err)
{
	struct th_draft_layer *layer = &new->layer;

	memcpy(layer->diff_id, produced->diff_id, sizeof(layer->diff_id));
	memcpy(layer->blob, produced->blob, sizeof(layer->blob));
	layer->size_bytes = produced->size_bytes;
	layer->tree_bytes = produced->tree_bytes;
	layer->compression = new->compression;
	new->plain_bytes = produced->plain_bytes;
	return th_draft_stage(new->store, layer, place->blob, place->tree,
		&produced->notes, err);
}

int th_new_layer(struct th_new_layer *new, struct th_error *err)
{
	struct th_produce_options options = {.compression = new->compression,
		.level = new->level,
		.never = new->never,
		.cancel = new->cancel};
	struct th_produced produced = {0};
	struct th_produce *produce = NULL;
	struct place place;
	int rc = open_place(new->store, &place, err);

	options.blob = place.blob_fd;
	options.tree = place.tree_fd;
	if (rc == 0)
		rc = th_room_check(new->store->root_fd, err);
	if (rc == 0)
		rc = th_produce_begin(&options, &produce, err);
	if (rc == 0)
		rc = write_entries(new, produce, err);
	if (rc == 0)
		rc = th_produce_end(produce, &produced, err);
	if (rc == 0 && !new->empty)
		rc = stage(new, &place, &produced, err);
	th_produce_free(produce);
	th_layer_notes_release(&produced.notes);
	close_place(new->store, &place);
	return rc;
}
