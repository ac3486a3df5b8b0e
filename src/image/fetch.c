#include "image/fetch.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/ahead.h"
#include "base/file.h"
#include "base/random.h"
#include "image/borrow.h"
#include "image/room.h"
#include "image/stage.h"
#include "layer/apply.h"
#include "layer/inflate.h"

#define READ_BYTES (256 * 1024)
/* A layer may unpack to so many times its size before it counts as a bomb;
 * what is small does no harm. */
#define BOMB_RATIO 400
#define BOMB_FREE ((uint64_t)1 << 30)
/* From this size on a layer comes and is inflated in one thread, and is hashed
 * and written in another. */
#define AHEAD_BYTES ((uint64_t)1 << 20)
/* How often the room on the disk is looked at: each entry takes at least 512
 * bytes of an archive, so after 512 files at the latest. */
#define ROOM_STEP ((uint64_t)256 << 10)

/* What is unpacked, on its way: hashed for the diff ID, and held against the
 * bounds. */
struct measured {
	struct th_source source; /* first: the two are one */
	struct th_source *from;
	struct th_hash *hash;
	const struct th_layer_job *fetch;
	uint64_t total_bytes, looked_bytes;
};

static int check_room(struct measured *measured, struct th_error *err)
{
	uint64_t allowed = measured->fetch->blob->size_bytes * BOMB_RATIO;

	if (allowed < BOMB_FREE)
		allowed = BOMB_FREE;
	if (measured->fetch->blob->size_bytes < UINT64_MAX / BOMB_RATIO &&
		measured->total_bytes > allowed)
		return th_fail(err, TH_FAILED,
			"it unpacks to more than %d times its size, which no "
			"honest layer does",
			BOMB_RATIO);
	if (measured->total_bytes - measured->looked_bytes < ROOM_STEP)
		return 0;
	measured->looked_bytes = measured->total_bytes;
	return th_room_check(measured->fetch->store->root_fd, err);
}

static ssize_t next_measured(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct measured *measured = (struct measured *)(void *)source;
	ssize_t got = measured->from->next(measured->from, data, err);

	if (got <= 0)
		return got;
	if (th_cancelled(measured->fetch->cancel))
		return th_fail(err, TH_FAILED, "the transfer was interrupted");
	th_hash_add(measured->hash, *data, (size_t)got);
	measured->total_bytes += (uint64_t)got;
	return check_room(measured, err) ? -1 : got;
}

static int make_tree(
	struct th_store *store, char path[64], int *tree, struct th_error *err)
{
	char id[TH_ID_LENGTH + 1];

	th_id_new(id);
	snprintf(path, 64, "tmp/%s.tree", id);
	if (mkdirat(store->root_fd, path, 0755) == 0)
		*tree = openat(store->root_fd, path,
			O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (*tree >= 0)
		return 0;
	return th_fail_sys(err, TH_FAILED, errno,
		"cannot create a folder in %s", store->root);
}

/* What becomes of an archive. */
struct unpacking {
	int tree;
	struct th_layer_notes notes;
	struct th_view *below; /* NULL: the layer on its own */
	bool whiteouts; /* the first of the two readings */
};

static int apply(struct th_layer_job *fetch, struct th_source *source,
	struct unpacking *unpacking, struct th_error *err)
{
	if (!unpacking->below)
		return th_layer_apply(source, unpacking->tree,
			&unpacking->notes, &fetch->tree_bytes, err);
	if (unpacking->whiteouts)
		return th_layer_apply_whiteouts(source, unpacking->tree,
			unpacking->below, &unpacking->notes, err);
	return th_layer_apply_above(source, unpacking->tree, unpacking->below,
		&unpacking->notes, &fetch->tree_bytes, err);
}

/* Unpacks what the source gives into the folder, and checks the diff ID. */
static int fill_tree(struct th_layer_job *fetch, struct th_source *blob,
	struct unpacking *unpacking, struct th_error *err)
{
	struct measured measured = {.source = {next_measured}, .fetch = fetch};
	struct th_inflate *inflate =
		th_inflate_new(fetch->blob->compression, blob);
	struct th_ahead *ahead = NULL;
	char digest[TH_DIGEST_TEXT];
	int rc = -1;

