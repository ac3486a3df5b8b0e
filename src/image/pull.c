#include "image/pull.h"

#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/random.h"
#include "layer/apply.h"
#include "layer/inflate.h"
#include "oci/image_config.h"
#include "registry/client.h"
#include "store/blob.h"

#define WORKERS_MAX 8
/* Progress is told at most once for so many bytes of a layer. */
#define PROGRESS_STEP (256 * 1024)

struct layer {
	const struct th_descriptor *descriptor;
	const char *diff_id;
	bool repeated; /* the same as an earlier one of this image */
	char tree[64]; /* below tmp/ while it is written */
};

struct pull {
	struct th_store *store;
	const struct th_reference *ref;
	const struct th_pull_options *options;
	struct th_manifest manifest;
	struct th_image_config config;
	struct th_buf manifest_body, config_body;
	char digest[TH_DIGEST_TEXT];
	struct layer *layers;
	size_t *order; /* the largest first */
	struct th_layer_progress *progress;
	/* shared by the workers */
	pthread_mutex_t mutex;
	size_t next;
	struct th_error err;
	atomic_bool cancel;
};

/* ---- what is asked of the registry before the layers ---- */

static int fetch_blob(struct th_registry *registry, const char *path,
	const struct th_descriptor *wanted, struct th_buf *body,
	const char *what, struct th_error *err)
{
	char digest[TH_DIGEST_TEXT];
	struct th_source *source;
	const void *data;
	ssize_t got;

	if (wanted->size_bytes > body->limit)
		return th_fail(err, TH_FAILED,
			"%s is larger than the %zu bytes that are accepted",
			what, body->limit);
	if (th_registry_blob(registry, path, wanted->digest, &source, err))
		return -1;
	while ((got = source->next(source, &data, err)) > 0)
		th_buf_add(body, data, (size_t)got);
	if (got < 0)
		return -1;
	if (body->failed || th_hash_once(body->data, body->len, digest))
		return th_fail(err, TH_NETWORK,
			"%s is longer than the manifest says", what);
	if (body->len != wanted->size_bytes ||
		strcmp(digest, wanted->digest) != 0) {
		th_fail(err, TH_NETWORK,
			"%s is not what the manifest says: its digest is %s "
			"instead of %s",
			what, digest, wanted->digest);
		return th_hint(err,
			"the registry or something on the way has changed it; "
			"nothing of it was kept");
	}
	return 0;
}

static int fetch_manifest(struct pull *pull, struct th_registry *registry,
	const char *wanted, const struct th_platform *platform, int depth,
	struct th_error *err)
{
	const struct th_descriptor *chosen = NULL;
	char child[TH_DIGEST_TEXT], type[128];
	struct th_buf *body = &pull->manifest_body;
	struct th_index index;
	enum th_document kind;
	int rc;

	body->len = 0;
	if (th_registry_manifest(registry, pull->ref->path, wanted, body,
		    pull->digest, type, err) ||
		th_document_kind(body->data, body->len, type, &kind, err))
		return -1;
	if (kind == TH_DOC_MANIFEST)
		return th_manifest_parse(
			body->data, body->len, &pull->manifest, err);
	if (depth > 3)
		return th_fail(err, TH_FAILED,
			"the index leads to another index too many times");
	if (th_index_parse(body->data, body->len, &index, err))
		return -1;
	rc = th_index_select(&index, platform, &chosen, err);
	if (rc == 0)
		memcpy(child, chosen->digest, sizeof(child));
	th_index_release(&index);
	if (rc)
		return -1;
	return fetch_manifest(pull, registry, child, platform, depth + 1, err);
}

static int fetch_documents(
	struct pull *pull, struct th_registry *registry, struct th_error *err)
{
	struct th_platform platform = pull->options->platform;

