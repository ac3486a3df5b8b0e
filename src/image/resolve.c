#include "image/resolve.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/hash.h"
#include "store/blob.h"

/* Indexes in indexes: how deep, and how many documents in all. */
#define DEPTH_MAX 4
#define DOCUMENTS_MAX 64
#define OFFERS_MAX 4096

struct resolving {
	struct th_reader *reader;
	struct th_resolved *resolved;
	int documents;
};

void th_platform_format(
	const struct th_platform *platform, char text[TH_PLATFORM_TEXT])
{
	snprintf(text, TH_PLATFORM_TEXT, "%s/%s%s%s", platform->os,
		platform->architecture, platform->variant[0] ? "/" : "",
		platform->variant);
}

/* "arm/v7" and "linux/x86_64" have the form of one, too. */
static bool is_odd(const char *text, const struct th_platform *platform)
{
	struct th_platform meant;

	return th_platform_meant(platform->os, &meant) ||
		(th_platform_meant(text, &meant) &&
			strcmp(meant.architecture, platform->architecture) !=
				0);
}

int th_platform_parse(
	const char *text, struct th_platform *platform, struct th_error *err)
{
	char *const parts[] = {
		platform->os, platform->architecture, platform->variant};
	const char *at = text;
	struct th_platform meant;
	char right[TH_PLATFORM_TEXT];
	size_t count = 0;

	memset(platform, 0, sizeof(*platform));
	for (; count < 3; count++) {
		size_t len = strcspn(at, "/");

		if (len == 0 || len >= sizeof(platform->os) ||
			strspn(at, "abcdefghijklmnopqrstuvwxyz0123456789._-") !=
				len)
			break;
		memcpy(parts[count], at, len);
		at += len;
		if (*at != '/') {
			count++;
			break;
		}
		at++;
	}
	if (count >= 2 && *at == '\0' && !is_odd(text, platform))
		return 0;
	th_fail(err, TH_USAGE, "\"%.60s\" is not a platform", text);
	if (!th_platform_meant(text, &meant))
		return th_hint(err, "for example linux/amd64 or linux/arm/v7");
	th_platform_format(&meant, right);
	return th_hint(err, "it is: --platform %s", right);
}

static bool is_empty(const struct th_platform *platform)
{
	return !platform->os[0] && !platform->architecture[0];
}

/* Notes of tools stand in indexes under a platform that does not exist. */
static bool is_real(const struct th_platform *platform)
{
	return strcmp(platform->os, "unknown") != 0 &&
		strcmp(platform->architecture, "unknown") != 0;
}

static int add_offer(struct th_resolved *resolved,
	const struct th_descriptor *item, struct th_error *err)
{
	struct th_offer *list, *offer;

	if (!is_real(&item->platform))
		return 0;
	if (resolved->offer_count == OFFERS_MAX)
		return th_fail(err, TH_FAILED,
			"the index lists more than %d images", OFFERS_MAX);
	list = realloc(
		resolved->offers, (resolved->offer_count + 1) * sizeof(*list));
	if (!list)
		return th_fail_memory(err);
	resolved->offers = list;
	offer = &list[resolved->offer_count++];
	offer->platform = item->platform;
	offer->size_bytes = item->size_bytes;
	memcpy(offer->digest, item->digest, sizeof(offer->digest));
	return 0;
}

/* "If the length of the retrieved content does not match the specified length,
 * the content SHOULD NOT be trusted" (descriptor.md). */
static int check_length(const struct th_buf *body, uint64_t wanted_bytes,
	const char *digest, struct th_error *err)
{
	if (body->len == wanted_bytes)
		return 0;
	return th_fail(err, TH_NETWORK,
		"%s has %zu bytes instead of the %" PRIu64
		" that the index says",
		digest, body->len, wanted_bytes);
}

/* Adds what the index offers, and what the indexes in it do. */
static int collect(struct resolving *job, const struct th_buf *body, int depth,
	struct th_error *err)
{
	struct th_index index;
	int rc = 0;

	if (depth > DEPTH_MAX)
		return th_fail(err, TH_FAILED, "indexes are nested too deeply");
	if (th_index_parse(body->data, body->len, &index, err))
		return -1;
	for (size_t i = 0; rc == 0 && i < index.count; i++) {
		const struct th_descriptor *item = &index.items[i];
		char digest[TH_DIGEST_TEXT], type[128];
		struct th_buf inner;

		if (!th_media_is_index(item->media_type)) {
			if (th_media_is_manifest(item->media_type))
				rc = add_offer(job->resolved, item, err);
			continue;
		}
		if (++job->documents > DOCUMENTS_MAX) {
			rc = th_fail(err, TH_FAILED,
				"the index refers to more than %d others",
				DOCUMENTS_MAX);
			break;
		}
		th_buf_init(&inner, TH_MANIFEST_MAX);
		rc = th_reader_manifest(
			job->reader, item->digest, &inner, digest, type, err);
		if (rc == 0)
			rc = check_length(
				&inner, item->size_bytes, digest, err);
		if (rc == 0)
			rc = collect(job, &inner, depth + 1, err);
		th_buf_release(&inner);
	}
	th_index_release(&index);
	return rc;
}

static int choose(struct th_resolved *resolved,
	const struct th_platform *wanted, const struct th_offer **chosen,
	struct th_error *err)
{
	char have[300] = "", text[TH_PLATFORM_TEXT];
	int best = 0;