	measured.hash = th_hash_new(fetch->diff_id);
	if (!inflate || !measured.hash) {
		th_fail_memory(err);
		goto out;
	}
	measured.from = th_inflate_source(inflate);
	if (fetch->blob->size_bytes >= AHEAD_BYTES)
		ahead = th_ahead_new(measured.from);
	if (ahead)
		measured.from = th_ahead_source(ahead);
	if (apply(fetch, &measured.source, unpacking, err))
		goto out;
	th_hash_digest(measured.hash, digest);
	if (strcmp(digest, fetch->diff_id) != 0) {
		th_fail(err, TH_NETWORK,
			"its content does not match the image's config: the "
			"diff ID is %s instead of %s",
			digest, fetch->diff_id);
		goto out;
	}
	rc = 0;
out:
	th_ahead_free(ahead);
	th_hash_free(measured.hash);
	th_inflate_free(inflate);
	return rc;
}

/* The tree that is made while a blob comes; it is kept when both are right. */
struct making {
	char path[64];
	struct unpacking unpacking;
};

static int unpack(struct th_layer_job *fetch, struct th_source *blob,
	struct making *making, struct th_error *err)
{
	if (make_tree(fetch->store, making->path, &making->unpacking.tree, err))
		return -1;
	return fill_tree(fetch, blob, &making->unpacking, err);
}

static int end_making(struct th_layer_job *fetch, struct making *making, int rc,
	struct th_error *err)
{
	struct unpacking *unpacking = &making->unpacking;

	th_close(&unpacking->tree);
	if (!making->path[0])
		return rc;
	fetch->nodes_left = unpacking->notes.paths[TH_NOTE_NODE].count;
	if (rc == 0)
		rc = th_stage_keep_notes(
			fetch->store, fetch->diff_id, &unpacking->notes, err);
	if (rc == 0)
		rc = th_stage_keep_tree(
			fetch->store, fetch->diff_id, making->path, err);
	th_layer_notes_release(&unpacking->notes);
	if (rc)
		th_tree_remove(fetch->store->root_fd, making->path, NULL);
	making->path[0] = '\0';
	return rc;
}

/* ---- a blob that is here ---- */

struct file_source {
	struct th_source source; /* first: the two are one */
	int fd;
	uint64_t done_bytes;
	const struct th_layer_job *fetch;
	char data[READ_BYTES];
};

static ssize_t next_of_file(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct file_source *file = (struct file_source *)(void *)source;
	ssize_t got;

	do
		got = read(file->fd, file->data, sizeof(file->data));
	while (got < 0 && errno == EINTR);
	*data = file->data;
	if (got < 0)
		return th_fail_sys(err, TH_FAILED, errno, "cannot read a blob");
	file->done_bytes += (uint64_t)got;
	file->fetch->progress(file->fetch->owner, file->done_bytes);
	return got;
}

static struct file_source *open_stored(
	struct th_layer_job *fetch, struct th_error *err)
{
	struct file_source *file = calloc(1, sizeof(*file));

	if (!file) {
		th_fail_memory(err);
		return NULL;
	}
	file->source.next = next_of_file;
	file->fetch = fetch;
	file->fd = th_stage_open_blob(fetch->store, fetch->blob->digest, err);
	if (file->fd >= 0)
		return file;
	free(file);
	return NULL;
}

static void close_stored(struct file_source *file)
{
	th_close(&file->fd);
	free(file);
}

static int unpack_stored(struct th_layer_job *fetch, struct th_error *err)
{
	struct making making = {.unpacking.tree = -1};
	struct file_source *file;
	int rc;

	fetch->phase(fetch->owner, TH_LAYER_UNPACK);
	file = open_stored(fetch, err);
	if (!file)
		return -1;
	rc = end_making(fetch, &making,
		unpack(fetch, &file->source, &making, err), err);
	close_stored(file);
	return rc;
}

int th_layer_unpack_above(struct th_layer_job *fetch, struct th_view *below,
	int tree, struct th_layer_notes *notes, struct th_error *err)
{
	struct unpacking unpacking = {.tree = tree, .below = below};
	int rc = 0;

	for (int reading = 0; rc == 0 && reading < 2; reading++) {
		struct file_source *file = open_stored(fetch, err);

		if (!file)
			return -1;
		unpacking.whiteouts = reading == 0;
		rc = fill_tree(fetch, &file->source, &unpacking, err);
		close_stored(file);
	}
	*notes = unpacking.notes;
	return rc;
}

/* ---- a blob that comes ---- */

/* The archive was refused. A wrong digest explains damage better than the
 * damage does, so the rest is read as well; what was right in itself and
 * refused all the same is not kept either. */
static void look_for_cause(struct th_layer_job *fetch,
	struct th_incoming *incoming, struct th_error *err)
{
	struct th_error whole = {0};

