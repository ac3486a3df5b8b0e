#include "image/stage.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include "base/file.h"
#include "base/random.h"
#include "store/blob.h"

#define PATH_BYTES 200
#define READ_BYTES (256 * 1024)
/* The kernel is asked to write back in steps, so that the sync at the end has
 * little left to do. */
#define FLUSH_STEP (8u << 20)
#define WAIT_STEP_MS 20

/* partial/HEX and what stands behind it; kinds of this boot end in its ID. */
static void staged_path(const struct th_store *store, const char *digest,
	const char *kind, char path[PATH_BYTES])
{
	const char *hex = th_digest_hex(digest);
	int digits = (int)strcspn(hex, ".");

	if (!kind)
		snprintf(path, PATH_BYTES, "partial/%.*s", digits, hex);
	else
		snprintf(path, PATH_BYTES, "partial/%.*s.%s-%.8s", digits, hex,
			kind, store->boot_id);
}

/* The kind of a tree stands behind its digest. */
static void staged_tree_path(
	const struct th_store *store, const char *tree, char path[PATH_BYTES])
{
	const char *kind = strchr(tree, '.');

	staged_path(store, tree, kind ? kind + 1 : "tree", path);
}

static void tree_path(const char *tree, char path[PATH_BYTES])
{
	snprintf(path, PATH_BYTES, "trees/%.140s", th_digest_hex(tree));
}

static void staged_notes_path(
	const struct th_store *store, const char *tree, char path[PATH_BYTES])
{
	staged_path(
		store, tree, strchr(tree, '.') ? "ownnotes" : "notes", path);
}

static void notes_path(const char *tree, char path[PATH_BYTES])
{
	snprintf(path, PATH_BYTES, "trees/%.140s.notes", th_digest_hex(tree));
}

/* Of the kinds that count until the next boot only, but for whole blobs. */
static bool is_unpacked(const char *kind)
{
	static const char *const kinds[] = {
		".tree-", ".own-", ".folders-", ".notes-", ".ownnotes-"};

	for (size_t i = 0; i < sizeof(kinds) / sizeof(*kinds); i++) {
		if (strncmp(kind, kinds[i], strlen(kinds[i])) == 0)
			return true;
	}
	return false;
}

static void settle_old(struct th_store *store, const char *name)
{
	char from[PATH_BYTES], to[PATH_BYTES], id[TH_ID_LENGTH + 1];
	struct th_error ignored = {0}; /* the next one does */
	const char *kind = strchr(name, '.');

	if (!kind || !th_digest_is_length((size_t)(kind - name)) ||
		strlen(name) > 170)
		return;
	snprintf(from, sizeof(from), "partial/%s", name);
	/* A link to a lender's is made again. */
	if (strncmp(kind, ".whole-", 7) == 0 &&
		readlinkat(store->root_fd, from, to, sizeof(to)) >= 0) {
		if (strncmp(kind + 7, store->boot_id, 8) != 0)
			unlinkat(store->root_fd, from, 0);
	} else if (strncmp(kind, ".whole-", 7) == 0 &&
		strncmp(kind + 7, store->boot_id, 8) != 0) {
		snprintf(to, sizeof(to), "partial/%.*s", (int)(kind - name),
			name);
		/* It may be whole, but was perhaps never synced before the
		 * restart: back to "as far as it came", to be hashed again. */
		renameat(store->root_fd, from, store->root_fd, to);
	} else if (is_unpacked(kind) &&
		strncmp(strchr(kind, '-') + 1, store->boot_id, 8) != 0) {
		th_id_new(id);
		snprintf(to, sizeof(to), "tmp/%s.gone", id);
		if (renameat(store->root_fd, from, store->root_fd, to) == 0)
			th_tree_remove(store->root_fd, to, &ignored);
	}
}

