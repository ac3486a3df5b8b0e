#include "image/origin.h"

#include <errno.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/hash.h"

#define HOSTS_MAX 17 /* mirrors and the registry itself */

struct th_origin {
	const struct th_packed *packed;
	const struct th_registry_options *options;
	struct th_reference ref;
	struct th_strings hosts; /* in the order in which they are asked */
	pthread_mutex_t mutex; /* of notes */
	struct th_strings notes;
	atomic_uint giver; /* the host whose manifest was taken */
	atomic_bool distrusted[HOSTS_MAX];
};

struct th_reader {
	struct th_source source; /* of the running blob */
	struct th_origin *origin;
	struct th_registry *registries[HOSTS_MAX]; /* made when asked */
	struct th_blob_reader *blob; /* from a registry */
	struct th_packed_reader *part; /* of a packed file */
	const struct th_descriptor *wanted;
	uint64_t offset;
	bool elsewhere; /* it comes from a URL of the descriptor */
	unsigned int host; /* that gives the blob */
	unsigned int tried; /* a bit for each host that failed */
};

static struct th_origin *new_origin(struct th_error *err)
{
	struct th_origin *origin = calloc(1, sizeof(*origin));

	if (!origin)
		th_fail_memory(err);
	else
		pthread_mutex_init(&origin->mutex, NULL);
	return origin;
}

struct th_origin *th_origin_registry(const struct th_registry_options *options,
	const struct th_reference *ref, struct th_error *err)
{
	const struct th_registry_config *entry =
		th_config_find(options->config, ref->host);
	struct th_origin *origin = new_origin(err);
	int rc = 0;

	if (!origin)
		return NULL;
	origin->options = options;
	origin->ref = *ref;
	for (unsigned int i = 0;
		entry && i < entry->mirrors_count && i < HOSTS_MAX - 1; i++)
		rc |= th_strings_add(&origin->hosts, entry->mirrors[i]);
	rc |= th_strings_add(&origin->hosts, ref->host);
	if (rc) {
		th_fail_memory(err);
		th_origin_free(origin);
		return NULL;
	}
	return origin;
}

struct th_origin *th_origin_packed(
	const struct th_packed *packed, struct th_error *err)
{
	struct th_origin *origin = new_origin(err);

	if (origin)
		origin->packed = packed;
	return origin;
}

void th_origin_free(struct th_origin *origin)
{
	if (!origin)
		return;
	th_strings_release(&origin->hosts);
	th_strings_release(&origin->notes);
	pthread_mutex_destroy(&origin->mutex);
	free(origin);
}

const struct th_strings *th_origin_notes(struct th_origin *origin)
{
	return &origin->notes;
}

const char *th_origin_giver(const struct th_origin *origin)
{
	unsigned int giver = atomic_load(&origin->giver);

	return giver < origin->hosts.count ? origin->hosts.items[giver] : "";
}

static void note(struct th_origin *origin, const char *host, const char *why)
{
	char *text = th_format("skipped %s: %s", host, why);
	bool known = false;

	pthread_mutex_lock(&origin->mutex);
	for (size_t i = 0; text && i < origin->notes.count; i++)
		known |= strcmp(origin->notes.items[i], text) == 0;
	if (text && !known)
		th_strings_take(&origin->notes, text);
	else
		free(text);
	pthread_mutex_unlock(&origin->mutex);
}

struct th_reader *th_reader_new(struct th_origin *origin, struct th_error *err)
{
	struct th_reader *reader = calloc(1, sizeof(*reader));

	if (!reader)
		th_fail_memory(err);
	else
		reader->origin = origin;
	return reader;
}

void th_reader_free(struct th_reader *reader)
{
	if (!reader)
		return;
	th_reader_blob_end(reader);
	for (size_t i = 0; i < HOSTS_MAX; i++)
		th_registry_free(reader->registries[i]);
	free(reader);
}

static struct th_registry *registry_at(
	struct th_reader *reader, unsigned int host, struct th_error *err)
{
	struct th_origin *origin = reader->origin;

	if (!reader->registries[host])
		reader->registries[host] = th_registry_new(
			origin->options, origin->hosts.items[host], err);
	return reader->registries[host];
}

static bool interrupted(const struct th_origin *origin)
{
	return th_cancelled(origin->options->cancel);
}

/* ---- manifests ---- */

static int packed_manifest(struct th_reader *reader, const char *wanted,
	struct th_buf *body, char digest[TH_DIGEST_TEXT], struct th_error *err)
{
	if (th_packed_document(reader->origin->packed, wanted, body, err))
		return -1;
	if (th_hash_like(wanted, body->data, body->len, digest))
		return th_fail_memory(err);
	if (strcmp(digest, wanted) != 0)
		return th_fail(err, TH_FAILED,
			"the packed file is damaged: %s has the digest %s",
			wanted, digest);
	return 0;
}

int th_reader_manifest(struct th_reader *reader, const char *wanted,
	struct th_buf *body, char digest[TH_DIGEST_TEXT], char type[128],
	struct th_error *err)
{
	struct th_origin *origin = reader->origin;
	unsigned int count = (unsigned int)origin->hosts.count;

