#include "registry/upload.h"

#include <errno.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "registry/headers.h"

#define READ_BYTES (256 * 1024)

/* A part of the blob's file, as the body of a request. */
struct part {
	struct th_source source; /* first: the two are one */
	const struct th_outgoing *blob;
	uint64_t at, end;
	char data[READ_BYTES];
};

struct upload {
	const struct th_target *target;
	const struct th_outgoing *blob;
	char location[TH_URL_MAX]; /* where the session goes on */
	uint64_t chunk_bytes;
	struct part part;
	uint64_t begin, end; /* what the part is to hold */
};

static ssize_t next_of_part(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct part *part = (struct part *)(void *)source;
	uint64_t left = part->end - part->at;
	ssize_t got;

	if (left == 0)
		return 0;
	do
		got = pread(part->blob->fd, part->data,
			left < READ_BYTES ? (size_t)left : READ_BYTES,
			(off_t)part->at);
	while (got < 0 && errno == EINTR);
	if (got <= 0)
		return th_fail_sys(err, TH_FAILED, got < 0 ? errno : EIO,
			"cannot read the blob %s of the store",
			part->blob->digest);
	part->at += (uint64_t)got;
	part->blob->progress(part->blob->owner, part->at);
	*data = part->data;
	return got;
}

static struct th_source *open_part(void *owner, struct th_error *err)
{
	struct upload *upload = owner;

	(void)err;
	upload->part.source.next = next_of_part;
	upload->part.blob = upload->blob;
	upload->part.at = upload->begin;
	upload->part.end = upload->end;
	return &upload->part.source;
}

static int fail_blob(const struct th_target *target,
	const struct th_http_answer *answer, const char *digest,
	struct th_error *err)
{
	char what[400];

	if (answer->status == 405 || answer->status == 501) {
		th_ask_end(target->registry);
		return th_fail(err, TH_NETWORK,
			"the registry %s does not accept uploads",
			th_registry_host(target->registry));
	}
	snprintf(what, sizeof(what), "upload of %.80s to %.255s", digest,
		target->path);
	return th_ask_fail(target->registry, answer, what, err);
}

int th_registry_has_blob(const struct th_target *target, const char *digest,
	struct th_error *err)
{
	struct th_ask ask = {.method = "HEAD", .scope = target->scope};
	struct th_http_answer answer;
	char url[1100];

	snprintf(url, sizeof(url), "%s/v2/%s/blobs/%s",
		th_registry_base(target->registry), target->path, digest);
	ask.url = url;
	if (th_ask(target->registry, &ask, &answer, NULL, err))
		return -1;
	th_ask_end(target->registry);
	/* Who does not know HEAD knows GET; of an answer no more is read than
	 * its headers. */
	if (answer.status == 405 || answer.status == 501 ||
		answer.status == 400) {
		ask.method = NULL;
		ask.headers[0] = "Range: bytes=0-0";
		if (th_ask(target->registry, &ask, &answer, NULL, err))
			return -1;
		th_ask_end(target->registry);
	}
	/* 416: an empty one has no first byte. */
	if (answer.status == 200 || answer.status == 206 ||
		answer.status == 416)
		return 1;
	if (answer.status == 404)
		return 0;
	return fail_blob(target, &answer, digest, err);
}

/* Where the session goes on. */
static int take_location(struct upload *upload,
	const struct th_http_answer *answer, struct th_error *err)
{
	struct th_registry *registry = upload->target->registry;

	if (th_registry_resolve(registry, answer->location, upload->location))
		return 0;
	return th_fail(err, TH_NETWORK,
		"the registry %s does not say where to upload to",
		th_registry_host(registry));
}

/* Opens a session, or has the blob mounted: 1 mounted, 0 opened, -1. */
static int begin_upload(
	struct upload *upload, const char *mount, struct th_error *err)
{
	const struct th_target *target = upload->target;
	struct th_ask ask = {.method = "POST", .scope = target->scope};
	struct th_http_answer answer;
	uint64_t least = 0;
	char url[1500];

