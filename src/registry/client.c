#include "registry/client.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/hash.h"
#include "base/json.h"
#include "oci/manifest.h"
#include "registry/headers.h"

/* The OCI types, and those that the specification lists as compatible. */
#define ACCEPT                                                                 \
	"Accept: " TH_MEDIA_MANIFEST ", " TH_MEDIA_INDEX                       \
	", application/vnd.docker.distribution.manifest.v2+json"               \
	", application/vnd.docker.distribution.manifest.list.v2+json"
/* What a connection must bring to be worth another one without counting. */
#define PROGRESS_BYTES (256u << 10)
#define PAGE_MAX (8u << 20)
#define PAGES_MAX 10000
#define NAMES_MAX 1000000

static void pull_scope(const char *path, char scope[320])
{
	snprintf(scope, 320, "repository:%.255s:pull", path);
}

int th_registry_greet(struct th_registry *registry, struct th_error *err)
{
	struct th_http_answer answer;
	struct th_ask ask = {.scope = ""};
	char url[400];

	snprintf(url, sizeof(url), "%s/v2/", th_registry_base(registry));
	ask.url = url;
	if (th_ask(registry, &ask, &answer, NULL, err))
		return -1;
	if (answer.status == 404) {
		th_ask_end(registry);
		return th_fail(err, TH_NETWORK,
			"%s is not a registry: it does not answer at /v2/",
			th_registry_host(registry));
	}
	if (answer.status != 200)
		return th_ask_fail(registry, &answer, "an answer", err);
	th_ask_end(registry);
	return 0;
}

/* ---- manifests ---- */

/* 1 where the content is not what was asked for by its digest. */
static int get_manifest(struct th_registry *registry, const struct th_ask *ask,
	const char *what, const char *wanted, struct th_buf *body,
	char digest[TH_DIGEST_TEXT], char type[128], struct th_error *err)
{
	bool by_digest = th_digest_valid(wanted);
	struct th_http_answer answer;

	if (th_ask_document(registry, ask, &answer, body, err))
		return -1;
	if (answer.status != 200)
		return th_ask_fail(registry, &answer, what, err);
	snprintf(type, 128, "%s", answer.type);
	if (th_hash_like(
		    by_digest ? wanted : NULL, body->data, body->len, digest))
		return th_fail_memory(err);
	if (!by_digest || strcmp(wanted, digest) == 0)
		return 0;
	th_fail(err, TH_NETWORK,
		"the registry %s sent something other than %s: its digest is "
		"%s",
		th_registry_host(registry), wanted, digest);
	return 1;
}

int th_registry_manifest(struct th_registry *registry, const char *path,
	const char *wanted, struct th_buf *body, char digest[TH_DIGEST_TEXT],
	char type[128], struct th_error *err)
{
	char url[1100], scope[320], what[600];
	struct th_ask ask = {
		.url = url, .scope = scope, .headers = {ACCEPT, NULL}};
	int rc;

	pull_scope(path, scope);
	snprintf(url, sizeof(url), "%s/v2/%s/manifests/%s",
		th_registry_base(registry), path, wanted);
	snprintf(what, sizeof(what), "%s%s%s", path,
		strchr(wanted, ':') ? "@" : ":", wanted);
	rc = get_manifest(
		registry, &ask, what, wanted, body, digest, type, err);
	/* A first wrong one may be an accident. */
	if (rc == 1) {
		th_error_clear(err);
		rc = get_manifest(
			registry, &ask, what, wanted, body, digest, type, err);
	}
	return rc ? -1 : 0;
}

/* ---- blobs ---- */

struct th_blob_reader {
	struct th_source source; /* first: the two are one */
	struct th_registry *registry;
	struct th_source *from; /* the running transfer; NULL: none */
	char url[1100], scope[320], what[400];
	uint64_t offset; /* bytes given so far */
	uint64_t size_bytes;
	uint64_t skip; /* bytes of the transfer that were given before */
	uint64_t began; /* where the running transfer began to be new */
	int tries;
};

