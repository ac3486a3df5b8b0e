#include "image/push.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/threads.h"
#include "registry/upload.h"
#include "store/blob.h"

#define WORKERS_MAX 4
#define SOURCES_MAX 8 /* repositories that blobs may be mounted from */
#define PROGRESS_STEP (256 * 1024)

struct push {
	struct th_store *store;
	const struct th_reference *ref;
	const struct th_push_options *options;
	struct th_registry_options registries; /* with a flag of our own */
	atomic_bool failed;
	struct th_manifest manifest;
	struct th_buf body;
	struct th_layer_progress *progress; /* the layers, and the config */
	char **mounts; /* for each: where else it is; owned */
	size_t count;
	struct th_buf scope;
	pthread_mutex_t mutex;
	size_t next;
	struct th_error err;
};

struct working {
	struct push *push;
	size_t number;
	uint64_t told_bytes;
};

static const struct th_descriptor *blob_at(
	const struct push *push, size_t number)
{
	return number < push->manifest.layer_count
		? &push->manifest.layers[number]
		: &push->manifest.config;
}

static void tell(struct push *push)
{
	if (push->options->progress)
		push->options->progress(push->options->owner, push->progress,
			push->manifest.layer_count);
}

static void take_phase(struct working *working, enum th_layer_phase phase)
{
	struct push *push = working->push;

	pthread_mutex_lock(&push->mutex);
	push->progress[working->number].phase = phase;
	working->told_bytes = 0;
	tell(push);
	pthread_mutex_unlock(&push->mutex);
}

static void take_progress(void *owner, uint64_t sent_bytes)
{
	struct working *working = owner;
	struct push *push = working->push;
	struct th_layer_progress *progress = &push->progress[working->number];

	/* What breaks may begin anew, below what was told. */
	if (sent_bytes >= working->told_bytes &&
		sent_bytes - working->told_bytes < PROGRESS_STEP &&
		sent_bytes < progress->size_bytes)
		return;
	working->told_bytes = sent_bytes;
	pthread_mutex_lock(&push->mutex);
	if (!progress->began_ms)
		progress->began_ms = th_clock_mono_ms();
	progress->done_bytes = sent_bytes;
	tell(push);
	pthread_mutex_unlock(&push->mutex);
}

static int send_blob(struct working *working, const struct th_target *target,
	struct th_error *err)
{
	struct push *push = working->push;
	const struct th_descriptor *blob = blob_at(push, working->number);
	struct th_outgoing outgoing = {.digest = blob->digest,
		.size_bytes = blob->size_bytes,
		.mount = push->mounts[working->number],
		.chunk_bytes = push->options->chunk_bytes,
		.progress = take_progress,
		.owner = working};
	enum th_sent how;
	int there, rc;

	there = th_registry_has_blob(target, blob->digest, err);
	if (there < 0)
		return -1;
	if (there) {
		take_phase(working, TH_LAYER_THERE);
		return 0;
	}
	outgoing.fd = th_blob_open(push->store, blob->digest, err);
	if (outgoing.fd < 0)
		return -1;
	take_phase(working, TH_LAYER_UPLOAD);
	rc = th_registry_send(target, &outgoing, &how, err);
	th_close(&outgoing.fd);
	if (rc == 0)
		take_phase(working,
			how == TH_SENT_MOUNTED ? TH_LAYER_MOUNTED
					       : TH_LAYER_SENT);
	return rc;
}

static bool next_blob(struct push *push, size_t *number)
{
	bool found;

	pthread_mutex_lock(&push->mutex);
	found = push->next < push->count && !push->err.code;
	if (found)
		*number = push->next++;
	pthread_mutex_unlock(&push->mutex);
	return found;
}

static void *work(void *owner)
{
	struct push *push = owner;
	struct working working = {.push = push};
	struct th_error err = {0};
	struct th_registry *registry =
		th_registry_new(&push->registries, push->ref->host, &err);
	struct th_target target = {.registry = registry,
		.path = push->ref->path,
		.scope = push->scope.data};

	while (registry && next_blob(push, &working.number)) {
		if (send_blob(&working, &target, &err))
			break;
	}
	if (err.code) {
		pthread_mutex_lock(&push->mutex);
		if (!push->err.code)
			push->err = err;
		pthread_mutex_unlock(&push->mutex);
		atomic_store(&push->failed, true);
	}
	th_registry_free(registry);
	return NULL;
}

static void tick(void *owner)
{
	struct push *push = owner;

	pthread_mutex_lock(&push->mutex);
	tell(push);
	pthread_mutex_unlock(&push->mutex);
}

static int send_blobs(struct push *push, struct th_error *err)
{
	pthread_t threads[WORKERS_MAX];
	size_t wanted = push->count < WORKERS_MAX ? push->count : WORKERS_MAX;
	size_t started = 0;

	for (; started < wanted; started++) {
		if (pthread_create(&threads[started], NULL, work, push))
			break;
	}
	if (started == 0)
		work(push);
	th_threads_join(threads, started, tick, push);
	if (th_cancelled(push->options->registries->cancel))
		return th_fail(err, TH_FAILED, "the push was interrupted");
	if (push->err.code) {
		*err = push->err;
		return -1;
	}
	return 0;
}

