#include "image/reclaim.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/random.h"
#include "store/step_state.h"

#define SHA256 "images/blobs/sha256"
#define SHA512 "images/blobs/sha512"
#define NOTES ".notes"

/* Calls act for each entry of a folder of the store; an act of -1 is noted but
 * stops nothing. */
static int each_entry(struct th_store *store, const char *path,
	int (*act)(void *owner, int folder, const char *name), void *owner)
{
	int fd = openat(
		store->root_fd, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = 0;

	if (!dir) {
		th_close(&fd);
		return -1;
	}
	while ((entry = readdir(dir))) {
		if (entry->d_name[0] != '.' && act(owner, fd, entry->d_name))
			rc = -1;
	}
	closedir(dir);
	return rc;
}

static int compare(const void *key, const void *item)
{
	return strcmp(key, *(char *const *)item);
}

/* The notes on a tree stand beside it. */
static bool is_needed(const struct th_strings *needed, const char *name)
{
	char digest[TH_TREE_TEXT + 16];
	size_t used, notes = strlen(NOTES);

	if (!th_digest_of_name(name, digest))
		return false;
	used = strlen(digest);
	snprintf(digest + used, sizeof(digest) - used, "%s",
		strchrnul(name, '.'));
	used = strlen(digest);
	if (used > notes && strcmp(digest + used - notes, NOTES) == 0)
		digest[used - notes] = '\0';
	return needed->count &&
		bsearch(digest, needed->items, needed->count,
			sizeof(*needed->items), compare) != NULL;
}

static uint64_t size_of(int folder, const char *name, const struct stat *st)
{
	return (uint64_t)st->st_blocks * 512 +
		(S_ISDIR(st->st_mode) ? th_tree_size(folder, name) : 0);
}

struct removing {
	struct th_store *store;
	const struct th_strings *needed;
	int64_t before_us;
	struct th_cancel cancel;
};

/* What is told of what goes: of a tree only where somebody waits for it, as it
 * has to be measured first. */
static void tell(const struct removing *removing, int folder, const char *name)
{
	const struct th_work *work = removing->cancel.work;
	struct stat st;

	if (work && work->tell &&
		fstatat(folder, name, &st, AT_SYMLINK_NOFOLLOW) == 0)
		th_work_add(work, size_of(folder, name, &st));
}

/* Out of the way at once: what is half removed must not be found. */
static int move_away(struct th_store *store, int folder, const char *name)
{
	char to[64], id[TH_ID_LENGTH + 1];

	th_id_new(id);
	snprintf(to, sizeof(to), "tmp/%s.gone", id);
	if (renameat(folder, name, store->root_fd, to))
		return errno == ENOENT ? 0 : -1;
	return th_tree_remove(store->root_fd, to, NULL);
}

static bool is_older(const struct stat *st, int64_t before_us)
{
	return (int64_t)st->st_ctim.tv_sec * 1000000 +
		st->st_ctim.tv_nsec / 1000 <=
		before_us;
}

static bool is_younger(int folder, const char *name, int64_t before_us)
{
	struct stat st;

	return before_us != INT64_MAX &&
		(fstatat(folder, name, &st, AT_SYMLINK_NOFOLLOW) ||
			!is_older(&st, before_us));
}

static int remove_blob(void *owner, int folder, const char *name)
{
	struct removing *removing = owner;

	if (th_cancelled(removing->cancel) ||
		is_needed(removing->needed, name) ||
		is_younger(folder, name, removing->before_us))
		return 0;
	tell(removing, folder, name);
	return unlinkat(folder, name, 0) && errno != ENOENT ? -1 : 0;
}

static int remove_tree(void *owner, int folder, const char *name)
{
	struct removing *removing = owner;

	if (th_cancelled(removing->cancel) ||
		is_needed(removing->needed, name) ||
		is_younger(folder, name, removing->before_us))
		return 0;
	tell(removing, folder, name);
	return move_away(removing->store, folder, name);
}

/* Whoever calls it holds the store, and the images alone. */
static int remove_unneeded(struct th_store *store, int64_t before_us,
	struct th_cancel cancel, struct th_error *err)
{
	struct th_strings blobs = {0}, trees = {0};
	struct removing removing = {.store = store,
		.needed = &blobs,
		.before_us = before_us,
		.cancel = cancel};
	int rc = th_image_state_needed(store, &blobs, &trees, err);

	if (rc == 0) {
		rc = each_entry(store, SHA256, remove_blob, &removing) |
			each_entry(store, SHA512, remove_blob, &removing);
		removing.needed = &trees;
		rc |= each_entry(store, "trees", remove_tree, &removing);
		if (rc)
			th_fail(err, TH_FAILED, "cannot remove part of %s",
				store->root);
		else if (before_us == INT64_MAX && !th_cancelled(cancel))
			rc = th_image_state_reclaimed(store, err);
	}
	th_strings_release(&blobs);
	th_strings_release(&trees);
	return rc;
}

void th_image_reclaim_due(struct th_store *store)
{
	struct th_error ignored = {0}; /* due as before */
	bool due = false;

	if (th_image_state_reclaim_due(store, &due, &ignored) || !due)
		return;
	if (th_store_hold(store, &ignored))
		return;
	if (th_store_own_images(store, &ignored) == 1) {
		remove_unneeded(
			store, INT64_MAX, (struct th_cancel){0}, &ignored);
		th_store_unuse_images(store);
	}
	th_store_let_go(store);
}

void th_image_repair(struct th_store *store)
{
	struct th_error ignored = {0}; /* the next one does */

	th_image_state_repair(store, &ignored);
	th_error_clear(&ignored);
	th_step_state_forget_lost(store, &ignored);
	th_image_reclaim_due(store);
}

/* ---- what lies about ---- */

struct looking {
	struct th_store *store;
	const struct th_strings *needed;
	struct th_litter *litter;
	int64_t before_us;
	bool trees;
};

static int look_at(void *owner, int folder, const char *name)
{
	struct looking *looking = owner;
	struct th_litter *litter = looking->litter;
	struct stat st;

	if (is_needed(looking->needed, name) ||
		fstatat(folder, name, &st, AT_SYMLINK_NOFOLLOW) ||
		!is_older(&st, looking->before_us))
		return 0;
	if (looking->trees) {
		litter->tree_count += S_ISDIR(st.st_mode);
		litter->tree_bytes += size_of(folder, name, &st);
	} else {
		litter->blob_count++;
		litter->blob_bytes += size_of(folder, name, &st);
	}
	return 0;
}

static bool is_lock(const char *name)
{
	size_t len = strlen(name);

	return len > 5 && strcmp(name + len - 5, ".lock") == 0;
}

static int look_at_partial(void *owner, int folder, const char *name)
{
	struct looking *looking = owner;
	struct stat st;

	if (is_lock(name) || fstatat(folder, name, &st, AT_SYMLINK_NOFOLLOW) ||
		!is_older(&st, looking->before_us))
		return 0;
	looking->litter->partial_count++;
	looking->litter->partial_bytes += size_of(folder, name, &st);
	return 0;
}

static int find_nameless(struct th_store *store, int64_t before_us,
	struct th_litter *litter, struct th_error *err)
{
	struct th_image_row *rows = NULL;
	size_t count = 0, kept = 0;

	if (th_image_state_find(store, NULL, &rows, &count, err))
		return -1;
	for (size_t i = 0; i < count; i++) {
		struct th_image_row row = rows[i];

		if (row.tags.count || row.containers ||
			row.pulled_us > before_us) {
			th_strings_release(&rows[i].tags);
			continue;
		}
		rows[kept++] = row;
		litter->image_bytes += row.disk_bytes - row.shared_bytes;
	}
	litter->images = rows;
	litter->image_count = kept;
	return 0;
}

int th_litter_find(struct th_store *store, int64_t before_us,
	struct th_litter *litter, struct th_error *err)
{
	struct th_strings blobs = {0}, trees = {0};
	struct looking looking = {.store = store,
		.needed = &blobs,
		.litter = litter,
		.before_us = before_us};
	int rc;

	memset(litter, 0, sizeof(*litter));
	rc = th_image_state_needed(store, &blobs, &trees, err);
	if (rc == 0) {
		each_entry(store, SHA256, look_at, &looking);
		each_entry(store, SHA512, look_at, &looking);
		looking.needed = &trees;
		looking.trees = true;
		each_entry(store, "trees", look_at, &looking);
		each_entry(store, "partial", look_at_partial, &looking);
		rc = find_nameless(store, before_us, litter, err);
	}
	if (rc == 0)
		rc = th_step_state_count(store, before_us, &litter->step_count,
			&litter->step_bytes, err);
	th_strings_release(&blobs);
	th_strings_release(&trees);
	if (rc)
		th_litter_release(litter);
	return rc;
}

void th_litter_release(struct th_litter *litter)
{
	th_image_rows_free(litter->images, litter->image_count);
	memset(litter, 0, sizeof(*litter));
}

static int remove_partial(void *owner, int folder, const char *name)
{
	struct removing *removing = owner;

	/* Locks without a holder are as old as what they were for. */
	if (th_cancelled(removing->cancel) ||
		is_younger(folder, name, removing->before_us))
		return 0;
	tell(removing, folder, name);
	return move_away(removing->store, folder, name);
}

static int remove_images(struct th_store *store, const struct th_litter *litter,
	int64_t before_us, struct th_error *err)
{
	for (size_t i = 0; i < litter->image_count; i++) {
		struct th_error one = {0};

		/* Somebody may have named, used or removed it meanwhile. */
		if (th_image_state_remove_nameless(
			    store, litter->images[i].digest, &one) < 0) {
			*err = one;
			return -1;
		}
	}
	return litter->step_count ? th_step_state_forget(store, before_us, err)
				  : 0;
}

int th_litter_remove(struct th_store *store, const struct th_litter *litter,
	int64_t before_us, struct th_cancel cancel, struct th_error *err)
{
	struct removing removing = {
		.store = store, .before_us = before_us, .cancel = cancel};
	int rc, alone;

	if (th_store_hold(store, err))
		return -1;
	/* Rows before files: an image whose row is gone cannot be used while
	 * its layers go. */
	rc = remove_images(store, litter, before_us, err);
	alone = rc ? 0 : th_store_own_images(store, err);
	if (rc == 0 && alone == 0) {
		th_fail(err, TH_IN_USE, "an image is being stored just now");
		th_hint(err, "try again when the pull has finished");
	}
	if (alone == 1) {
		rc = remove_unneeded(store, before_us, cancel, err);
		if (each_entry(store, "partial", remove_partial, &removing) &&
			rc == 0)
			rc = th_fail(err, TH_FAILED,
				"cannot remove part of %s/partial",
				store->root);
		th_store_unuse_images(store);
	} else {
		rc = -1;
	}
	th_store_let_go(store);
	return rc;
}