	if (err->code != TH_FAILED || err->sys || th_cancelled(fetch->cancel))
		return;
	if (th_incoming_finish(incoming, &whole) == 0)
		th_stage_drop_blob(fetch->store, fetch->blob->digest);
	else if (whole.code)
		*err = whole;
}

/* What came of one try. */
enum brought { RIGHT, WRONG, TOO_SHORT, FAILED };

/* Also where only the tree is there: the blob belongs to the image. *resumed is
 * set where it began with what an earlier try had left. */
static enum brought bring(struct th_layer_job *fetch, struct th_reader *reader,
	bool *resumed, struct th_error *err)
{
	const struct th_descriptor *blob = fetch->blob;
	struct making making = {.unpacking.tree = -1};
	enum brought what = FAILED;
	struct th_incoming incoming;
	int rc = -1;

	*resumed = false;
	if (th_incoming_begin(fetch->store, &incoming, blob->digest,
		    blob->size_bytes, err))
		return FAILED;
	*resumed = incoming.old_bytes > 0;
	incoming.progress = fetch->progress;
	incoming.owner = fetch->owner;
	if (th_reader_blob(
		    reader, blob, incoming.old_bytes, &incoming.from, err))
		goto out;
	rc = th_stage_has_tree(fetch->store, fetch->diff_id)
		? 0
		: unpack(fetch, &incoming.source, &making, err);
	if (rc == 0)
		rc = th_incoming_finish(&incoming, err);
	else
		look_for_cause(fetch, &incoming, err);
	if (rc)
		what = incoming.spoiled	       ? WRONG
			: incoming.ended_early ? TOO_SHORT
					       : FAILED;
out:
	th_reader_blob_end(reader);
	th_incoming_end(&incoming);
	return end_making(fetch, &making, rc, err) ? what : RIGHT;
}

/* What came whole and wrong, or too short, is tried once more: it may have been
 * an accident, or an earlier try's part. Then another host is asked. */
static int download(struct th_layer_job *fetch, struct th_reader *reader,
	struct th_error *err)
{
	bool again = false, from_zero = false, resumed;

	fetch->phase(fetch->owner, TH_LAYER_TRANSFER);
	for (;;) {
		enum brought what = bring(fetch, reader, &resumed, err);

		if (what == RIGHT)
			return 0;
		if (what == FAILED)
			return -1;
		if (what == WRONG && resumed && !from_zero) {
			from_zero = true;
		} else if (!again) {
			again = true;
		} else {
			/* Who says twice that there is no more has something
			 * else. */
			if (what == TOO_SHORT)
				th_stage_drop_part(
					fetch->store, fetch->blob->digest);
			if (!th_reader_distrust(reader, err))
				return -1;
			again = from_zero = false;
		}
		th_error_clear(err);
	}
}

static void tell_wait(void *owner)
{
	struct th_layer_job *fetch = owner;

	fetch->phase(fetch->owner, TH_LAYER_ELSEWHERE);
}

/* Finds what is here; what a lender has is neither downloaded nor unpacked. */
static int find(const struct th_layer_job *fetch, bool *has_blob,
	bool *has_tree, struct th_error *err)
{
	struct th_store *store = fetch->store;
	const struct th_descriptor *blob = fetch->blob;
	int tree = th_stage_has_tree(store, fetch->diff_id)
		? 1
		: th_borrow_tree(store, fetch->diff_id, err);
	int whole = tree < 0 ? -1
		: th_stage_has_blob(store, blob->digest, blob->size_bytes)
		? 1
		: th_borrow_blob(store, blob->digest, blob->size_bytes, err);

	*has_tree = tree == 1;
	*has_blob = whole == 1;
	return whole < 0 ? -1 : 0;
}

int th_layer_fetch(struct th_layer_job *fetch, struct th_reader *reader,
	struct th_error *err)
{
	struct th_store *store = fetch->store;
	const char *blob = fetch->blob->digest;
	bool has_blob, has_tree;
	int lock = -1, rc;

	fetch->tree_bytes = 0;
	if (th_stage_lock(
		    store, blob, fetch->cancel, tell_wait, fetch, &lock, err))
		return -1;
	rc = find(fetch, &has_blob, &has_tree, err);
	if (rc == 0 && has_blob && has_tree)
		fetch->phase(fetch->owner, TH_LAYER_HERE);
	else if (rc == 0)
		rc = has_blob ? unpack_stored(fetch, err)
			      : download(fetch, reader, err);
	if (rc == 0 && !(has_blob && has_tree))
		fetch->phase(fetch->owner, TH_LAYER_DONE);
	th_stage_unlock(store, blob, &lock);
	return rc;
}