	for (size_t i = 0; i < resolved->offer_count; i++) {
		const struct th_offer *offer = &resolved->offers[i];
		/* One that does not say is better than nothing. */
		int fits = is_empty(&offer->platform)
			? resolved->offer_count == 1
			: th_platform_fit(&offer->platform, wanted);
		size_t used = strlen(have);

		if (fits > best) {
			best = fits;
			*chosen = offer;
		}
		if (is_empty(&offer->platform))
			continue;
		th_platform_format(&offer->platform, text);
		snprintf(have + used, sizeof(have) - used, "%s%s",
			used ? ", " : "", text);
	}
	if (best > 0)
		return 0;
	th_platform_format(wanted, text);
	th_fail(err, TH_NOT_FOUND,
		"the image is not available for %s; it is for %s", text,
		have[0] ? have : "nothing");
	return th_hint(err, "choose one with --platform");
}

/* Reads the config and checks it. 1 where what came was wrong, and is told. */
static int fetch_config(struct resolving *job, struct th_error *err)
{
	const struct th_descriptor *wanted = &job->resolved->manifest.config;
	struct th_buf *body = &job->resolved->config_body;
	char digest[TH_DIGEST_TEXT];
	struct th_source *source;
	const void *data;
	ssize_t got = 0;

	body->len = 0;
	if (th_reader_blob(job->reader, wanted, 0, &source, err))
		return -1;
	while (body->len <= wanted->size_bytes && !body->failed &&
		(got = source->next(source, &data, err)) > 0)
		th_buf_add(body, data, (size_t)got);
	th_reader_blob_end(job->reader);
	if (got < 0)
		return -1;
	if (th_hash_like(wanted->digest, body->data, body->len, digest))
		return th_fail_memory(err);
	if (body->len == wanted->size_bytes &&
		strcmp(digest, wanted->digest) == 0)
		return 0;
	th_fail(err, TH_NETWORK,
		"the image's config does not match the manifest: its digest is "
		"%s instead of %s",
		digest, wanted->digest);
	th_hint(err, TH_BLOB_CHANGED);
	return 1;
}

static int read_config(struct resolving *job, struct th_error *err)
{
	struct th_resolved *resolved = job->resolved;
	struct th_buf *body = &resolved->config_body;
	bool again = false;
	int rc;

	if (resolved->manifest.config.size_bytes > body->limit - 1)
		return th_fail(err, TH_FAILED,
			"the image's config is larger than the maximum of %zu "
			"bytes",
			body->limit);
	while ((rc = fetch_config(job, err)) == 1) {
		/* Once more may be enough; if not, another host is asked. */
		again = !again;
		if (!again && !th_reader_distrust(job->reader, err))
			return -1;
		th_error_clear(err);
	}
	return rc ? -1
		  : th_image_config_parse(
			    body->data, body->len, &resolved->config, err);
}

static int read_image(struct resolving *job, struct th_error *err)
{
	struct th_resolved *resolved = job->resolved;

	if (th_manifest_parse(resolved->manifest_body.data,
		    resolved->manifest_body.len, &resolved->manifest, err) ||
		read_config(job, err))
		return -1;
	if (resolved->config.diff_ids.count != resolved->manifest.layer_count)
		return th_fail(err, TH_FAILED,
			"the image's manifest has %zu layers, but its config "
			"has %zu",
			resolved->manifest.layer_count,
			resolved->config.diff_ids.count);
	return 0;
}

/* An image that no index offered: its config says what it is made for. */
static int check_alone(const struct th_resolved *resolved,
	const struct th_platform *wanted, struct th_error *err)
{
	const struct th_platform *own = &resolved->config.platform;
	char have[TH_PLATFORM_TEXT], want[TH_PLATFORM_TEXT];

	if (is_empty(own) || th_platform_fit(own, wanted))
		return 0;
	th_platform_format(own, have);
	th_platform_format(wanted, want);
	if (own->feature[0])
		return th_fail(err, TH_NOT_POSSIBLE,
			"the image needs the operating system feature "
			"\"%s\", which Linux does not have",
			own->feature);
	th_fail(err, TH_NOT_FOUND, "the image is for %s, not for %s", have,
		want);
	return th_hint(err, "use --platform %s to use it anyway", have);
}

int th_resolve(struct th_reader *reader, const char *wanted,
	const struct th_platform *platform, struct th_resolved *resolved,
	struct th_error *err)
{
	struct resolving job = {.reader = reader, .resolved = resolved};
	struct th_platform fitting = *platform;
	const struct th_offer *chosen = NULL;
	struct th_buf *body = &resolved->manifest_body;
	enum th_document kind;
	char type[128];

	memset(resolved, 0, sizeof(*resolved));
	th_buf_init(&resolved->manifest_body, TH_MANIFEST_MAX);
	th_buf_init(&resolved->config_body, TH_MANIFEST_MAX);
	if (!fitting.os[0])
		th_platform_host(&fitting);
	if (th_reader_manifest(
		    reader, wanted, body, resolved->first, type, err) ||
		th_document_kind(body->data, body->len, type, &kind, err))
		return -1;
	memcpy(resolved->digest, resolved->first, sizeof(resolved->digest));
	if (kind == TH_DOC_MANIFEST)
		return read_image(&job, err) ||
				check_alone(resolved, &fitting, err)
			? -1
			: 0;
	resolved->is_index = true;
	if (collect(&job, body, 0, err) ||
		choose(resolved, &fitting, &chosen, err))
		return -1;
	body->len = 0;
	if (th_reader_manifest(reader, chosen->digest, body, resolved->digest,
		    type, err) ||
		check_length(body, chosen->size_bytes, chosen->digest, err))
		return -1;
	return read_image(&job, err);
}

void th_resolved_release(struct th_resolved *resolved)
{
	free(resolved->offers);
	th_manifest_release(&resolved->manifest);
	th_image_config_release(&resolved->config);
	th_buf_release(&resolved->manifest_body);
	th_buf_release(&resolved->config_body);
	memset(resolved, 0, sizeof(*resolved));
}