/* ---- before and after ---- */

/* Another repository of the same registry that is known to have the blob. */
static char *find_mount(
	struct push *push, const char *blob, struct th_error *err)
{
	struct th_query *query = NULL;
	char *found = NULL;

	if (th_db_query(push->store->db, &query, err,
		    "SELECT t.name FROM tags t JOIN image_layers l"
		    " ON l.image=t.digest WHERE l.blob=? ORDER BY t.name",
		    "t", blob))
		return NULL;
	while (!found && th_query_next(query, err) == 1) {
		struct th_reference other;
		struct th_error ignored = {0}; /* then it is sent */

		if (th_reference_parse(
			    th_query_text(query, 0), &other, &ignored) == 0 &&
			strcmp(other.host, push->ref->host) == 0 &&
			strcmp(other.path, push->ref->path) != 0)
			found = strdup(other.path);
	}
	th_query_end(query);
	return found;
}

static int add_scope(struct push *push, const char *mount)
{
	char part[320];

	snprintf(part, sizeof(part), " repository:%.255s:pull", mount);
	if (!strstr(push->scope.data, part))
		th_buf_adds(&push->scope, part);
	return push->scope.failed;
}

static int prepare(struct push *push, const struct th_image_row *image,
	struct th_error *err)
{
	size_t sources = 0;

	if (th_blob_read(push->store, image->digest, &push->body, err) ||
		th_manifest_parse(
			push->body.data, push->body.len, &push->manifest, err))
		return -1;
	push->count = push->manifest.layer_count + 1;
	push->progress = calloc(push->count, sizeof(*push->progress));
	push->mounts = calloc(push->count, sizeof(*push->mounts));
	if (!push->progress || !push->mounts)
		return th_fail_memory(err);
	th_buf_addf(&push->scope, "repository:%s:pull,push", push->ref->path);
	for (size_t i = 0; i < push->count; i++) {
		const struct th_descriptor *blob = blob_at(push, i);

		memcpy(push->progress[i].blob, blob->digest, TH_DIGEST_TEXT);
		push->progress[i].size_bytes = blob->size_bytes;
		if (i + 1 < push->count && sources < SOURCES_MAX)
			push->mounts[i] = find_mount(push, blob->digest, err);
		if (push->mounts[i] && ++sources &&
			add_scope(push, push->mounts[i]))
			return th_fail_memory(err);
	}
	return 0;
}

static int put_manifest(struct push *push, const struct th_image_row *image,
	struct th_error *err)
{
	struct th_registry *registry =
		th_registry_new(&push->registries, push->ref->host, err);
	struct th_target target = {.registry = registry,
		.path = push->ref->path,
		.scope = push->scope.data};
	char type[128];
	int rc = -1;

	if (registry &&
		th_document_type(push->body.data, push->body.len, type, err) ==
			0)
		rc = th_registry_put_manifest(&target,
			push->ref->tag[0] ? push->ref->tag : image->digest,
			type, push->body.data, push->body.len, err);
	th_registry_free(registry);
	return rc;
}

static void count_result(const struct push *push, struct th_pushed *pushed)
{
	pushed->layer_count = push->manifest.layer_count;
	for (size_t i = 0; i < push->count; i++) {
		const struct th_layer_progress *one = &push->progress[i];
		bool layer = i < push->manifest.layer_count;

		pushed->there_count += layer && one->phase == TH_LAYER_THERE;
		pushed->mounted_count +=
			layer && one->phase == TH_LAYER_MOUNTED;
		if (one->phase == TH_LAYER_SENT)
			pushed->sent_bytes += one->size_bytes;
	}
}

static void release(struct push *push)
{
	for (size_t i = 0; push->mounts && i < push->count; i++)
		free(push->mounts[i]);
	free(push->mounts);
	free(push->progress);
	th_manifest_release(&push->manifest);
	th_buf_release(&push->body);
	th_buf_release(&push->scope);
	pthread_mutex_destroy(&push->mutex);
}

int th_push(struct th_store *store, const struct th_image_row *image,
	const struct th_reference *ref, const struct th_push_options *options,
	struct th_pushed *pushed, struct th_error *err)
{
	struct push push = {.store = store,
		.ref = ref,
		.options = options,
		.registries = *options->registries};
	int rc = -1;

	memset(pushed, 0, sizeof(*pushed));
	th_reference_format(ref, pushed->name);
	memcpy(pushed->digest, image->digest, sizeof(pushed->digest));
	push.registries.cancel.flags[1] = &push.failed;
	th_buf_init(&push.body, TH_MANIFEST_MAX);
	th_buf_init(&push.scope, 4096);
	pthread_mutex_init(&push.mutex, NULL);
	/* The image's blobs stay while it is read. */
	if (th_store_use_images(store, err) == 0) {
		rc = prepare(&push, image, err);
		if (rc == 0) {
			tell(&push);
			rc = send_blobs(&push, err);
		}
		if (rc == 0)
			rc = put_manifest(&push, image, err);
		if (rc == 0)
			count_result(&push, pushed);
		th_store_unuse_images(store);
	}
	release(&push);
	return rc;
}