/* Asks for what is missing. 1: it comes; 0: there is no more; -1. */
static int open_at(struct th_blob_reader *reader, struct th_error *err)
{
	struct th_http_answer answer;
	struct th_ask ask = {.url = reader->url, .scope = reader->scope};
	uint64_t first, last;
	char range[64];

	if (reader->offset) {
		snprintf(range, sizeof(range), "Range: bytes=%" PRIu64 "-",
			reader->offset);
		ask.headers[0] = range;
	}
	if (th_ask(reader->registry, &ask, &answer, &reader->from, err))
		return -1;
	reader->began = reader->offset;
	reader->skip = 0;
	if (answer.status == 206 && reader->offset) {
		if (th_content_range_parse(
			    answer.content_range, &first, &last) &&
			first == reader->offset)
			return 1;
		th_ask_end(reader->registry);
		return th_fail(err, TH_NETWORK,
			"the registry %s sent a different part of the blob "
			"than requested",
			th_registry_host(reader->registry));
	}
	/* Who knows no ranges sends all: what was given is passed over. */
	reader->skip = reader->offset;
	if (answer.status == 200)
		return 1;
	if (answer.status == 416 && reader->offset) {
		th_ask_end(reader->registry);
		return 0;
	}
	return th_ask_fail(reader->registry, &answer, reader->what, err);
}

/* The transfer broke, or ended early: takes it up again. 1, 0, -1. */
static int reopen(
	struct th_blob_reader *reader, bool broken, struct th_error *err)
{
	struct th_error why = {0};

	if (broken && !th_ask_may_pass(reader->registry))
		return -1;
	/* A trickle that always breaks is no progress. */
	if (reader->offset - reader->began >= PROGRESS_BYTES)
		reader->tries = 0;
	if (reader->tries >= (broken ? TH_RETRIES : 1))
		return broken ? -1 : 0;
	if (th_ask_wait(reader->registry, reader->tries++, &why)) {
		*err = why;
		return -1;
	}
	th_error_clear(err);
	reader->from = NULL;
	return open_at(reader, err);
}

static ssize_t next_of_blob(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_blob_reader *reader = (struct th_blob_reader *)(void *)source;

	for (;;) {
		ssize_t got = reader->from
			? reader->from->next(reader->from, data, err)
			: 0;
		int rc;

		if (got > 0 && (uint64_t)got <= reader->skip) {
			reader->skip -= (uint64_t)got;
			continue;
		}
		if (got > 0) {
			*data = (const char *)*data + reader->skip;
			got -= (ssize_t)reader->skip;
			reader->skip = 0;
			reader->offset += (uint64_t)got;
			return got;
		}
		if (got == 0 && reader->offset >= reader->size_bytes)
			return 0;
		rc = reopen(reader, got < 0, err);
		if (rc <= 0)
			return rc;
	}
}

static struct th_blob_reader *new_reader(struct th_registry *registry,
	uint64_t offset, uint64_t size_bytes, struct th_error *err)
{
	struct th_blob_reader *made = calloc(1, sizeof(*made));

	if (!made) {
		th_fail_memory(err);
		return NULL;
	}
	made->source.next = next_of_blob;
	made->registry = registry;
	made->offset = offset;
	made->size_bytes = size_bytes;
	return made;
}

static int begin_reader(struct th_blob_reader *made,
	struct th_blob_reader **reader, struct th_error *err)
{
	if (made->offset < made->size_bytes && open_at(made, err) < 0) {
		th_registry_blob_end(made);
		return -1;
	}
	*reader = made;
	return 0;
}

int th_registry_blob(struct th_registry *registry, const char *path,
	const char *digest, uint64_t offset, uint64_t size_bytes,
	struct th_blob_reader **reader, struct th_error *err)
{
	struct th_blob_reader *made =
		new_reader(registry, offset, size_bytes, err);

	if (!made)
		return -1;
	pull_scope(path, made->scope);
	snprintf(made->url, sizeof(made->url), "%s/v2/%s/blobs/%s",
		th_registry_base(registry), path, digest);
	snprintf(made->what, sizeof(made->what), "blob %.80s of %.255s", digest,
		path);
	return begin_reader(made, reader, err);
}

