#include "layer/produce.h"

#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/hash.h"
#include "base/source.h"
#include "base/threads.h"
#include "layer/apply.h"

#define PIECE_BYTES (1u << 20)
#define PIECES 12
#define PACKERS_MAX 8
#define STACK_BYTES (512 * 1024)
/* The kernel is asked to write back in steps, so that the sync at the end has
 * little left to do. */
#define FLUSH_STEP (8u << 20)

struct piece {
	char *plain; /* PIECE_BYTES; owned */
	size_t len;
	unsigned char *packed; /* owned */
	size_t packed_len;
	bool is_packed;
};

/* Who goes through all pieces in their order. */
enum consumer { HASHER, WRITER, UNPACKER, CONSUMERS };

struct th_produce {
	struct th_sink sink; /* first: the two are one */
	struct th_source source; /* of the unpacker */
	struct th_produce_options options;
	struct piece pieces[PIECES]; /* number N lies in N % PIECES */
	size_t room; /* of packed */
	/* shared, with the mutex held; numbers count pieces */
	pthread_mutex_t mutex;
	pthread_cond_t changed;
	uint64_t filled; /* how many are whole */
	uint64_t claimed; /* by packers */
	uint64_t done[CONSUMERS];
	bool ended; /* no more will come */
	bool failed;
	struct th_error err;
	/* of one thread each */
	bool filling; /* the producer is in the middle of a piece */
	struct th_hash *plain_hash, *blob_hash;
	struct th_produced produced;
	pthread_t threads[PACKERS_MAX + CONSUMERS];
	size_t thread_count;
};

/* ---- pieces and their consumers ---- */

static void fail(struct th_produce *produce, const struct th_error *err)
{
	pthread_mutex_lock(&produce->mutex);
	if (!produce->failed)
		produce->err = *err;
	produce->failed = true;
	pthread_cond_broadcast(&produce->changed);
	pthread_mutex_unlock(&produce->mutex);
}

static struct piece *piece_at(struct th_produce *produce, uint64_t number)
{
	return &produce->pieces[number % PIECES];
}

/* The consumer's next piece; NULL where there is none any more. The one before
 * is done with. */
static struct piece *next_piece(
	struct th_produce *produce, enum consumer consumer, bool first)
{
	bool packed =
		consumer == WRITER && produce->options.compression != TH_PLAIN;
	struct piece *found = NULL;

	pthread_mutex_lock(&produce->mutex);
	if (!first) {
		produce->done[consumer]++;
		pthread_cond_broadcast(&produce->changed);
	}
	for (;;) {
		uint64_t number = produce->done[consumer];

		if (produce->failed)
			break;
		if (number < produce->filled &&
			(!packed || piece_at(produce, number)->is_packed)) {
			found = piece_at(produce, number);
			break;
		}
		if (produce->ended && number == produce->filled)
			break;
		pthread_cond_wait(&produce->changed, &produce->mutex);
	}
	pthread_mutex_unlock(&produce->mutex);
	return found;
}

/* ---- the packers ---- */

static struct piece *claim_piece(struct th_produce *produce)
{
	struct piece *claimed = NULL;

	pthread_mutex_lock(&produce->mutex);
	while (!produce->failed && produce->claimed == produce->filled &&
		!produce->ended)
		pthread_cond_wait(&produce->changed, &produce->mutex);
	if (!produce->failed && produce->claimed < produce->filled)
		claimed = piece_at(produce, produce->claimed++);
	pthread_mutex_unlock(&produce->mutex);
	return claimed;
}

static int pack_all(struct th_produce *produce, struct th_deflate *deflate)
{
	struct piece *piece;

	while ((piece = claim_piece(produce))) {
		piece->packed_len = th_deflate_piece(deflate, piece->plain,
			piece->len, piece->packed, produce->room);
		if (!piece->packed_len)
			return -1;
		pthread_mutex_lock(&produce->mutex);
		piece->is_packed = true;
		pthread_cond_broadcast(&produce->changed);
		pthread_mutex_unlock(&produce->mutex);
	}
	return 0;
}

static void *packer(void *owner)
{
	struct th_produce *produce = owner;
	struct th_deflate *deflate = th_deflate_new(
		produce->options.compression, produce->options.level);
	struct th_error err = {0};

	if (!deflate)
		th_fail_memory(&err);
	else if (pack_all(produce, deflate))
		th_fail(&err, TH_FAILED, "a piece cannot be compressed");
	if (err.code)
		fail(produce, &err);
	th_deflate_free(deflate);
	return NULL;
}

/* ---- the hasher, which looks for secrets as well ---- */

static int search(const struct th_produce *produce, const char *data,
	size_t len, struct th_error *err)
{
	const struct th_strings *never = produce->options.never;

	for (size_t i = 0; never && i < never->count; i++) {
		const char *name = never->items[i];
		const char *value = strchr(name, '=') + 1;

		if (strlen(value) < TH_NEVER_LENGTH ||
			!memmem(data, len, value, strlen(value)))
			continue;
		th_fail(err, TH_FAILED,
			"a file of the layer would hold the secret \"%.*s\"",
			(int)(value - name - 1), name);
		return th_hint(err,
			"read it from where it is provided, and remove what "
			"holds it in the same step");
	}
	return 0;
}

