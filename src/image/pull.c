#include "image/pull.h"

#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/statvfs.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/threads.h"
#include "image/borrow.h"
#include "image/commit.h"
#include "image/reclaim.h"
#include "image/resolve.h"
#include "image/stack.h"
#include "image/stage.h"

/* Layers at the same time: each takes a core, and waits for the network. */
#define WORKERS_MAX 8
/* Progress is told at most once for so many bytes of a layer. */
#define PROGRESS_STEP (256 * 1024)
/* The disk is given what has come every so many steps. */
#define FLUSH_STEP_NS 5000000
#define FLUSH_STEPS 200

struct layer {
	const struct th_descriptor *descriptor;
	const char *diff_id;
	bool repeated; /* the same as an earlier one of this image */
	uint64_t tree_bytes;
	uint64_t nodes_left; /* devices that this user cannot make */
};

struct pull {
	struct th_store *store;
	struct th_origin *origin;
	const struct th_pull_options *options;
	struct th_cancel cancel; /* by the caller, or by a failed layer */
	atomic_bool *failed;
	struct th_resolved resolved;
	struct layer *layers;
	struct th_stack stack; /* the trees of the image */
	size_t *order; /* the largest first */
	struct th_layer_progress *progress;
	/* shared by the workers */
	pthread_mutex_t mutex;
	size_t next;
	struct th_error err;
	atomic_bool all_come;
};

/* What a worker has in hand. */
struct working {
	struct pull *pull;
	size_t number;
	uint64_t told_bytes;
};

void th_pulled_release(struct th_pulled *pulled)
{
	th_strings_release(&pulled->notes);
}

static size_t layer_count(const struct pull *pull)
{
	return pull->resolved.manifest.layer_count;
}

static void tell(struct pull *pull)
{
	if (pull->options->progress)
		pull->options->progress(pull->options->owner, pull->progress,
			layer_count(pull));
}

static void take_phase(void *owner, enum th_layer_phase phase)
{
	struct working *working = owner;
	struct pull *pull = working->pull;
	struct th_layer_progress *progress = &pull->progress[working->number];

	pthread_mutex_lock(&pull->mutex);
	progress->phase = phase;
	if (phase == TH_LAYER_DONE)
		progress->done_bytes = progress->size_bytes;
	if (phase == TH_LAYER_TRANSFER) {
		progress->began_ms = 0;
		progress->done_bytes = 0;
	}
	working->told_bytes = 0;
	tell(pull);
	pthread_mutex_unlock(&pull->mutex);
}

static void take_progress(void *owner, uint64_t have_bytes)
{
	struct working *working = owner;
	struct pull *pull = working->pull;
	struct th_layer_progress *progress = &pull->progress[working->number];

	if (have_bytes - working->told_bytes < PROGRESS_STEP)
		return;
	working->told_bytes = have_bytes;
	pthread_mutex_lock(&pull->mutex);
	if (!progress->began_ms) {
		progress->began_ms = th_clock_mono_ms();
		progress->began_bytes = have_bytes;
	}
	progress->done_bytes = have_bytes;
	tell(pull);
	pthread_mutex_unlock(&pull->mutex);
}

/* ---- the workers ---- */

/* The next layer to do; false where there is none. */
static bool next_layer(struct pull *pull, size_t *number)
{
	bool found = false;

	pthread_mutex_lock(&pull->mutex);
	while (!found && !pull->err.code && pull->next < layer_count(pull)) {
		size_t candidate = pull->order[pull->next++];

		found = pull->progress[candidate].phase == TH_LAYER_WAITING;
		*number = candidate;
	}
	pthread_mutex_unlock(&pull->mutex);
	return found;
}

static struct th_layer_job job_of(struct working *working)
{
	struct pull *pull = working->pull;
	const struct layer *layer = &pull->layers[working->number];

	return (struct th_layer_job){.store = pull->store,
		.cancel = pull->cancel,
		.blob = layer->descriptor,
		.diff_id = layer->diff_id,
		.phase = take_phase,
		.progress = take_progress,
		.owner = working};
}

