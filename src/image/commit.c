#include "image/commit.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "image/resolve.h"
#include "image/stage.h"
#include "store/blob.h"
#include "store/step_state.h"

static int keep_document(struct th_store *store, const char *digest,
	const struct th_buf *body, bool step, struct th_error *err)
{
	struct th_blob_writer writer;
	int rc;

	if (th_blob_there(store, digest, body->len))
		return 0;
	rc = th_blob_begin(store, &writer, digest, err);
	writer.unsynced = step;
	if (rc == 0)
		rc = th_blob_add(&writer, body->data, body->len, err);
	if (rc == 0)
		rc = th_blob_commit(
			store, &writer, digest, body->len, "the document", err);
	th_blob_discard(store, &writer);
	return rc;
}

static int sync_folder(
	struct th_store *store, const char *path, struct th_error *err)
{
	int fd = openat(
		store->root_fd, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	int rc = fd < 0 || fsync(fd)
		? th_fail_write(
			  err, errno, "cannot write the image to the disk")
		: 0;

	th_close(&fd);
	return rc;
}

static int sync_all(struct th_store *store, struct th_error *err)
{
	return syncfs(store->root_fd)
		? th_fail_write(
			  err, errno, "cannot write the image to the disk")
		: 0;
}

static bool is_repeated(const struct th_commit *commit, size_t number)
{
	const struct th_manifest *manifest = commit->manifest;
	char *const *diff_ids = commit->config->diff_ids.items;

	for (size_t i = 0; i < number; i++) {
		if (strcmp(manifest->layers[i].digest,
			    manifest->layers[number].digest) == 0 &&
			strcmp(diff_ids[i], diff_ids[number]) == 0)
			return true;
	}
	return false;
}

/* Everything on the disk first; only then the names that say it is right. */
static int place_files(struct th_store *store, const struct th_commit *commit,
	struct th_error *err)
{
	const struct th_stack *stack = commit->stack;

	if (!commit->step && sync_all(store, err))
		return -1;
	for (size_t i = 0; i < commit->manifest->layer_count; i++) {
		const char *tree = stack->layers[i].tree;

		if (!is_repeated(commit, i) &&
			th_stage_place_blob(
				store, commit->manifest->layers[i].digest, err))
			return -1;
		if (*tree && th_stage_place_tree(store, tree, err))
			return -1;
	}
	if (*stack->folders && th_stage_place_tree(store, stack->folders, err))
		return -1;
	if (commit->step)
		return 0;
	return sync_folder(store, "images/blobs/sha256", err) ||
			sync_folder(store, "images/blobs/sha512", err) ||
			sync_folder(store, "trees", err)
		? -1
		: 0;
}

/* The size of a tree that was there before is taken from the image that
 * brought it, or measured. */
static uint64_t tree_bytes(
	struct th_store *store, const struct th_commit *commit, size_t number)
{
	const struct th_stacked *stacked = &commit->stack->layers[number];
	const char *diff_id = commit->config->diff_ids.items[number];
	int64_t known = 0;
	char path[128];

	if (!*stacked->tree)
		return 0;
	if (strcmp(stacked->tree, diff_id) == 0 && commit->tree_bytes[number])
		return commit->tree_bytes[number];
	if (stacked->tree_bytes)
		return stacked->tree_bytes;
	th_db_number(store->db, 0, &known, NULL,
		"SELECT max(tree_bytes) FROM image_layers WHERE tree=?", "t",
		stacked->tree);
	if (known > 0)
		return (uint64_t)known;
	snprintf(path, sizeof(path), "trees/%.80s",
		th_digest_hex(stacked->tree));
	return th_tree_size(store->root_fd, path);
}

static int add_image(struct th_store *store, const struct th_commit *commit,
	struct th_error *err)
{
	const struct th_manifest *manifest = commit->manifest;
	size_t count = manifest->layer_count;
	struct th_image_layer *layers = calloc(count, sizeof(*layers));
	struct th_image_row row = {0};
	int rc;

	if (!layers)
		return th_fail_memory(err);
	row.blob_bytes =
		commit->manifest_body->len + manifest->config.size_bytes;
	for (size_t i = 0; i < count; i++) {
		snprintf(layers[i].diff_id, sizeof(layers[i].diff_id), "%s",
			commit->config->diff_ids.items[i]);
		memcpy(layers[i].blob, manifest->layers[i].digest,
			TH_DIGEST_TEXT);
		layers[i].size_bytes = manifest->layers[i].size_bytes;
		layers[i].tree_bytes = tree_bytes(store, commit, i);
		snprintf(layers[i].tree, sizeof(layers[i].tree), "%s",
			commit->stack->layers[i].tree);
		row.blob_bytes += layers[i].size_bytes;
	}
	snprintf(row.digest, sizeof(row.digest), "%s", commit->digest);
	memcpy(row.config, manifest->config.digest, sizeof(row.config));
	th_platform_format(&commit->config->platform, row.platform);
	snprintf(row.created, sizeof(row.created), "%s",
		commit->config->created);
	row.manifest_bytes = commit->manifest_body->len;
	snprintf(
		row.folders, sizeof(row.folders), "%s", commit->stack->folders);
	snprintf(row.root, sizeof(row.root), "%s", commit->stack->root);
	rc = th_document_type(commit->manifest_body->data,
		commit->manifest_body->len, row.media, err);
	if (rc == 0 && commit->step)
		rc = th_image_state_add_step(
			store, &row, layers, count, commit->step, err);
	else if (rc == 0)
		rc = th_image_state_add(store, &row, layers, count,
			commit->name, commit->index, err);
	free(layers);
	return rc;
}

int th_image_commit(struct th_store *store, const struct th_commit *commit,
	struct th_error *err)
{
	bool step = commit->step != NULL;

	if (keep_document(
		    store, commit->digest, commit->manifest_body, step, err) ||
		keep_document(store, commit->manifest->config.digest,
			commit->config_body, step, err) ||
		place_files(store, commit, err))
		return -1;
	return add_image(store, commit, err);
}

int th_image_sync_steps(struct th_store *store, struct th_error *err)
{
	int64_t began_us = th_clock_now_us();
	bool unsynced = false;

	if (th_step_state_unsynced(store, &unsynced, err))
		return -1;
	if (!unsynced)
		return 0;
	if (sync_all(store, err))
		return -1;
	return th_step_state_synced(store, began_us, err);
}