	if (!platform.os[0])
		th_platform_host(&platform);
	if (fetch_manifest(pull, registry, th_reference_wanted(pull->ref),
		    &platform, 0, err) ||
		fetch_blob(registry, pull->ref->path, &pull->manifest.config,
			&pull->config_body, "the image's config", err) ||
		th_image_config_parse(pull->config_body.data,
			pull->config_body.len, &pull->config, err))
		return -1;
	if (pull->config.diff_ids.count != pull->manifest.layer_count)
		return th_fail(err, TH_FAILED,
			"the image's manifest has %zu layers, but its config "
			"has %zu",
			pull->manifest.layer_count,
			pull->config.diff_ids.count);
	if (pull->manifest.layer_count == 0)
		return th_fail(err, TH_FAILED, "the image has no layers");
	return 0;
}

/* ---- one layer: download, verify, keep, decompress, verify, unpack ---- */

/* Passes the download on while it is hashed and written as a blob. */
struct tee {
	struct th_source source;
	struct th_source *from;
	struct th_blob_writer writer;
	struct pull *pull;
	struct th_layer_progress *progress;
	uint64_t limit;
	uint64_t told;
};

static void tell(struct pull *pull)
{
	if (pull->options->progress)
		pull->options->progress(pull->options->owner, pull->progress,
			pull->manifest.layer_count);
}

static ssize_t next_tee(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct tee *tee = (struct tee *)(void *)source;
	ssize_t got = tee->from->next(tee->from, data, err);

	if (got <= 0)
		return got;
	if (tee->writer.size_bytes + (uint64_t)got > tee->limit)
		return th_fail(
			err, TH_NETWORK, "it is longer than the manifest says");
	if (th_blob_add(&tee->writer, *data, (size_t)got, err))
		return -1;
	if (tee->writer.size_bytes - tee->told >= PROGRESS_STEP) {
		tee->told = tee->writer.size_bytes;
		pthread_mutex_lock(&tee->pull->mutex);
		tee->progress->done_bytes = tee->told;
		tell(tee->pull);
		pthread_mutex_unlock(&tee->pull->mutex);
	}
	return got;
}

/* A blob that is in the store already. */
struct file_source {
	struct th_source source;
	int fd;
	char data[128 * 1024];
};

static ssize_t next_file(
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
	return got;
}

/* Hashes what is unpacked, for the diff ID. */
struct counter {
	struct th_source source;
	struct th_source *from;
	struct th_hash *hash;
};

static ssize_t next_counted(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct counter *counter = (struct counter *)(void *)source;
	ssize_t got = counter->from->next(counter->from, data, err);

	if (got > 0)
		th_hash_add(counter->hash, *data, (size_t)got);
	return got;
}

static void tree_path(const char *diff_id, char path[128])
{
	snprintf(path, 128, "trees/%.64s", th_digest_hex(diff_id));
}

static bool tree_there(const struct th_store *store, const char *diff_id)
{
	char path[128];

	tree_path(diff_id, path);
	return faccessat(store->root_fd, path, F_OK, 0) == 0;
}

/* Unpacks into a new folder below tmp/ and checks the diff ID. */
static int unpack(struct pull *pull, struct layer *layer,
	struct th_source *blob, struct th_error *err)
{
	struct counter counter = {.source = {next_counted}};
	struct th_inflate *inflate = NULL;
	char id[TH_ID_LENGTH + 1], digest[TH_DIGEST_TEXT];
	int tree = -1, rc = -1;

	th_id_new(id);
	snprintf(layer->tree, sizeof(layer->tree), "tmp/%s.tree", id);
	if (mkdirat(pull->store->root_fd, layer->tree, 0755) == 0)
		tree = openat(pull->store->root_fd, layer->tree,
			O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (tree < 0) {
		th_fail_sys(err, TH_FAILED, errno, "cannot make a folder in %s",
			pull->store->root);
		goto out;
	}
	inflate = th_inflate_new(layer->descriptor->compression, blob);
	counter.hash = th_hash_new();
	if (!inflate || !counter.hash) {
		th_fail_memory(err);
		goto out;
	}
	counter.from = th_inflate_source(inflate);
	if (th_layer_apply(&counter.source, tree, err))
		goto out;
	th_hash_digest(counter.hash, digest);
	if (strcmp(digest, layer->diff_id) != 0) {
		th_fail(err, TH_NETWORK,
			"its content is not what the image's config says: the "
			"diff ID is %s instead of %s",
			digest, layer->diff_id);
		goto out;
	}
	rc = 0;
out:
	th_hash_free(counter.hash);
	th_inflate_free(inflate);
	th_close(&tree);
	return rc;
}

/* Renames the tree into its place; one that came in between is as good. */
static int place_tree(
	struct pull *pull, struct layer *layer, struct th_error *err)
{
	char path[128];