	snprintf(url, sizeof(url), "%s/v2/%s/blobs/uploads/%s%s%s%s",
		th_registry_base(target->registry), target->path,
		mount ? "?mount=" : "", mount ? upload->blob->digest : "",
		mount ? "&from=" : "", mount ? mount : "");
	ask.url = url;
	if (th_ask(target->registry, &ask, &answer, NULL, err))
		return -1;
	th_ask_end(target->registry);
	if (answer.status == 201 && mount)
		return 1;
	if (answer.status != 202)
		return fail_blob(target, &answer, upload->blob->digest, err);
	upload->chunk_bytes = upload->blob->chunk_bytes;
	if (upload->chunk_bytes && th_number_parse(answer.chunk_min, &least) &&
		upload->chunk_bytes < least)
		upload->chunk_bytes = least;
	return take_location(upload, &answer, err);
}

/* The closing request, with what is left from begin on. */
static int put_rest(struct upload *upload, uint64_t begin,
	struct th_http_answer *answer, struct th_error *err)
{
	const struct th_target *target = upload->target;
	struct th_ask ask = {.method = "PUT",
		.scope = target->scope,
		.headers = {"Content-Type: application/octet-stream", NULL},
		.owner = upload,
		.once = true};
	char url[TH_URL_MAX + 128];

	snprintf(url, sizeof(url), "%s%sdigest=%s", upload->location,
		strchr(upload->location, '?') ? "&" : "?",
		upload->blob->digest);
	ask.url = url;
	upload->begin = begin;
	upload->end = upload->blob->size_bytes;
	if (upload->end > begin) {
		ask.open_body = open_part;
		ask.body_bytes = upload->end - begin;
	}
	if (th_ask(target->registry, &ask, answer, NULL, err))
		return -1;
	th_ask_end(target->registry);
	return 0;
}

/* How far the session has come, after something broke. */
static int ask_arrived(
	struct upload *upload, uint64_t *arrived, struct th_error *err)
{
	const struct th_target *target = upload->target;
	struct th_ask ask = {.url = upload->location, .scope = target->scope};
	struct th_http_answer answer;

	if (th_ask(target->registry, &ask, &answer, NULL, err))
		return -1;
	th_ask_end(target->registry);
	if (answer.status != 204)
		return fail_blob(target, &answer, upload->blob->digest, err);
	if (!th_upload_range_parse(answer.range, arrived))
		*arrived = 0;
	if (answer.location[0])
		return take_location(upload, &answer, err);
	return 0;
}

static int patch(struct upload *upload, uint64_t begin, uint64_t end,
	struct th_http_answer *answer, struct th_error *err)
{
	const struct th_target *target = upload->target;
	char range[80];
	struct th_ask ask = {.method = "PATCH",
		.url = upload->location,
		.scope = target->scope,
		.headers = {"Content-Type: application/octet-stream", range,
			NULL},
		.open_body = open_part,
		.owner = upload,
		.body_bytes = end - begin,
		.once = true};

	snprintf(range, sizeof(range), "Content-Range: %" PRIu64 "-%" PRIu64,
		begin, end - 1);
	upload->begin = begin;
	upload->end = end;
	if (th_ask(target->registry, &ask, answer, NULL, err))
		return -1;
	th_ask_end(target->registry);
	return 0;
}

static bool may_pass(const struct upload *upload, int rc,
	const struct th_http_answer *answer)
{
	if (rc)
		return th_ask_may_pass(upload->target->registry);
	return answer->status >= 500 || answer->status == 429 ||
		answer->status == 416;
}

