#include "image/remove.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "store/blob.h"

static int unused(struct th_store *store, const char *sql, const char *key,
	struct th_error *err)
{
	int64_t users = 1;

	if (th_db_number(store->db, 0, &users, err, sql, "t", key))
		return -1;
	return users == 0;
}

static int remove_tree(
	struct th_store *store, const char *diff_id, struct th_error *err)
{
	char from[128], to[128];

	snprintf(from, sizeof(from), "trees/%s", th_digest_hex(diff_id));
	snprintf(to, sizeof(to), "tmp/%.40s.gone", th_digest_hex(diff_id));
	/* Out of the way at once: a half-removed tree must not be found. */
	if (renameat(store->root_fd, from, store->root_fd, to))
		return 0;
	return th_tree_remove(store->root_fd, to, err);
}

/* The layers and documents of an image that is out of the state. */
static int remove_files(struct th_store *store, const struct th_image_row *row,
	const struct th_image_layer *layers, size_t count, struct th_error *err)
{
	int rc = 0;

	for (size_t i = 0; i < count; i++) {
		if (unused(store,
			    "SELECT count(*) FROM image_layers WHERE diff_id=?",
			    layers[i].diff_id, err) == 1)
			rc |= remove_tree(store, layers[i].diff_id, err);
		if (unused(store,
			    "SELECT count(*) FROM image_layers WHERE blob=?",
			    layers[i].blob, err) == 1)
			rc |= th_blob_remove(store, layers[i].blob, err);
	}
	if (unused(store, "SELECT count(*) FROM images WHERE config=?",
		    row->config, err) == 1)
		rc |= th_blob_remove(store, row->config, err);
	return rc | th_blob_remove(store, row->digest, err);
}

int th_image_remove(struct th_store *store, const char *digest,
	const char *name, bool *gone, struct th_error *err)
{
	struct th_image_row *rows = NULL;
	struct th_image_layer *layers = NULL;
	size_t row_count = 0, layer_count = 0;
	int rc = -1, untagged;

	*gone = false;
	if (th_store_hold(store, err))
		return -1;
	if (th_image_state_find(store, digest, &rows, &row_count, err) ||
		th_image_state_layers(
			store, digest, &layers, &layer_count, err))
		goto out;
	if (row_count != 1) {
		th_fail(err, TH_NOT_FOUND, "the image %s is not here", digest);
		goto out;
	}
	if (name) {
		untagged = th_image_state_untag(store, name, err);
		if (untagged < 0)
			goto out;
		*gone = untagged == 1;
	} else {
		if (th_image_state_remove(store, digest, err))
			goto out;
		*gone = true;
	}
	rc = *gone ? remove_files(store, &rows[0], layers, layer_count, err)
		   : 0;
out:
	free(layers);
	th_image_rows_free(rows, row_count);
	th_store_let_go(store);
	return rc;
}