int th_registry_blob_at(struct th_registry *registry, const char *url,
	uint64_t offset, uint64_t size_bytes, struct th_blob_reader **reader,
	struct th_error *err)
{
	bool plain = strncmp(url, "http://", 7) == 0;
	struct th_blob_reader *made;

	if ((!plain && strncmp(url, "https://", 8) != 0) ||
		(plain &&
			strncmp(th_registry_base(registry), "http://", 7) != 0))
		return th_fail(err, TH_NETWORK,
			"%.200s is not an address that layers are taken from",
			url);
	made = new_reader(registry, offset, size_bytes, err);
	if (!made)
		return -1;
	if (strlen(url) >= sizeof(made->url)) {
		free(made);
		return th_fail(err, TH_NETWORK,
			"the address %.100s... is too long", url);
	}
	snprintf(made->url, sizeof(made->url), "%s", url);
	snprintf(made->what, sizeof(made->what), "%.300s", url);
	return begin_reader(made, reader, err);
}

struct th_source *th_blob_reader_source(struct th_blob_reader *reader)
{
	return &reader->source;
}

void th_registry_blob_end(struct th_blob_reader *reader)
{
	if (!reader)
		return;
	th_ask_end(reader->registry);
	free(reader);
}

/* ---- lists that come in pages ---- */

static bool next_page(
	struct th_registry *registry, const char *link, char url[TH_URL_MAX])
{
	char target[TH_URL_MAX];

	return th_link_next(link, target, sizeof(target)) &&
		th_registry_resolve(registry, target, url);
}

static int read_page(struct th_registry *registry, const char *url,
	const char *scope, const char *what, const char *key,
	struct th_strings *list, char link[TH_URL_MAX], struct th_error *err)
{
	struct th_ask ask = {.url = url, .scope = scope};
	struct th_http_answer answer;
	json_t *doc = NULL;
	struct th_buf body;
	int rc = -1;

	th_buf_init(&body, PAGE_MAX);
	if (th_ask_document(registry, &ask, &answer, &body, err))
		goto out;
	if (answer.status != 200) {
		th_ask_fail(registry, &answer, what, err);
		goto out;
	}
	if (th_json_parse(
		    body.data, body.len, "the registry's list", &doc, err))
		goto out;
	snprintf(link, TH_URL_MAX, "%s", answer.link);
	rc = th_json_strings(doc, key, "the registry's list", list, err) < 0
		? -1
		: 0;
out:
	th_ask_end(registry);
	json_decref(doc);
	th_buf_release(&body);
	return rc;
}

static int read_pages(struct th_registry *registry, const char *first,
	const char *scope, const char *what, const char *key,
	struct th_strings *list, struct th_error *err)
{
	char url[TH_URL_MAX], link[TH_URL_MAX];

	snprintf(url, sizeof(url), "%s", first);
	for (int page = 0; page < PAGES_MAX && list->count < NAMES_MAX;
		page++) {
		size_t before = list->count;

		if (read_page(registry, url, scope, what, key, list, link, err))
			return -1;
		/* A page without anything new leads nowhere. */
		if (list->count == before || !next_page(registry, link, url))
			return 0;
	}
	return th_fail(err, TH_NETWORK,
		"the registry %s sent a list that is too long",
		th_registry_host(registry));
}

int th_registry_tags(struct th_registry *registry, const char *path,
	struct th_strings *tags, struct th_error *err)
{
	char url[700], scope[320];

	pull_scope(path, scope);
	snprintf(url, sizeof(url), "%s/v2/%s/tags/list?n=1000",
		th_registry_base(registry), path);
	return read_pages(registry, url, scope, path, "tags", tags, err);
}

int th_registry_catalogue(struct th_registry *registry,
	struct th_strings *names, struct th_error *err)
{
	char url[400];

	snprintf(url, sizeof(url), "%s/v2/_catalog?n=1000",
		th_registry_base(registry));
	return read_pages(registry, url, "registry:catalog:*",
		"list of its repositories", "repositories", names, err);
}