	tree_path(layer->diff_id, path);
	if (renameat(pull->store->root_fd, layer->tree, pull->store->root_fd,
		    path) == 0) {
		layer->tree[0] = '\0';
		return 0;
	}
	if (errno == EEXIST || errno == ENOTEMPTY)
		return 0;
	return th_fail_sys(
		err, TH_FAILED, errno, "cannot keep the unpacked layer");
}

static int unpack_stored(
	struct pull *pull, struct layer *layer, struct th_error *err)
{
	struct file_source *file = calloc(1, sizeof(*file));
	int rc = -1;

	if (!file)
		return th_fail_memory(err);
	file->source.next = next_file;
	file->fd = th_blob_open(pull->store, layer->descriptor->digest, err);
	if (file->fd >= 0)
		rc = unpack(pull, layer, &file->source, err);
	th_close(&file->fd);
	free(file);
	return rc;
}

/* Also where only the tree is there: the blob belongs to the image. */
static int download(struct pull *pull, struct layer *layer,
	struct th_layer_progress *progress, struct th_registry *registry,
	struct th_error *err)
{
	const struct th_descriptor *blob = layer->descriptor;
	struct tee tee = {.source = {next_tee},
		.pull = pull,
		.progress = progress,
		.limit = blob->size_bytes};
	const void *data;
	ssize_t got;
	int rc = -1;

	if (th_blob_begin(pull->store, &tee.writer, err) ||
		th_registry_blob(registry, pull->ref->path, blob->digest,
			&tee.from, err))
		goto out;
	if (!tree_there(pull->store, layer->diff_id)) {
		if (unpack(pull, layer, &tee.source, err)) {
			/* A wrong digest explains a damaged archive. */
			struct th_error whole = {0};

			if (err->code == TH_FAILED && !err->sys) {
				while (next_tee(&tee.source, &data, &whole) > 0)
					;
				if (!whole.code &&
					th_blob_commit(pull->store, &tee.writer,
						blob->digest, blob->size_bytes,
						"it", &whole))
					*err = whole;
			}
			goto out;
		}
	}
	while ((got = next_tee(&tee.source, &data, err)) > 0)
		;
	if (got < 0)
		goto out;
	rc = th_blob_commit(pull->store, &tee.writer, blob->digest,
		blob->size_bytes, "it", err);
out:
	th_blob_discard(pull->store, &tee.writer);
	return rc;
}

static int fetch_layer(struct pull *pull, size_t number,
	struct th_registry *registry, struct th_error *err)
{
	struct layer *layer = &pull->layers[number];
	const struct th_descriptor *blob = layer->descriptor;
	bool blob_here =
		th_blob_there(pull->store, blob->digest, blob->size_bytes);
	char reason[sizeof(err->msg)];
	int rc = 0;