void th_stage_begin(struct th_store *store)
{
	int fd = openat(
		store->root_fd, "partial", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;

	if (!dir) {
		th_close(&fd);
		return;
	}
	while ((entry = readdir(dir)))
		settle_old(store, entry->d_name);
	closedir(dir);
}

/* ---- locks ---- */

/* True where the lock that was got is of the file that has the name now, and
 * not of one that its holder removed meanwhile. */
static bool is_current(struct th_store *store, const char *path, int fd)
{
	struct stat own, named;

	return fstat(fd, &own) == 0 &&
		fstatat(store->root_fd, path, &named, 0) == 0 &&
		th_is_same_file(&own, &named);
}

int th_stage_lock(struct th_store *store, const char *blob,
	struct th_cancel cancel, void (*waits)(void *owner), void *owner,
	int *lock, struct th_error *err)
{
	const struct timespec step = {.tv_nsec = WAIT_STEP_MS * 1000000};
	bool told = false;
	char path[PATH_BYTES];

	snprintf(
		path, sizeof(path), "partial/%.128s.lock", th_digest_hex(blob));
	for (;;) {
		int fd = openat(store->root_fd, path,
			O_RDWR | O_CREAT | O_CLOEXEC, 0600);

		if (fd < 0)
			return th_fail_write(err, errno,
				"cannot write to %s/partial", store->root);
		if (flock(fd, LOCK_EX | LOCK_NB) == 0 &&
			is_current(store, path, fd)) {
			*lock = fd;
			return 0;
		}
		close(fd);
		if (th_cancelled(cancel))
			return th_fail(
				err, TH_FAILED, "the transfer was interrupted");
		if (waits && !told)
			waits(owner);
		told = true;
		nanosleep(&step, NULL);
	}
}

void th_stage_unlock(struct th_store *store, const char *blob, int *lock)
{
	char path[PATH_BYTES];

	if (*lock < 0)
		return;
	snprintf(
		path, sizeof(path), "partial/%.128s.lock", th_digest_hex(blob));
	/* Removed while it is held: who opened it before finds by is_current
	 * that the lock is of a file without a name, and opens the new one. */
	unlinkat(store->root_fd, path, 0);
	th_close(lock);
}

/* ---- what is there ---- */

/* What is staged gets its place from another command's commit at any moment:
 * between a look at its place and one at the stage it may pass. So its place is
 * looked at once more. */
#define LOOKS 3

static void look_path(const struct th_store *store, const char *tree, int look,
	char path[PATH_BYTES])
{
	if (look == 1)
		staged_tree_path(store, tree, path);
	else
		tree_path(tree, path);
}

bool th_stage_has_blob(
	const struct th_store *store, const char *blob, uint64_t size_bytes)
{
	char path[PATH_BYTES];
	struct stat st;

	if (th_blob_there(store, blob, size_bytes))
		return true;
	staged_path(store, blob, "whole", path);
	if (fstatat(store->root_fd, path, &st, th_store_stat_links(store)) == 0)
		return S_ISREG(st.st_mode) &&
			(uint64_t)st.st_size == size_bytes;
	return th_blob_there(store, blob, size_bytes);
}

bool th_stage_has_tree(const struct th_store *store, const char *tree)
{
	char path[PATH_BYTES];

	for (int look = 0; look < LOOKS; look++) {
		look_path(store, tree, look, path);
		if (faccessat(store->root_fd, path, F_OK, 0) == 0)
			return true;
	}
	return false;
}

bool th_stage_is_borrowed(const struct th_store *store, const char *tree)
{
	char path[PATH_BYTES], target[8];

	for (int look = 0; store->unprivileged && look < LOOKS; look++) {
		look_path(store, tree, look, path);
		if (readlinkat(store->root_fd, path, target, sizeof(target)) >
			0)
			return true;
		/* It is a folder. */
		if (errno == EINVAL)
			return false;
	}
	return false;
}

int th_stage_open_tree(
	const struct th_store *store, const char *tree, struct th_error *err)
{
	const int flags =
		O_RDONLY | O_DIRECTORY | O_CLOEXEC | th_store_links(store);
	char path[PATH_BYTES];
	int fd = -1;

	for (int look = 0; fd < 0 && look < LOOKS; look++) {
		look_path(store, tree, look, path);
		fd = openat(store->root_fd, path, flags);
	}
	return fd >= 0 ? fd
		       : th_fail_sys(err, TH_FAILED, errno,
				 "cannot open the unpacked layer %.19s", tree);
}

int th_stage_open_blob(
	const struct th_store *store, const char *blob, struct th_error *err)
{
	char path[PATH_BYTES];
	int fd;

	staged_path(store, blob, "whole", path);
	fd = openat(store->root_fd, path,
		O_RDONLY | O_CLOEXEC | O_NONBLOCK | th_store_links(store));
	return fd >= 0 ? fd : th_blob_open(store, blob, err);
}

/* ---- a blob that comes ---- */

/* Throws away what has come. */
static void spoil(struct th_incoming *incoming)
{
	th_stage_drop_part(incoming->store, incoming->digest);
	incoming->spoiled = true;
}

static ssize_t read_old(struct th_incoming *incoming, struct th_error *err)
{
	uint64_t left = incoming->old_bytes - incoming->read_bytes;
	ssize_t got;

	do
		got = pread(incoming->fd, incoming->buffer,
			left < READ_BYTES ? (size_t)left : READ_BYTES,
			(off_t)incoming->read_bytes);
	while (got < 0 && errno == EINTR);
	if (got <= 0)
		return th_fail_sys(err, TH_FAILED, got < 0 ? errno : EIO,
			"cannot read the earlier part of the download");
	incoming->read_bytes += (uint64_t)got;
	return got;
}

static int write_new(struct th_incoming *incoming, const void *data, size_t len,
	struct th_error *err)
{
	uint64_t step = incoming->have_bytes - incoming->flushed_bytes;

	if (th_write_all(incoming->fd, data, len))
		return th_fail_write(err, errno, "cannot write a blob");
	if (step >= FLUSH_STEP) {
		sync_file_range(incoming->fd, (off_t)incoming->flushed_bytes,
			(off_t)step, SYNC_FILE_RANGE_WRITE);
		incoming->flushed_bytes = incoming->have_bytes;
	}
	return 0;
}

static ssize_t next_incoming(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_incoming *incoming = (struct th_incoming *)(void *)source;
	bool old = incoming->read_bytes < incoming->old_bytes;
	ssize_t got;

	if (old) {
		got = read_old(incoming, err);
		*data = incoming->buffer;
	} else {
		got = incoming->from
			? incoming->from->next(incoming->from, data, err)
			: 0;
	}
	if (got <= 0)
		return got;
	if (incoming->have_bytes + (uint64_t)got > incoming->size_bytes) {
		spoil(incoming);
		return th_fail(err, TH_NETWORK,
			"the blob is larger than the manifest says");
	}
	th_hash_add(incoming->hash, *data, (size_t)got);
	incoming->have_bytes += (uint64_t)got;
	if (!old && write_new(incoming, *data, (size_t)got, err))
		return -1;
	if (incoming->progress)
		incoming->progress(incoming->owner, incoming->have_bytes);
	return got;
}

int th_incoming_begin(struct th_store *store, struct th_incoming *incoming,
	const char *digest, uint64_t size_bytes, struct th_error *err)
{
	char path[PATH_BYTES];
	struct stat st;

	memset(incoming, 0, sizeof(*incoming));
	incoming->source.next = next_incoming;
	incoming->store = store;
	incoming->size_bytes = size_bytes;
	snprintf(incoming->digest, sizeof(incoming->digest), "%s", digest);
	incoming->fd = -1;
	incoming->hash = th_hash_new(digest);
	incoming->buffer = malloc(READ_BYTES);
	if (!incoming->hash || !incoming->buffer) {
		th_incoming_end(incoming);
		return th_fail_memory(err);
	}
	staged_path(store, digest, NULL, path);
	incoming->fd = openat(store->root_fd, path,
		O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW | O_APPEND, 0644);
	if (incoming->fd < 0 || fstat(incoming->fd, &st)) {
		th_fail_write(
			err, errno, "cannot write to %s/partial", store->root);
		th_incoming_end(incoming);
		return -1;
	}
	incoming->old_bytes = (uint64_t)st.st_size;
	if (incoming->old_bytes > size_bytes) {
		incoming->old_bytes = 0;
		if (ftruncate(incoming->fd, 0)) {
			th_fail_write(err, errno, "cannot write to %s/partial",
				store->root);
			th_incoming_end(incoming);
			return -1;
		}
	}
	incoming->flushed_bytes = incoming->old_bytes;
	return 0;
}

static int check(struct th_incoming *incoming, struct th_error *err)
{
	char found[TH_DIGEST_TEXT];

	incoming->ended_early = incoming->have_bytes < incoming->size_bytes;
	if (incoming->have_bytes != incoming->size_bytes)
		return th_fail(err, TH_NETWORK,
			"the blob has %" PRIu64 " bytes instead of the %" PRIu64
			" that the manifest says",
			incoming->have_bytes, incoming->size_bytes);
	th_hash_digest(incoming->hash, found);
	if (strcmp(found, incoming->digest) == 0)
		return 0;
	th_fail(err, TH_NETWORK,
		"the blob does not match the manifest: its digest is %s "
		"instead of %s",
		found, incoming->digest);
	return th_hint(err, TH_BLOB_CHANGED);
}

int th_incoming_finish(struct th_incoming *incoming, struct th_error *err)
{
	char from[PATH_BYTES], to[PATH_BYTES];
	const void *data;
	ssize_t got;

	while ((got = next_incoming(&incoming->source, &data, err)) > 0)
		;
	if (got < 0)
		return -1;
	if (check(incoming, err)) {
		if (!incoming->ended_early)
			spoil(incoming);
		return -1;
	}
	staged_path(incoming->store, incoming->digest, NULL, from);
	staged_path(incoming->store, incoming->digest, "whole", to);
	if (renameat(incoming->store->root_fd, from, incoming->store->root_fd,
		    to))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot store the blob %s", incoming->digest);
	th_incoming_end(incoming);
	return 0;
}

void th_incoming_end(struct th_incoming *incoming)
{
	th_close(&incoming->fd);
	th_hash_free(incoming->hash);
	incoming->hash = NULL;
	free(incoming->buffer);
	incoming->buffer = NULL;
}

void th_stage_drop_part(struct th_store *store, const char *blob)
{
	char path[PATH_BYTES];

	staged_path(store, blob, NULL, path);
	unlinkat(store->root_fd, path, 0);
}

void th_stage_drop_blob(struct th_store *store, const char *blob)
{
	char path[PATH_BYTES];

	staged_path(store, blob, "whole", path);
	unlinkat(store->root_fd, path, 0);
}

/* ---- trees, and the end ---- */

int th_stage_keep_notes(struct th_store *store, const char *tree,
	const struct th_layer_notes *notes, struct th_error *err)
{
	char path[PATH_BYTES];

	staged_notes_path(store, tree, path);
	if (!th_layer_notes_are_empty(notes))
		return th_layer_notes_write(store->root_fd, path, notes, err);
	unlinkat(store->root_fd, path, 0);
	return 0;
}

int th_stage_read_notes(const struct th_store *store, const char *tree,
	struct th_layer_notes *notes, struct th_error *err)
{
	char path[PATH_BYTES];

	/* The notes are of the tree that will be used. */
	tree_path(tree, path);
	if (faccessat(store->root_fd, path, F_OK, 0)) {
		staged_notes_path(store, tree, path);
		if (th_layer_notes_read(store->root_fd, path, notes, err) < 0)
			return -1;
		if (!th_layer_notes_are_empty(notes))
			return 0;
		/* They get their place before their tree does. */
		th_layer_notes_release(notes);
	}
	notes_path(tree, path);
	return th_layer_notes_read(store->root_fd, path, notes, err) < 0 ? -1
									 : 0;
}

int th_stage_keep_tree(struct th_store *store, const char *tree,
	const char *path, struct th_error *err)
{
	char to[PATH_BYTES];

	staged_tree_path(store, tree, to);
	if (renameat(store->root_fd, path, store->root_fd, to) == 0)
		return 0;
	/* Another command staged the same layer: one of the two is enough. */
	if (errno == EEXIST || errno == ENOTEMPTY || errno == EISDIR)
		return th_tree_remove(store->root_fd, path, err);
	/* A link that leads nowhere any more. */
	if (errno == ENOTDIR && unlinkat(store->root_fd, to, 0) == 0 &&
		renameat(store->root_fd, path, store->root_fd, to) == 0)
		return 0;
	return th_fail_sys(
		err, TH_FAILED, errno, "cannot store the unpacked layer");
}

int th_stage_keep_blob(struct th_store *store, const char *blob,
	const char *path, struct th_error *err)
{
	char to[PATH_BYTES];

	staged_path(store, blob, "whole", to);
	return renameat(store->root_fd, path, store->root_fd, to)
		? th_fail_sys(err, TH_FAILED, errno, "cannot store the blob %s",
			  blob)
		: 0;
}

static int place(struct th_store *store, const char *from, const char *to,
	const char *what, struct th_error *err)
{
	if (renameat(store->root_fd, from, store->root_fd, to) == 0)
		return 0;
	/* Another pull may have been quicker. */
	if ((errno == ENOENT || errno == EEXIST || errno == ENOTEMPTY ||
		    errno == EISDIR) &&
		faccessat(store->root_fd, to, F_OK, 0) == 0)
		return 0;
	/* A folder instead of a link to a lender's that is gone. */
	if (errno == ENOTDIR && unlinkat(store->root_fd, to, 0) == 0 &&
		renameat(store->root_fd, from, store->root_fd, to) == 0)
		return 0;
	return th_fail_sys(err, TH_FAILED, errno, "cannot store the %s", what);
}

int th_stage_place_blob(
	struct th_store *store, const char *blob, struct th_error *err)
{
	char from[PATH_BYTES], to[PATH_BYTES], name[TH_DIGEST_PATH];

	staged_path(store, blob, "whole", from);
	snprintf(to, sizeof(to), "images/blobs/%s", th_digest_path(blob, name));
	return place(store, from, to, "blob", err);
}

/* The notes before the tree: one that is there without any has none. */
int th_stage_place_tree(
	struct th_store *store, const char *tree, struct th_error *err)
{
	char from[PATH_BYTES], to[PATH_BYTES];

	staged_notes_path(store, tree, from);
	notes_path(tree, to);
	if (faccessat(store->root_fd, from, F_OK, 0) == 0 &&
		renameat(store->root_fd, from, store->root_fd, to) &&
		errno != ENOENT)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot store the notes on a layer");
	staged_tree_path(store, tree, from);
	tree_path(tree, to);
	return place(store, from, to, "unpacked layer", err);
}
