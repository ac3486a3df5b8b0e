/* Images: the blobs and trees of each, and what the layout has besides. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/hash.h"
#include "check/parts.h"
#include "image/packed.h"
#include "image/pull.h"
#include "store/blob.h"
#include "store/image_state.h"

#define PIECE (256 * 1024)

static const char *name_of(const struct th_image_row *row)
{
	return row->tags.count ? row->tags.items[0] : row->digest;
}

/* 1 where it is what its name says, 0, -1 where it is not there. */
static int is_whole(const struct checking *checking, const char *digest)
{
	const struct th_store *store = checking->context->store;
	struct th_error ignored = {0}; /* then it is not there */
	char found[TH_HASH_TEXT] = "", *piece;
	int fd = th_blob_open(store, digest, &ignored);
	struct th_hash *hash;
	ssize_t got = -1;

	if (fd < 0)
		return -1;
	hash = th_hash_new(digest);
	piece = malloc(PIECE);
	while (hash && piece && !check_cancelled(checking) &&
		(got = read(fd, piece, PIECE)) > 0) {
		th_hash_add(hash, piece, (size_t)got);
		th_work_add(checking->context->work, (uint64_t)got);
	}
	if (hash && got == 0)
		th_hash_digest(hash, found);
	th_hash_free(hash);
	free(piece);
	close(fd);
	/* Nobody knows of what was not looked at to its end. */
	return check_cancelled(checking) || strcmp(found, digest) == 0;
}

/* True where it is whole, and was not looked at before. */
static bool check_blob(struct checking *checking,
	const struct th_image_row *row, const char *digest, const char *what)
{
	struct th_store *store = checking->context->store;
	struct th_error ignored = {0}; /* it is found again */
	bool gone = false;
	int rc;

	/* Images share most of theirs. */
	for (size_t i = 0; i < checking->seen.count; i++) {
		if (strcmp(checking->seen.items[i], digest) == 0)
			return false;
	}
	if (th_strings_add(&checking->seen, digest))
		return false;
	checking->findings->blobs++;
	rc = is_whole(checking, digest);
	if (rc == 1)
		return true;
	/* Out of the way: the next pull brings it anew. */
	if (rc == 0 && checking->mend)
		gone = th_blob_remove(store, digest, &ignored) == 0;
	check_found(checking, TH_PART_IMAGE, name_of(row),
		gone ? "removed: the next pull brings it anew" : "",
		"%s (%.19s) %s", what, digest,
		rc < 0 ? "is missing: remove the image, and pull it again"
		       : "is damaged");
	return false;
}

static int check_tree(struct checking *checking, const struct th_image_row *row,
	const char *name)
{
	struct th_store *store = checking->context->store;
	char path[TH_TREE_TEXT + 16];
	struct stat st;

	checking->findings->trees++;
	snprintf(path, sizeof(path), "trees/%s", th_digest_hex(name));
	/* A lender's is behind a link. */
	if (fstatat(store->root_fd, path, &st, th_store_stat_links(store)) ==
			0 &&
		S_ISDIR(st.st_mode))
		return 0;
	check_found(checking, TH_PART_IMAGE, name_of(row), "",
		"an unpacked layer (%.12s) is missing: remove the image, and "
		"pull it again",
		th_digest_hex(name));
	return 0;
}

static int check_image(struct checking *checking,
	const struct th_image_row *row, struct th_error *err)
{
	struct th_store *store = checking->context->store;
	struct th_image_layer *layers = NULL;
	struct th_strings trees = {0};
	char root[TH_TREE_TEXT];
	size_t count = 0;

	check_blob(checking, row, row->digest, "its manifest");
	check_blob(checking, row, row->config, "its configuration");
	if (th_image_state_layers(store, row->digest, &layers, &count, err))
		return -1;
	for (size_t i = 0; i < count; i++) {
		/* Of those that images share, once. */
		if (check_blob(checking, row, layers[i].blob, "a layer"))
			check_tree_files(checking, name_of(row), &layers[i]);
	}
	free(layers);
	if (th_image_state_trees(store, row->digest, &trees, root, err))
		return -1;
	for (size_t i = 0; i < trees.count; i++)
		check_tree(checking, row, trees.items[i]);
	th_strings_release(&trees);
	return 0;
}

static int take_up(const struct th_context *context,
	const struct th_packed *packed, const struct th_packed_image *image,
	struct th_error *err)
{
	struct th_pull_options options = {.registries = context->registries};
	struct th_pulled pulled;
	int rc = th_pull_packed(
		context->store, packed, image, NULL, &options, &pulled, err);

	th_pulled_release(&pulled);
	return rc;
}

/* What index.json lists and the state has not: after the database was lost. */
static int check_layout(struct checking *checking, struct th_error *err)
{
	struct th_store *store = checking->context->store;
	const struct th_cancel never = {0}; /* a folder, not an archive */
	const struct th_packed_image *images;
	struct th_packed *packed = NULL;
	char path[4096];
	size_t count = 0;
	int rc = 0;

	snprintf(path, sizeof(path), "%s/images", store->root);
	if (th_packed_open(store, path, never, &packed, err))
		return -1;
	images = th_packed_images(packed, &count);
	for (size_t i = 0; rc >= 0 && i < count; i++) {
		struct th_error own = {0};
		const char *name = images[i].name[0] ? images[i].name : NULL;
		bool done = false;

		rc = th_image_state_is(store, images[i].digest, name, err);
		if (rc == 2)
			continue;
		if (rc >= 0 && checking->mend)
			done = take_up(checking->context, packed, &images[i],
				       &own) == 0;
		check_found(checking, TH_PART_IMAGE,
			name ? name : images[i].digest,
			done ? "taken up again" : "",
			"it is in images/, and the state does not know "
			"it%s%.120s",
			own.code ? ": " : "", own.msg);
	}
	th_packed_close(packed);
	return rc < 0 ? -1 : 0;
}

int check_images(struct checking *checking, struct th_error *err)
{
	struct th_store *store = checking->context->store;
	struct th_image_row *rows = NULL;
	size_t count = 0;
	int rc = 0;

	if (check_layout(checking, err) ||
		th_image_state_find(store, NULL, &rows, &count, err))
		return -1;
	for (size_t i = 0; rc == 0 && i < count; i++)
		rc = check_image(checking, &rows[i], err);
	checking->findings->images = count;
	th_image_rows_free(rows, count);
	return rc;
}