/* Which layer it is about. */
static int blame_layer(
	const struct pull *pull, size_t number, struct th_error *err)
{
	char reason[sizeof(err->msg)];

	snprintf(reason, sizeof(reason), "%s",
		err->code ? err->msg : "it could not be unpacked");
	if (!err->code)
		err->code = TH_FAILED;
	snprintf(err->msg, sizeof(err->msg), "layer %zu of %zu (%.19s): %.400s",
		number + 1, layer_count(pull),
		pull->layers[number].descriptor->digest, reason);
	return -1;
}

static int fetch_layer(
	struct working *working, struct th_reader *reader, struct th_error *err)
{
	struct layer *layer = &working->pull->layers[working->number];
	struct th_layer_job fetch = job_of(working);

	if (th_layer_fetch(&fetch, reader, err))
		return blame_layer(working->pull, working->number, err);
	layer->tree_bytes = fetch.tree_bytes;
	layer->nodes_left = fetch.nodes_left;
	return 0;
}

/* The first one is the reason, and ends the others. */
static void note_failure(struct pull *pull, const struct th_error *err)
{
	pthread_mutex_lock(&pull->mutex);
	if (!pull->err.code)
		pull->err = *err;
	atomic_store(pull->failed, true);
	pthread_mutex_unlock(&pull->mutex);
}

static void work(struct pull *pull)
{
	struct working working = {.pull = pull};
	struct th_error err = {0};
	struct th_reader *reader = th_reader_new(pull->origin, &err);

	while (reader && next_layer(pull, &working.number)) {
		if (fetch_layer(&working, reader, &err))
			break;
	}
	if (err.code)
		note_failure(pull, &err);
	th_reader_free(reader);
}

static void *work_in_thread(void *owner)
{
	struct th_error err = {0};

	/* Unpacking sets the umask, which threads share otherwise. */
	if (unshare(CLONE_FS) == 0) {
		work(owner);
		return NULL;
	}
	th_fail_sys(&err, TH_NOT_POSSIBLE, errno,
		"a thread cannot have its own umask here");
	note_failure(owner, &err);
	return NULL;
}

static void tick(void *owner)
{
	struct pull *pull = owner;

	pthread_mutex_lock(&pull->mutex);
	tell(pull);
	pthread_mutex_unlock(&pull->mutex);
}

static size_t wanted_workers(const struct pull *pull)
{
	long cores = sysconf(_SC_NPROCESSORS_ONLN);
	size_t most = cores < 2 ? 2 : (size_t)cores, wanted = 0;

	if (most > WORKERS_MAX)
		most = WORKERS_MAX;
	for (size_t i = 0; i < layer_count(pull); i++)
		wanted += pull->progress[i].phase == TH_LAYER_WAITING;
	return wanted < most ? wanted : most;
}

/* Writes to the disk what has come so far, while the rest comes: the sync that
 * the image waits for in the end then has little left to do. */
static void *flush(void *owner)
{
	struct pull *pull = owner;
	const struct timespec step = {.tv_nsec = FLUSH_STEP_NS};
	int steps = 0;

	while (!atomic_load(&pull->all_come)) {
		nanosleep(&step, NULL);
		if (++steps % FLUSH_STEPS == 0)
			syncfs(pull->store->root_fd);
	}
	return NULL;
}

static void join_workers(
	struct pull *pull, const pthread_t *threads, size_t count)
{
	pthread_t flusher;
	bool flushes =
		count > 0 && pthread_create(&flusher, NULL, flush, pull) == 0;

	th_threads_join(threads, count, tick, pull);
	atomic_store(&pull->all_come, true);
	if (flushes)
		pthread_join(flusher, NULL);
}