/* Over the seam of two pieces. */
#define SEAM_BYTES 8192

static void *hasher(void *owner)
{
	struct th_produce *produce = owner;
	bool looks = produce->options.never && produce->options.never->count;
	char *seam = looks ? calloc(2, SEAM_BYTES) : NULL;
	struct th_error err = {0};
	struct piece *piece;
	bool first = true;

	if (looks && !seam)
		th_fail_memory(&err);
	while (!err.code && (piece = next_piece(produce, HASHER, first))) {
		size_t part = piece->len < SEAM_BYTES ? piece->len : SEAM_BYTES;

		th_hash_add(produce->plain_hash, piece->plain, piece->len);
		produce->produced.plain_bytes += piece->len;
		first = false;
		if (!looks)
			continue;
		memcpy(seam + SEAM_BYTES, piece->plain, part);
		if (search(produce, piece->plain, piece->len, &err) == 0)
			search(produce, seam, SEAM_BYTES + part, &err);
		memcpy(seam, piece->plain + piece->len - part, part);
	}
	if (err.code)
		fail(produce, &err);
	free(seam);
	return NULL;
}

/* ---- the writer ---- */

static int write_out(struct th_produce *produce, const void *data, size_t len,
	struct th_error *err)
{
	struct th_produced *produced = &produce->produced;

	if (th_write_all(produce->options.blob, data, len))
		return th_fail_write(err, errno, "cannot write the new layer");
	if (produce->blob_hash)
		th_hash_add(produce->blob_hash, data, len);
	if ((produced->size_bytes + len) / FLUSH_STEP !=
		produced->size_bytes / FLUSH_STEP)
		sync_file_range(
			produce->options.blob, 0, 0, SYNC_FILE_RANGE_WRITE);
	produced->size_bytes += len;
	return 0;
}

static void *writer(void *owner)
{
	struct th_produce *produce = owner;
	bool packed = produce->options.compression != TH_PLAIN;
	struct th_error err = {0};
	struct piece *piece;
	bool first = true;

	while (!err.code && (piece = next_piece(produce, WRITER, first))) {
		first = false;
		write_out(produce,
			packed ? (const void *)piece->packed : piece->plain,
			packed ? piece->packed_len : piece->len, &err);
	}
	if (err.code)
		fail(produce, &err);
	return NULL;
}

/* ---- the unpacker ---- */

static ssize_t next_plain(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_produce *produce =
		(struct th_produce *)(void *)((char *)source -
			offsetof(struct th_produce, source));
	struct piece *piece = next_piece(
		produce, UNPACKER, produce->produced.tree_bytes == UINT64_MAX);

	produce->produced.tree_bytes = 0;
	if (!piece) {
		if (produce->failed)
			return th_fail(
				err, TH_FAILED, "the layer was not finished");
		return 0;
	}
	*data = piece->plain;
	return (ssize_t)piece->len;
}

static void *unpacker(void *owner)
{
	struct th_produce *produce = owner;
	struct th_produced *produced = &produce->produced;
	struct th_error err = {0};
	uint64_t bytes = 0;

	produce->source.next = next_plain;
	/* Marks that nothing was asked for yet. */
	produced->tree_bytes = UINT64_MAX;
	/* Unpacking sets the umask, which threads share otherwise. */
	if (unshare(CLONE_FS))
		th_fail_sys(&err, TH_NOT_POSSIBLE, errno,
			"a thread cannot have its own umask here");
	else
		th_layer_apply(&produce->source, produce->options.tree,
			&produced->notes, &bytes, &err);
	produced->tree_bytes = bytes;
	if (err.code)
		fail(produce, &err);
	/* Nobody waits for it any more, wherever it has stopped to read. */
	pthread_mutex_lock(&produce->mutex);
	produce->done[UNPACKER] = UINT64_MAX;
	pthread_cond_broadcast(&produce->changed);
	pthread_mutex_unlock(&produce->mutex);
	return NULL;
}

/* ---- the producer ---- */

/* Waits until the next piece's place is free. */
static int begin_piece(struct th_produce *produce, struct th_error *err)
{
	bool failed;

	if (th_cancelled(produce->options.cancel))
		return th_fail(err, TH_FAILED, "it was interrupted");
	pthread_mutex_lock(&produce->mutex);
	for (;;) {
		uint64_t least = produce->done[HASHER];

		for (int i = 0; i < CONSUMERS; i++) {
			if (produce->done[i] < least)
				least = produce->done[i];
		}
		failed = produce->failed;
		if (failed || produce->filled - least < PIECES)
			break;
		pthread_cond_wait(&produce->changed, &produce->mutex);
	}
	if (failed)
		*err = produce->err;
	pthread_mutex_unlock(&produce->mutex);
	if (failed)
		return -1;
	piece_at(produce, produce->filled)->len = 0;
	piece_at(produce, produce->filled)->is_packed = false;
	produce->filling = true;
	return 0;
}