	type[0] = '\0';
	if (origin->packed)
		return packed_manifest(reader, wanted, body, digest, err);
	for (unsigned int host = 0; host < count; host++) {
		struct th_registry *registry = registry_at(reader, host, err);

		if (!registry)
			return -1;
		body->len = 0;
		if (th_registry_manifest(registry, origin->ref.path, wanted,
			    body, digest, type, err) == 0) {
			atomic_store(&origin->giver, host);
			return 0;
		}
		if (host + 1 == count || interrupted(origin))
			return -1;
		note(origin, origin->hosts.items[host], err->msg);
		th_error_clear(err);
	}
	return th_fail(err, TH_FAILED, "no registry is configured");
}

/* ---- blobs ---- */

/* The next host to try: the manifest's giver first. False where all have
 * failed. */
static bool choose_host(struct th_reader *reader)
{
	struct th_origin *origin = reader->origin;
	unsigned int count = (unsigned int)origin->hosts.count;
	unsigned int giver = atomic_load(&origin->giver);

	for (unsigned int i = 0; i < count; i++) {
		unsigned int host = (giver + i) % count;

		if (reader->tried & 1u << host ||
			atomic_load(&origin->distrusted[host]))
			continue;
		reader->host = host;
		return true;
	}
	return false;
}

static int open_host(struct th_reader *reader, struct th_error *err)
{
	struct th_registry *registry = registry_at(reader, reader->host, err);

	if (!registry)
		return -1;
	return th_registry_blob(registry, reader->origin->ref.path,
		reader->wanted->digest, reader->offset,
		reader->wanted->size_bytes, &reader->blob, err);
}

/* "A list of URIs from which this object MAY be downloaded" (descriptor.md):
 * where no registry has it, which is allowed for some layers. */
static int open_elsewhere(struct th_reader *reader, struct th_error *err)
{
	const struct th_strings *urls = &reader->wanted->urls;
	struct th_registry *registry = registry_at(reader, 0, err);

	for (size_t i = 0; registry && i < urls->count; i++) {
		struct th_error one = {0};

		if (interrupted(reader->origin))
			return -1;
		if (th_registry_blob_at(registry, urls->items[i],
			    reader->offset, reader->wanted->size_bytes,
			    &reader->blob, &one) == 0) {
			reader->elsewhere = true;
			th_error_clear(err);
			return 0;
		}
		*err = one;
	}
	return -1;
}

/* Goes over to another host after a failure. */
static int move_on(struct th_reader *reader, struct th_error *err)
{
	struct th_origin *origin = reader->origin;

	for (;;) {
		const char *failed = origin->hosts.items[reader->host];
		struct th_error next = {0};

		th_registry_blob_end(reader->blob);
		reader->blob = NULL;
		reader->tried |= 1u << reader->host;
		if (interrupted(origin) || !choose_host(reader))
			return -1;
		note(origin, failed, err->msg);
		if (open_host(reader, &next) == 0) {
			th_error_clear(err);
			return 0;
		}
		*err = next;
	}
}

static ssize_t next_of_blob(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_reader *reader = (struct th_reader *)(void *)source;

	for (;;) {
		struct th_source *from = reader->part
			? th_packed_reader_source(reader->part)
			: th_blob_reader_source(reader->blob);
		ssize_t got = from->next(from, data, err);

		if (got > 0)
			reader->offset += (uint64_t)got;
		if (got >= 0 || reader->part || reader->elsewhere ||
			move_on(reader, err))
			return got;
	}
}

/* The content stands in the descriptor. */
static ssize_t next_of_data(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_reader *reader = (struct th_reader *)(void *)source;
	const struct th_buf *whole = &reader->wanted->data;
	size_t left = whole->len - (size_t)reader->offset;

	(void)err;
	*data = whole->data + reader->offset;
	reader->offset = whole->len;
	return (ssize_t)left;
}

int th_reader_blob(struct th_reader *reader, const struct th_descriptor *blob,
	uint64_t offset, struct th_source **source, struct th_error *err)
{
	struct th_origin *origin = reader->origin;

	th_reader_blob_end(reader);
	reader->source.next = blob->data.len ? next_of_data : next_of_blob;
	reader->offset = offset;
	reader->wanted = blob;
	reader->tried = 0;
	reader->elsewhere = false;
	if (blob->data.len) {
		*source = &reader->source;
		return 0;
	}
	if (origin->packed) {
		if (th_packed_blob(origin->packed, blob->digest, offset,
			    &reader->part, err))
			return -1;
	} else {
		if (!choose_host(reader))
			return th_fail(err, TH_NETWORK,
				"no registry delivers valid data");
		if (open_host(reader, err) && move_on(reader, err) &&
			(err->code != TH_NOT_FOUND ||
				open_elsewhere(reader, err)))
			return -1;
	}
	*source = &reader->source;
	return 0;
}

void th_reader_blob_end(struct th_reader *reader)
{
	th_registry_blob_end(reader->blob);
	reader->blob = NULL;
	th_packed_reader_free(reader->part);
	reader->part = NULL;
}

bool th_reader_distrust(struct th_reader *reader, const struct th_error *why)
{
	struct th_origin *origin = reader->origin;
	const char *host;

	if (origin->packed || origin->hosts.count < 2)
		return false;
	host = origin->hosts.items[reader->host];
	atomic_store(&origin->distrusted[reader->host], true);
	reader->tried = 0;
	if (!choose_host(reader))
		return false;
	note(origin, host, why->msg);
	return true;
}