static int fetch_layers(struct pull *pull, struct th_error *err)
{
	pthread_t threads[WORKERS_MAX];
	size_t wanted = wanted_workers(pull), started = 0;

	for (; started < wanted; started++) {
		if (pthread_create(
			    &threads[started], NULL, work_in_thread, pull))
			break;
	}
	if (wanted > 0 && started == 0)
		work(pull);
	join_workers(pull, threads, started);
	if (th_cancelled(pull->options->registries->cancel)) {
		th_fail(err, TH_FAILED, "the pull was interrupted");
		return th_hint(err,
			"the data received so far is kept; run the same pull "
			"to resume");
	}
	if (pull->err.code) {
		*err = pull->err;
		return -1;
	}
	return 0;
}

/* ---- when all are there ---- */

/* The layers are put on one another by one thread: what is left to do is
 * little, and depends on what is below. */
static int stack_layers(struct pull *pull, struct th_error *err)
{
	size_t count = layer_count(pull);
	struct working *working = calloc(count, sizeof(*working));
	struct th_layer_job *jobs = calloc(count, sizeof(*jobs));
	int rc = -1;

	pull->stack.layers = calloc(count, sizeof(*pull->stack.layers));
	pull->stack.count = count;
	if (!working || !jobs || !pull->stack.layers) {
		th_fail_memory(err);
		goto out;
	}
	for (size_t i = 0; i < count; i++) {
		working[i].pull = pull;
		working[i].number = i;
		jobs[i] = job_of(&working[i]);
		pull->stack.layers[i].fetch = &jobs[i];
	}
	rc = th_stack_settle(pull->store, &pull->stack, err);
	if (rc && pull->stack.reached < count)
		blame_layer(pull, pull->stack.reached, err);
out:
	free(working);
	free(jobs);
	return rc;
}

/* ---- before and after them ---- */

static void order_layers(struct pull *pull)
{
	size_t count = layer_count(pull);

	for (size_t i = 0; i < count; i++) {
		size_t at = i;

		while (at > 0 &&
			pull->layers[pull->order[at - 1]]
					.descriptor->size_bytes <
				pull->layers[i].descriptor->size_bytes) {
			pull->order[at] = pull->order[at - 1];
			at--;
		}
		pull->order[at] = i;
	}
}

/* A disk that cannot hold even what is downloaded is told before. */
static int check_room(const struct pull *pull, struct th_error *err)
{
	uint64_t needed = 0, room;
	struct statvfs disk;

	for (size_t i = 0; i < layer_count(pull); i++) {
		if (pull->progress[i].phase == TH_LAYER_WAITING &&
			!th_borrow_has_blob(pull->store, pull->progress[i].blob,
				pull->progress[i].size_bytes))
			needed += pull->progress[i].size_bytes;
	}
	if (fstatvfs(pull->store->root_fd, &disk))
		return 0;
	room = (uint64_t)disk.f_bavail * disk.f_frsize;
	if (needed <= room)
		return 0;
	th_fail(err, TH_FAILED,
		"the disk has room for %.1f MB, but the download needs %.1f MB",
		(double)room / 1e6, (double)needed / 1e6);
	return th_hint(err, "to free space: tidyhull sweep");
}

/* Its own, or one for the layers of this image. */
static bool has_tree(const struct pull *pull, size_t number)
{
	char *const *diff_ids = pull->resolved.config.diff_ids.items;
	char chain[TH_DIGEST_TEXT], own[TH_TREE_TEXT];

	if (th_stage_has_tree(pull->store, diff_ids[number]))
		return true;
	if (th_chain_id(diff_ids, number + 1, chain, NULL))
		return false;
	snprintf(own, sizeof(own), "%s" TH_TREE_OWN, chain);
	return th_stage_has_tree(pull->store, own);
}

/* Where a layer is wanted, what is wrong with the lender is told. */
static int check_lender(const struct pull *pull, struct th_error *err)
{
	const struct th_lender *lender = pull->store->lender;

	if (!lender || !lender->why.code)
		return 0;
	for (size_t i = 0; i < layer_count(pull); i++) {
		if (pull->progress[i].phase != TH_LAYER_HERE) {
			*err = lender->why;
			return -1;
		}
	}
	return 0;
}