static void end_piece(struct th_produce *produce)
{
	pthread_mutex_lock(&produce->mutex);
	produce->filled++;
	pthread_cond_broadcast(&produce->changed);
	pthread_mutex_unlock(&produce->mutex);
	produce->filling = false;
}

static int put(struct th_sink *sink, const void *data, size_t len,
	struct th_error *err)
{
	struct th_produce *produce = (struct th_produce *)(void *)sink;
	const char *at = data;

	while (len > 0) {
		struct piece *piece;
		size_t part;

		if (!produce->filling && begin_piece(produce, err))
			return -1;
		piece = piece_at(produce, produce->filled);
		part = PIECE_BYTES - piece->len;
		if (part > len)
			part = len;
		memcpy(piece->plain + piece->len, at, part);
		piece->len += part;
		at += part;
		len -= part;
		if (piece->len == PIECE_BYTES)
			end_piece(produce);
	}
	return 0;
}

/* ---- begin and end ---- */

static int start(struct th_produce *produce, void *(*work)(void *))
{
	int rc = th_thread_start(&produce->threads[produce->thread_count],
		STACK_BYTES, work, produce);

	produce->thread_count += rc == 0;
	return rc ? -1 : 0;
}

static size_t packer_count(void)
{
	long cores = sysconf(_SC_NPROCESSORS_ONLN);

	return cores < 1	      ? 1
		: cores > PACKERS_MAX ? PACKERS_MAX
				      : (size_t)cores;
}

static int start_all(struct th_produce *produce)
{
	bool packs = produce->options.compression != TH_PLAIN;

	if (start(produce, hasher) || start(produce, writer))
		return -1;
	if (produce->options.tree >= 0) {
		if (start(produce, unpacker))
			return -1;
	} else {
		produce->done[UNPACKER] = UINT64_MAX;
	}
	for (size_t i = 0; packs && i < packer_count(); i++) {
		if (start(produce, packer))
			return -1;
	}
	return 0;
}

static int make_room(struct th_produce *produce)
{
	bool packs = produce->options.compression != TH_PLAIN;

	produce->room =
		th_deflate_bound(produce->options.compression, PIECE_BYTES);
	for (size_t i = 0; i < PIECES; i++) {
		produce->pieces[i].plain = malloc(PIECE_BYTES);
		if (packs)
			produce->pieces[i].packed = malloc(produce->room);
		if (!produce->pieces[i].plain ||
			(packs && !produce->pieces[i].packed))
			return -1;
	}
	produce->plain_hash = th_hash_new(NULL);
	if (packs)
		produce->blob_hash = th_hash_new(NULL);
	return produce->plain_hash && (!packs || produce->blob_hash) ? 0 : -1;
}

int th_produce_begin(const struct th_produce_options *options,
	struct th_produce **produce, struct th_error *err)
{
	struct th_produce *made = calloc(1, sizeof(*made));

	if (!made)
		return th_fail_memory(err);
	pthread_mutex_init(&made->mutex, NULL);
	pthread_cond_init(&made->changed, NULL);
	made->sink.put = put;
	made->options = *options;
	if (make_room(made) || start_all(made)) {
		th_produce_free(made);
		return th_fail_memory(err);
	}
	*produce = made;
	return 0;
}

struct th_sink *th_produce_sink(struct th_produce *produce)
{
	return &produce->sink;
}

static void join(struct th_produce *produce)
{
	pthread_mutex_lock(&produce->mutex);
	produce->ended = true;
	pthread_cond_broadcast(&produce->changed);
	pthread_mutex_unlock(&produce->mutex);
	for (size_t i = 0; i < produce->thread_count; i++)
		pthread_join(produce->threads[i], NULL);
	produce->thread_count = 0;
}

int th_produce_end(struct th_produce *produce, struct th_produced *produced,
	struct th_error *err)
{
	int rc = 0;

	if (produce->filling)
		end_piece(produce);
	join(produce);
	if (produce->failed) {
		*err = produce->err;
		rc = -1;
	}
	th_hash_digest(produce->plain_hash, produce->produced.diff_id);
	if (produce->blob_hash)
		th_hash_digest(produce->blob_hash, produce->produced.blob);
	else
		memcpy(produce->produced.blob, produce->produced.diff_id,
			sizeof(produce->produced.blob));
	*produced = produce->produced;
	memset(&produce->produced.notes, 0, sizeof(produce->produced.notes));
	return rc;
}

void th_produce_free(struct th_produce *produce)
{
	static const struct th_error broken = {.code = TH_FAILED};

	if (!produce)
		return;
	if (produce->thread_count) {
		fail(produce, &broken);
		join(produce);
	}
	for (size_t i = 0; i < PIECES; i++) {
		free(produce->pieces[i].plain);
		free(produce->pieces[i].packed);
	}
	th_hash_free(produce->plain_hash);
	th_hash_free(produce->blob_hash);
	th_layer_notes_release(&produce->produced.notes);
	pthread_cond_destroy(&produce->changed);
	pthread_mutex_destroy(&produce->mutex);
	free(produce);
}
