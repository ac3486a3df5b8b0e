#include "image/borrow.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "base/random.h"
#include "image/stage.h"
#include "store/image_state.h"

/* A link below tmp/ to what lies at that place of the lender. */
static int link_to(struct th_store *store, const char *place, char path[64],
	struct th_error *err)
{
	char id[TH_ID_LENGTH + 1];
	char *target = th_format("%s/%s", store->lender->folder, place);
	int rc;

	if (!target)
		return th_fail_memory(err);
	th_id_new(id);
	snprintf(path, 64, "tmp/%s.link", id);
	rc = symlinkat(target, store->root_fd, path)
		? th_fail_sys(err, TH_FAILED, errno,
			  "cannot create a link in %s", store->root)
		: 0;
	free(target);
	return rc;
}

int th_borrow_tree(
	struct th_store *store, const char *tree, struct th_error *err)
{
	const struct th_lender *lender = store->lender;
	struct th_layer_notes notes = {0};
	char place[TH_TREE_TEXT + 32], path[64];
	struct stat st;
	int rc;

	if (!lender || lender->fd < 0)
		return 0;
	snprintf(place, sizeof(place), "trees/%s", th_digest_hex(tree));
	if (fstatat(lender->fd, place, &st, AT_SYMLINK_NOFOLLOW) ||
		!S_ISDIR(st.st_mode))
		return 0;
	if (link_to(store, place, path, err))
		return -1;
	snprintf(place, sizeof(place), "trees/%s.notes", th_digest_hex(tree));
	rc = th_layer_notes_read(lender->fd, place, &notes, err) < 0 ? -1 : 0;
	if (rc == 0)
		rc = th_stage_keep_notes(store, tree, &notes, err);
	if (rc == 0)
		rc = th_stage_keep_tree(store, tree, path, err);
	th_layer_notes_release(&notes);
	if (rc)
		unlinkat(store->root_fd, path, 0);
	return rc ? -1 : 1;
}

static void blob_place(const char *blob, char place[TH_DIGEST_PATH + 16])
{
	char name[TH_DIGEST_PATH];

	snprintf(place, TH_DIGEST_PATH + 16, "images/blobs/%s",
		th_digest_path(blob, name));
}

bool th_borrow_has_blob(
	const struct th_store *store, const char *blob, uint64_t size_bytes)
{
	const struct th_lender *lender = store->lender;
	char place[TH_DIGEST_PATH + 16];
	struct stat st;

	blob_place(blob, place);
	return lender && lender->fd >= 0 &&
		fstatat(lender->fd, place, &st, AT_SYMLINK_NOFOLLOW) == 0 &&
		S_ISREG(st.st_mode) && (uint64_t)st.st_size == size_bytes;
}

int th_borrow_blob(struct th_store *store, const char *blob,
	uint64_t size_bytes, struct th_error *err)
{
	char place[TH_DIGEST_PATH + 16], path[64];

	if (!th_borrow_has_blob(store, blob, size_bytes))
		return 0;
	blob_place(blob, place);
	if (link_to(store, place, path, err))
		return -1;
	if (th_stage_keep_blob(store, blob, path, err) == 0)
		return 1;
	unlinkat(store->root_fd, path, 0);
	return -1;
}

static int add_below(int tree, const char *path, struct th_strings *paths)
{
	int fd = *path
		? th_path_open_beneath(tree, path, O_RDONLY | O_DIRECTORY, 0)
		: openat(tree, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *folder = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = 0;

	/* Only its owner may look into it. */
	if (!folder && fd < 0 && errno == EACCES)
		return 0;
	if (!folder) {
		th_close(&fd);
		return -1;
	}
	while (rc == 0 && (errno = 0, entry = readdir(folder))) {
		const char *name = entry->d_name;
		struct stat st;

		if (strcmp(name, ".") == 0 || strcmp(name, "..") == 0)
			continue;
		if (entry->d_type == DT_UNKNOWN &&
			fstatat(fd, name, &st, AT_SYMLINK_NOFOLLOW) == 0 &&
			S_ISDIR(st.st_mode))
			entry->d_type = DT_DIR;
		if (entry->d_type == DT_DIR)
			rc = th_strings_take(paths,
				th_format("%s%s%s", path, *path ? "/" : "",
					name));
	}
	if (rc == 0 && errno)
		rc = -1;
	closedir(folder);
	return rc;
}

int th_borrow_list_folders(
	int tree, struct th_strings *paths, struct th_error *err)
{
	size_t next = paths->count;
	int rc = add_below(tree, "", paths);

	/* Those that were found are looked into in their turn. */
	for (; rc == 0 && next < paths->count; next++)
		rc = add_below(tree, paths->items[next], paths);
	return rc ? th_fail_sys(err, TH_FAILED, errno,
			    "cannot read the folders of a borrowed layer")
		  : 0;
}