static int prepare_layers(struct pull *pull, struct th_error *err)
{
	const struct th_resolved *resolved = &pull->resolved;
	size_t count = layer_count(pull);

	if (count == 0)
		return th_fail(err, TH_FAILED, "the image has no layers");
	pull->layers = calloc(count, sizeof(*pull->layers));
	pull->order = calloc(count, sizeof(*pull->order));
	pull->progress = calloc(count, sizeof(*pull->progress));
	if (!pull->layers || !pull->order || !pull->progress)
		return th_fail_memory(err);
	for (size_t i = 0; i < count; i++) {
		struct layer *layer = &pull->layers[i];
		struct th_layer_progress *progress = &pull->progress[i];
		const struct th_descriptor *blob =
			&resolved->manifest.layers[i];

		layer->descriptor = blob;
		layer->diff_id = resolved->config.diff_ids.items[i];
		memcpy(progress->blob, blob->digest, sizeof(progress->blob));
		progress->size_bytes = blob->size_bytes;
		for (size_t j = 0; j < i; j++)
			layer->repeated |=
				strcmp(pull->layers[j].descriptor->digest,
					blob->digest) == 0 &&
				strcmp(pull->layers[j].diff_id,
					layer->diff_id) == 0;
		if (layer->repeated ||
			(has_tree(pull, i) &&
				th_stage_has_blob(pull->store, blob->digest,
					blob->size_bytes)))
			progress->phase = TH_LAYER_HERE;
	}
	order_layers(pull);
	return check_lender(pull, err) ? -1 : check_room(pull, err);
}

/* All is there: now, and not before, the image comes to be. */
static int commit(struct pull *pull, const char *name, struct th_error *err)
{
	const struct th_resolved *resolved = &pull->resolved;
	struct th_commit commit = {.manifest_body = &resolved->manifest_body,
		.config_body = &resolved->config_body,
		.digest = resolved->digest,
		.manifest = &resolved->manifest,
		.config = &resolved->config,
		.stack = &pull->stack,
		.index = resolved->is_index ? resolved->first : NULL,
		.name = name};
	uint64_t *sizes = calloc(layer_count(pull), sizeof(*sizes));
	int rc;

	if (!sizes)
		return th_fail_memory(err);
	for (size_t i = 0; i < layer_count(pull); i++)
		sizes[i] = pull->layers[i].tree_bytes;
	commit.tree_bytes = sizes;
	rc = th_image_commit(pull->store, &commit, err);
	free(sizes);
	return rc;
}

/* Once for all layers: most base images have a few. */
static int note_nodes(
	const struct pull *pull, struct th_pulled *pulled, struct th_error *err)
{
	uint64_t nodes = 0;
	char *text;

	for (size_t i = 0; i < layer_count(pull); i++)
		nodes += pull->layers[i].nodes_left;
	if (!nodes)
		return 0;
	text = th_format("left out %llu device node%s, which only root can "
			 "create; containers have the usual ones in /dev",
		(unsigned long long)nodes, nodes == 1 ? "" : "s");
	return th_strings_take(&pulled->notes, text) ? th_fail_memory(err) : 0;
}

static int count_result(
	struct pull *pull, struct th_pulled *pulled, struct th_error *err)
{
	const struct th_strings *notes = th_origin_notes(pull->origin);

	memcpy(pulled->digest, pull->resolved.digest, sizeof(pulled->digest));
	pulled->layer_count = layer_count(pull);
	for (size_t i = 0; i < pulled->layer_count; i++) {
		if (pull->progress[i].phase == TH_LAYER_HERE)
			pulled->here_count++;
		else
			pulled->transfer_bytes += pull->progress[i].size_bytes;
	}
	snprintf(pulled->from, sizeof(pulled->from), "%s",
		th_origin_giver(pull->origin));
	for (size_t i = 0; i < notes->count; i++) {
		if (th_strings_add(&pulled->notes, notes->items[i]))
			return th_fail_memory(err);
	}
	return note_nodes(pull, pulled, err);
}