/* Sends chunk after chunk, and closes the session. */
static int send_chunks(struct upload *upload, struct th_error *err)
{
	uint64_t size = upload->blob->size_bytes, at = 0;
	struct th_http_answer answer = {0};
	int tries = 0;

	while (at < size) {
		uint64_t end = at + upload->chunk_bytes;
		int rc = patch(
			upload, at, end < size ? end : size, &answer, err);

		if (rc == 0 && answer.status == 202) {
			at = end < size ? end : size;
			tries = 0;
			if (take_location(upload, &answer, err))
				return -1;
			continue;
		}
		if (!may_pass(upload, rc, &answer) || tries >= TH_RETRIES)
			return rc ? -1
				  : fail_blob(upload->target, &answer,
					    upload->blob->digest, err);
		th_error_clear(err);
		if (th_ask_wait(upload->target->registry, tries++, err) ||
			ask_arrived(upload, &at, err))
			return -1;
		if (at > size)
			return th_fail(err, TH_NETWORK,
				"the registry %s claims to have more of the "
				"blob than exists",
				th_registry_host(upload->target->registry));
	}
	if (put_rest(upload, size, &answer, err))
		return -1;
	return answer.status == 201
		? 0
		: fail_blob(upload->target, &answer, upload->blob->digest, err);
}

/* Sends it in one piece; where that breaks, from the beginning again. */
static int send_whole(struct upload *upload, struct th_error *err)
{
	for (int tries = 0;; tries++) {
		struct th_http_answer answer = {0};
		int rc = put_rest(upload, 0, &answer, err);

		if (rc == 0 && answer.status == 201)
			return 0;
		if (!may_pass(upload, rc, &answer) || tries >= TH_RETRIES)
			return rc ? -1
				  : fail_blob(upload->target, &answer,
					    upload->blob->digest, err);
		th_error_clear(err);
		if (th_ask_wait(upload->target->registry, tries, err) ||
			begin_upload(upload, NULL, err) < 0)
			return -1;
	}
}

int th_registry_send(const struct th_target *target,
	const struct th_outgoing *blob, enum th_sent *how, struct th_error *err)
{
	struct upload *upload = calloc(1, sizeof(*upload));
	int rc;

	if (!upload)
		return th_fail_memory(err);
	upload->target = target;
	upload->blob = blob;
	rc = begin_upload(upload, blob->mount, err);
	*how = rc == 1 ? TH_SENT_MOUNTED : TH_SENT_ALL;
	if (rc == 0)
		rc = upload->chunk_bytes &&
				blob->size_bytes > upload->chunk_bytes
			? send_chunks(upload, err)
			: send_whole(upload, err);
	free(upload);
	return rc < 0 ? -1 : 0;
}

/* ---- manifests ---- */

struct text_body {
	struct th_source source; /* first: the two are one */
	const char *data;
	size_t len;
	bool given;
};

static ssize_t next_of_text(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct text_body *body = (struct text_body *)(void *)source;

	(void)err;
	if (body->given)
		return 0;
	body->given = true;
	*data = body->data;
	return (ssize_t)body->len;
}

static struct th_source *open_text(void *owner, struct th_error *err)
{
	struct text_body *body = owner;

	(void)err;
	body->given = false;
	return &body->source;
}

int th_registry_put_manifest(const struct th_target *target,
	const char *reference, const char *media_type, const char *data,
	size_t len, struct th_error *err)
{
	struct text_body body = {
		.source = {next_of_text}, .data = data, .len = len};
	char url[1100], header[160], what[600];
	struct th_ask ask = {.method = "PUT",
		.url = url,
		.scope = target->scope,
		.headers = {header, NULL},
		.open_body = open_text,
		.owner = &body,
		.body_bytes = len};
	struct th_http_answer answer;

	snprintf(url, sizeof(url), "%s/v2/%s/manifests/%s",
		th_registry_base(target->registry), target->path, reference);
	snprintf(header, sizeof(header), "Content-Type: %.128s", media_type);
	snprintf(what, sizeof(what), "%.255s:%.128s", target->path, reference);
	if (th_ask(target->registry, &ask, &answer, NULL, err))
		return -1;
	if (answer.status != 201)
		return th_ask_fail(target->registry, &answer, what, err);
	th_ask_end(target->registry);
	return 0;
}