	if (!blob_here)
		rc = download(
			pull, layer, &pull->progress[number], registry, err);
	else if (!tree_there(pull->store, layer->diff_id))
		rc = unpack_stored(pull, layer, err);
	if (rc == 0)
		return 0;
	snprintf(reason, sizeof(reason), "%s", err->msg);
	snprintf(err->msg, sizeof(err->msg), "layer %zu of %zu (%.19s): %.400s",
		number + 1, pull->manifest.layer_count, blob->digest, reason);
	return -1;
}

static void set_phase(
	struct pull *pull, size_t number, enum th_layer_phase phase)
{
	pthread_mutex_lock(&pull->mutex);
	pull->progress[number].phase = phase;
	if (phase == TH_LAYER_DONE)
		pull->progress[number].done_bytes =
			pull->progress[number].size_bytes;
	tell(pull);
	pthread_mutex_unlock(&pull->mutex);
}

/* The next layer to do, or -1. */
static ssize_t next_layer(struct pull *pull)
{
	ssize_t number = -1;

	pthread_mutex_lock(&pull->mutex);
	while (number < 0 && pull->next < pull->manifest.layer_count) {
		size_t candidate = pull->order[pull->next++];

		if (pull->progress[candidate].phase == TH_LAYER_WAITING)
			number = (ssize_t)candidate;
	}
	pthread_mutex_unlock(&pull->mutex);
	return number;
}

static void *work(void *owner)
{
	struct pull *pull = owner;
	struct th_error err = {0};
	struct th_registry *registry;
	ssize_t number;

	registry = th_registry_new(
		pull->options->config, pull->ref->host, &pull->cancel, &err);
	while (registry && !atomic_load(&pull->cancel) &&
		(number = next_layer(pull)) >= 0) {
		set_phase(pull, (size_t)number, TH_LAYER_TRANSFER);
		if (fetch_layer(pull, (size_t)number, registry, &err))
			break;
		set_phase(pull, (size_t)number, TH_LAYER_DONE);
	}
	if (err.code) {
		pthread_mutex_lock(&pull->mutex);
		/* The others end because of this one: it is the reason. */
		if (!pull->err.code)
			pull->err = err;
		atomic_store(&pull->cancel, true);
		pthread_mutex_unlock(&pull->mutex);
	}
	th_registry_free(registry);
	return NULL;
}

/* ---- the whole ---- */

static void order_layers(struct pull *pull)
{
	size_t count = pull->manifest.layer_count;

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

static int prepare_layers(struct pull *pull, struct th_error *err)
{
	size_t count = pull->manifest.layer_count;

	pull->layers = calloc(count, sizeof(*pull->layers));
	pull->order = calloc(count, sizeof(*pull->order));
	pull->progress = calloc(count, sizeof(*pull->progress));
	if (!pull->layers || !pull->order || !pull->progress)
		return th_fail_memory(err);
	for (size_t i = 0; i < count; i++) {
		struct layer *layer = &pull->layers[i];
		struct th_layer_progress *progress = &pull->progress[i];
		const struct th_descriptor *blob = &pull->manifest.layers[i];

		layer->descriptor = blob;
		layer->diff_id = pull->config.diff_ids.items[i];
		memcpy(progress->blob, blob->digest, sizeof(progress->blob));
		progress->size_bytes = blob->size_bytes;
		for (size_t j = 0; j < i; j++)
			layer->repeated |= strcmp(pull->layers[j].diff_id,
						   layer->diff_id) == 0;
		if (layer->repeated ||
			(tree_there(pull->store, layer->diff_id) &&
				th_blob_there(pull->store, blob->digest,
					blob->size_bytes)))
			progress->phase = TH_LAYER_HERE;
	}
	order_layers(pull);
	return 0;
}

static int fetch_layers(struct pull *pull, struct th_error *err)
{
	pthread_t threads[WORKERS_MAX];
	long cores = sysconf(_SC_NPROCESSORS_ONLN);
	size_t wanted = 0, started = 0, i;

	for (i = 0; i < pull->manifest.layer_count; i++)
		wanted += pull->progress[i].phase == TH_LAYER_WAITING;
	if (cores < 2)
		cores = 2;
	if (wanted > (size_t)cores)
		wanted = (size_t)cores;
	if (wanted > WORKERS_MAX)
		wanted = WORKERS_MAX;
	for (; started < wanted; started++) {
		if (pthread_create(&threads[started], NULL, work, pull))
			break;
	}
	if (wanted > 0 && started == 0)
		work(pull);
	while (started > 0) {
		struct timespec until;

		/* The caller's wish to stop reaches the workers from here. */
		clock_gettime(CLOCK_REALTIME, &until);
		until.tv_nsec += 50000000;
		if (until.tv_nsec >= 1000000000) {
			until.tv_sec++;
			until.tv_nsec -= 1000000000;
		}
		if (atomic_load(pull->options->cancel))
			atomic_store(&pull->cancel, true);
		if (pthread_timedjoin_np(threads[started - 1], NULL, &until) ==
			0)
			started--;
	}
	if (atomic_load(pull->options->cancel))
		return th_fail(err, TH_FAILED, "the pull was interrupted");
	if (pull->err.code) {
		*err = pull->err;
		return -1;
	}
	return 0;
}

static int keep_document(struct pull *pull, const char *digest,
	const struct th_buf *body, struct th_error *err)
{
	struct th_blob_writer writer;
	int rc = -1;

	if (th_blob_there(pull->store, digest, body->len))
		return 0;
	if (th_blob_begin(pull->store, &writer, err) == 0 &&
		th_blob_add(&writer, body->data, body->len, err) == 0)
		rc = th_blob_commit(pull->store, &writer, digest, body->len,
			"the document", err);
	th_blob_discard(pull->store, &writer);
	return rc;
}

/* All is there: now, and not before, the trees get their names and the image
 * gets its own. */
static int commit(struct pull *pull, const char *name, struct th_error *err)
{
	struct th_image_row row = {0};
	struct th_image_layer *layers;
	size_t count = pull->manifest.layer_count;
	int rc = -1;

	layers = calloc(count, sizeof(*layers));
	if (!layers)
		return th_fail_memory(err);
	if (keep_document(pull, pull->digest, &pull->manifest_body, err) ||
		keep_document(pull, pull->manifest.config.digest,
			&pull->config_body, err))
		goto out;
	if (syncfs(pull->store->root_fd)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot write the image to the disk");
		goto out;
	}
	row.blob_bytes =
		pull->manifest_body.len + pull->manifest.config.size_bytes;
	for (size_t i = 0; i < count; i++) {
		if (pull->layers[i].tree[0] &&
			place_tree(pull, &pull->layers[i], err))
			goto out;
		memcpy(layers[i].diff_id, pull->layers[i].diff_id,
			TH_DIGEST_TEXT);
		memcpy(layers[i].blob, pull->manifest.layers[i].digest,
			TH_DIGEST_TEXT);
		layers[i].size_bytes = pull->manifest.layers[i].size_bytes;
		row.blob_bytes += layers[i].size_bytes;
	}
	memcpy(row.digest, pull->digest, sizeof(row.digest));
	memcpy(row.config, pull->manifest.config.digest, sizeof(row.config));
	snprintf(row.platform, sizeof(row.platform), "%s/%s%s%s",
		pull->config.platform.os, pull->config.platform.architecture,
		pull->config.platform.variant[0] ? "/" : "",
		pull->config.platform.variant);
	snprintf(row.created, sizeof(row.created), "%s", pull->config.created);
	row.manifest_bytes = pull->manifest_body.len;
	rc = th_image_state_add(pull->store, &row, layers, count, name, err);
out:
	free(layers);
	return rc;
}

static void release(struct pull *pull)
{
	struct th_error ignored = {0};

	for (size_t i = 0; pull->layers && i < pull->manifest.layer_count;
		i++) {
		if (pull->layers[i].tree[0])
			th_tree_remove(pull->store->root_fd,
				pull->layers[i].tree, &ignored);
	}
	free(pull->layers);
	free(pull->order);
	free(pull->progress);
	th_manifest_release(&pull->manifest);
	th_image_config_release(&pull->config);
	th_buf_release(&pull->manifest_body);
	th_buf_release(&pull->config_body);
	pthread_mutex_destroy(&pull->mutex);
}

static void count_result(const struct pull *pull, struct th_pulled *pulled)
{
	memcpy(pulled->digest, pull->digest, sizeof(pulled->digest));
	pulled->layer_count = pull->manifest.layer_count;
	for (size_t i = 0; i < pulled->layer_count; i++) {
		if (pull->progress[i].phase == TH_LAYER_HERE)
			pulled->here_count++;
		else
			pulled->transfer_bytes += pull->progress[i].size_bytes;
	}
}

int th_pull(struct th_store *store, const struct th_reference *ref,
	const struct th_pull_options *options, struct th_pulled *pulled,
	struct th_error *err)
{
	struct pull pull = {.store = store, .ref = ref, .options = options};
	struct th_registry *registry = NULL;
	struct th_reference tag = *ref;
	char name[sizeof(pulled->name)];
	int rc = -1;

	/* The digest pins what is fetched; the name that is kept is the tag. */
	tag.digest[0] = '\0';
	th_reference_format(&tag, name);
	memset(pulled, 0, sizeof(*pulled));
	th_reference_format(ref, pulled->name);
	th_buf_init(&pull.manifest_body, TH_MANIFEST_MAX);
	th_buf_init(&pull.config_body, TH_MANIFEST_MAX);
	pthread_mutex_init(&pull.mutex, NULL);
	if (th_store_hold(store, err)) {
		release(&pull);
		return -1;
	}
	registry = th_registry_new(
		options->config, ref->host, options->cancel, err);
	if (!registry || fetch_documents(&pull, registry, err) ||
		prepare_layers(&pull, err))
		goto out;
	tell(&pull);
	if (fetch_layers(&pull, err) ||
		commit(&pull, ref->tag[0] ? name : NULL, err))
		goto out;
	count_result(&pull, pulled);
	rc = 0;
out:
	th_registry_free(registry);
	release(&pull);
	th_store_let_go(store);
	return rc;
}

static int ask(const struct th_config *config, const char *host,
	const struct th_reference *ref, struct th_error *err)
{
	char digest[TH_DIGEST_TEXT], type[128];
	struct th_registry *registry;
	struct th_buf body;
	int rc;

	th_buf_init(&body, TH_MANIFEST_MAX);
	registry = th_registry_new(config, host, NULL, err);
	rc = registry
		? th_registry_manifest(registry, ref->path,
			  th_reference_wanted(ref), &body, digest, type, err)
		: -1;
	th_registry_free(registry);
	th_buf_release(&body);
	return rc;
}

int th_pull_locate(const struct th_config *config,
	const struct th_reference *ref, struct th_strings *hosts,
	struct th_error *err)
{
	char asked[300] = "";
	struct th_error trouble = {0};

	if (ref->host[0])
		return th_strings_add(hosts, ref->host) ? th_fail_memory(err)
							: 0;
	for (size_t i = 0; i < config->registry_count; i++) {
		const struct th_registry_config *entry = &config->registries[i];
		struct th_error one = {0};
		size_t used = strlen(asked);

		if (!entry->search)
			continue;
		snprintf(asked + used, sizeof(asked) - used, "%s%s",
			used ? ", " : "", entry->host);
		if (ask(config, entry->host, ref, &one) == 0) {
			if (th_strings_add(hosts, entry->host))
				return th_fail_memory(err);
		} else if (one.code != TH_NOT_FOUND && !trouble.code) {
			trouble = one;
		}
	}
	if (hosts->count)
		return 0;
	if (trouble.code) {
		*err = trouble;
		return -1;
	}
	th_fail(err, TH_NOT_FOUND, "no registry has %s%s%s (asked: %s)",
		ref->path, ref->tag[0] ? ":" : "", ref->tag,
		asked[0] ? asked : "none");
	return th_hint(err,
		asked[0] ? "check the name, or put the registry's host before "
			   "it: registry.example/%s"
			 : "put the registry's host before it "
			   "(registry.example/%s), or mark a registry with "
			   "\"search: true\" in the configuration",
		ref->path);
}