static void release(struct pull *pull)
{
	free(pull->layers);
	free(pull->stack.layers);
	free(pull->order);
	free(pull->progress);
	th_resolved_release(&pull->resolved);
	pthread_mutex_destroy(&pull->mutex);
}

/* What the threads of one pull share, beside the pull itself. */
struct shared {
	struct th_registry_options registries;
	atomic_bool failed;
};

static void share(struct shared *shared, const struct th_pull_options *options)
{
	atomic_init(&shared->failed, false);
	shared->registries = *options->registries;
	shared->registries.cancel.flags[1] = &shared->failed;
}

/* name NULL: the image gets none. */
static int pull_from(struct th_store *store, struct th_origin *origin,
	struct shared *shared, const char *wanted, const char *name,
	const struct th_pull_options *options, struct th_pulled *pulled,
	struct th_error *err)
{
	struct pull pull = {.store = store,
		.origin = origin,
		.options = options,
		.cancel = shared->registries.cancel,
		.failed = &shared->failed};
	struct th_reader *reader;
	int rc = -1;

	pthread_mutex_init(&pull.mutex, NULL);
	if (th_store_use_images(store, err)) {
		release(&pull);
		return -1;
	}
	th_stage_begin(store);
	reader = th_reader_new(origin, err);
	if (reader)
		rc = th_resolve(reader, wanted, &options->platform,
			&pull.resolved, err);
	th_reader_free(reader);
	if (rc == 0)
		rc = prepare_layers(&pull, err);
	if (rc == 0) {
		tell(&pull);
		rc = fetch_layers(&pull, err);
	}
	if (rc == 0)
		rc = stack_layers(&pull, err);
	if (rc == 0)
		rc = commit(&pull, name, err);
	if (rc == 0)
		rc = count_result(&pull, pulled, err);
	release(&pull);
	th_store_unuse_images(store);
	return rc;
}

static int pull_held(struct th_store *store, struct th_origin *origin,
	struct shared *shared, const char *wanted, const char *name,
	const struct th_pull_options *options, struct th_pulled *pulled,
	struct th_error *err)
{
	int rc;

	if (!origin)
		return -1;
	if (th_store_hold(store, err)) {
		th_origin_free(origin);
		return -1;
	}
	rc = pull_from(
		store, origin, shared, wanted, name, options, pulled, err);
	if (rc)
		th_pulled_release(pulled);
	/* Somebody may have removed an image meanwhile, and left the files to
	 * whoever comes last. */
	th_image_reclaim_due(store);
	th_store_let_go(store);
	th_origin_free(origin);
	return rc;
}

int th_pull(struct th_store *store, const struct th_reference *ref,
	const struct th_pull_options *options, struct th_pulled *pulled,
	struct th_error *err)
{
	struct th_reference tag = *ref;
	char name[sizeof(pulled->name)];
	struct shared shared;
	int rc;

	share(&shared, options);

	/* The digest pins what is fetched; the name that is kept is the tag. */
	tag.digest[0] = '\0';
	th_reference_format(&tag, name);
	memset(pulled, 0, sizeof(*pulled));
	th_reference_format(ref, pulled->name);
	rc = pull_held(store, th_origin_registry(&shared.registries, ref, err),
		&shared, th_reference_wanted(ref), ref->tag[0] ? name : NULL,
		options, pulled, err);
	/* Only a mirror is worth a word. */
	if (rc == 0 && strcmp(pulled->from, ref->host) == 0)
		pulled->from[0] = '\0';
	return rc;
}

int th_pull_packed(struct th_store *store, const struct th_packed *packed,
	const struct th_packed_image *image, const char *name,
	const struct th_pull_options *options, struct th_pulled *pulled,
	struct th_error *err)
{
	struct shared shared;

	share(&shared, options);
	memset(pulled, 0, sizeof(*pulled));
	if (!name && image->name[0])
		name = image->name;
	snprintf(pulled->name, sizeof(pulled->name), "%s",
		name ? name : image->digest);
	return pull_held(store, th_origin_packed(packed, err), &shared,
		image->digest, name, options, pulled, err);
}
