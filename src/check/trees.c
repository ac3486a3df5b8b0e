/* Whether an unpacked layer holds what its archive says. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "check/parts.h"
#include "layer/archive.h"
#include "layer/tar.h"
#include "oci/digest.h"
#include "store/blob.h"

#define PIECE (64 * 1024)

struct comparing {
	const struct checking *checking;
	int tree;
	struct th_tar *tar;
	char *piece;
	struct th_strings
		wrong; /* names of files that are not as they should */
};

/* A later entry of the same name is what counts. */
static void note(struct comparing *comparing, const char *given, bool is_right)
{
	struct th_strings *wrong = &comparing->wrong;
	/* "./a" and "a" are one. */
	char *name = th_path_absolute("/", given);

	for (size_t i = 0; name && i < wrong->count; i++) {
		if (strcmp(wrong->items[i], name) != 0)
			continue;
		if (is_right) {
			free(wrong->items[i]);
			wrong->items[i] = wrong->items[--wrong->count];
			wrong->items[wrong->count] = NULL;
		}
		free(name);
		return;
	}
	if (is_right)
		free(name);
	else
		th_strings_take(wrong, name);
}

static bool is_same(struct comparing *comparing, int fd, const char *data,
	size_t len, uint64_t at)
{
	while (len > 0) {
		size_t part = len < PIECE ? len : PIECE;
		ssize_t got = pread(fd, comparing->piece, part, (off_t)at);

		if (got < 0 && errno == EINTR)
			continue;
		if (got <= 0 ||
			memcmp(comparing->piece, data, (size_t)got) != 0)
			return false;
		data += got;
		at += (uint64_t)got;
		len -= (size_t)got;
	}
	return true;
}

static int compare_file(struct comparing *comparing,
	const struct th_tar_entry *entry, struct th_error *err)
{
	/* What is there now may be a FIFO, which nobody may ever open. */
	int fd = th_path_open_in_root(comparing->tree, entry->name,
		O_RDONLY | O_NOFOLLOW | O_NONBLOCK, 0);
	char *name = strdup(entry->name);
	const void *data;
	struct stat st;
	uint64_t at;
	size_t len;
	/* Of a lender's, which nobody here may read: not known to be wrong. */
	bool closed = fd < 0 && errno == EACCES;
	bool right = fd >= 0 && fstat(fd, &st) == 0 && S_ISREG(st.st_mode) &&
		(uint64_t)st.st_size == entry->size_bytes;
	int rc = name ? 1 : th_fail_memory(err);

	while (rc == 1 && right && !check_cancelled(comparing->checking) &&
		(rc = th_tar_data(comparing->tar, &data, &len, &at, err)) ==
			1) {
		right = is_same(comparing, fd, data, len, at);
		th_work_add(comparing->checking->context->work, len);
	}
	th_close(&fd);
	if (rc >= 0)
		note(comparing, name, right || closed);
	free(name);
	return rc < 0 ? -1 : 0;
}

static int compare_all(struct comparing *comparing, struct th_error *err)
{
	const struct th_tar_entry *entry;
	int rc;

	while ((rc = th_tar_next(comparing->tar, &entry, err)) == 1) {
		const char *last = th_path_last(entry->name);

		if (check_cancelled(comparing->checking))
			return 0;
		/* Marks of deletions are no files. */
		if (strncmp(last, ".wh.", 4) == 0)
			continue;
		if (entry->type == S_IFREG) {
			if (compare_file(comparing, entry, err))
				return -1;
		} else {
			note(comparing, entry->name, true);
		}
	}
	return rc;
}

/* A tree that is the layer's own: one that was put on others may differ. */
static bool is_own(const struct th_image_layer *layer)
{
	return strcmp(layer->tree, layer->diff_id) == 0;
}

static void tell(struct checking *checking, const char *image,
	const struct th_image_layer *layer, const struct th_strings *wrong)
{
	char more[48] = "";

	if (wrong->count > 1)
		snprintf(more, sizeof(more), " and %zu more", wrong->count - 1);
	check_found(checking, TH_PART_IMAGE, image, "",
		"%.100s%s in an unpacked layer (%.12s): not as in its archive; "
		"remove the image, and pull it again",
		wrong->items[0], more, th_digest_hex(layer->tree));
}

void check_tree_files(struct checking *checking, const char *image,
	const struct th_image_layer *layer)
{
	struct th_store *store = checking->context->store;
	struct comparing comparing = {
		.checking = checking, .tree = -1, .piece = malloc(PIECE)};
	struct th_archive *archive = NULL;
	struct th_error ignored = {0}; /* of the blob, which is told already */
	char path[TH_TREE_TEXT + 16];
	int blob = -1;

	if (!is_own(layer) || !comparing.piece)
		goto out;
	snprintf(path, sizeof(path), "trees/%s", th_digest_hex(layer->tree));
	comparing.tree = openat(store->root_fd, path,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC | th_store_links(store));
	blob = th_blob_open(store, layer->blob, &ignored);
	archive = blob < 0 ? NULL : th_archive_new(blob);
	comparing.tar = archive ? th_tar_new(th_archive_source(archive)) : NULL;
	if (comparing.tree >= 0 && comparing.tar)
		compare_all(&comparing, &ignored);
	/* A later entry may have put it right. */
	if (comparing.wrong.count && !check_cancelled(checking))
		tell(checking, image, layer, &comparing.wrong);
out:
	th_tar_free(comparing.tar);
	th_archive_free(archive);
	th_strings_release(&comparing.wrong);
	free(comparing.piece);
	th_close(&comparing.tree);
	th_close(&blob);
}
