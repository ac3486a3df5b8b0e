/* Reading: manifests, blobs with ranges, lists in pages. */
#include <errno.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "chandler/chandler.h"

#define ON_THE_WAY_MS 1000

/* Before the end of a pause that was asked for, and too late to have been on
 * its way. */
static bool is_early(struct chandler *chandler)
{
	int64_t now = th_clock_mono_ms();

	return now > atomic_load(&chandler->pause_from_ms) + ON_THE_WAY_MS &&
		now < atomic_load(&chandler->pause_until_ms);
}

static void note(const struct request *request, unsigned int status)
{
	const char *range = MHD_lookup_connection_value(
		request->connection, MHD_HEADER_KIND, "Range");
	const char *login = MHD_lookup_connection_value(
		request->connection, MHD_HEADER_KIND, "Authorization");

	if (request->chandler->verbose)
		fprintf(stderr, "%s %s %u%s%s%s%s\n", request->method,
			request->path, status, range ? " range=" : "",
			range ? range : "", login ? " authorized" : "",
			is_early(request->chandler) ? " early" : "");
}

enum MHD_Result reply(struct request *request, unsigned int status,
	const char *type, const char *text, const char *const *headers)
{
	struct MHD_Response *response = MHD_create_response_from_buffer(
		strlen(text), (void *)(uintptr_t)text, MHD_RESPMEM_MUST_COPY);
	enum MHD_Result rc;

	note(request, status);
	MHD_add_response_header(response, "Content-Type", type);
	for (size_t i = 0; headers && headers[i]; i += 2)
		MHD_add_response_header(response, headers[i], headers[i + 1]);
	rc = MHD_queue_response(request->connection, status, response);
	MHD_destroy_response(response);
	return rc;
}

enum MHD_Result reply_error(struct request *request, unsigned int status,
	const char *code, const char *message, const char *const *headers)
{
	char text[400];

	snprintf(text, sizeof(text),
		"{\"errors\":[{\"code\":\"%s\",\"message\":\"%s\"}]}", code,
		message);
	return reply(request, status, "application/json", text, headers);
}

/* ---- bodies with faults ---- */

struct body {
	int fd;
	uint64_t begin, size,
		corrupt; /* of the part; where a byte is another */
	int64_t drop, stall; /* -1: never */
	uint64_t whole; /* bytes that the file has */
	const struct chandler *chandler;
};

static void wait_for_end(const struct chandler *chandler)
{
	const struct timespec step = {.tv_nsec = 20000000};

	/* A stall lasts longer than anybody's patience, but not for ever. */
	for (int i = 0; i < 3000 && !atomic_load(&chandler->stopping); i++)
		nanosleep(&step, NULL);
}

static ssize_t read_body(void *owner, uint64_t at, char *to, size_t room)
{
	struct body *body = owner;
	uint64_t offset = body->begin + at;
	ssize_t got;

	if (body->drop >= 0 && at >= (uint64_t)body->drop) {
		/* What was sent should arrive before the reset does. */
		nanosleep(&(struct timespec){.tv_nsec = 50000000}, NULL);
		return MHD_CONTENT_READER_END_WITH_ERROR;
	}
	if (body->stall >= 0 && at >= (uint64_t)body->stall) {
		wait_for_end(body->chandler);
		return MHD_CONTENT_READER_END_WITH_ERROR;
	}
	if (body->drop >= 0 && room > (uint64_t)body->drop - at)
		room = (size_t)((uint64_t)body->drop - at);
	if (body->stall >= 0 && room > (uint64_t)body->stall - at)
		room = (size_t)((uint64_t)body->stall - at);
	if (offset >= body->whole) {
		/* More than there is: it is made up. */
		memset(to, 0, room);
		return (ssize_t)room;
	}
	got = pread(body->fd, to, room, (off_t)offset);
	if (got <= 0)
		return MHD_CONTENT_READER_END_WITH_ERROR;
	if (body->corrupt >= offset && body->corrupt < offset + (uint64_t)got)
		to[body->corrupt - offset] ^= 1;
	return got;
}

static void free_body(void *owner)
{
	struct body *body = owner;

	close(body->fd);
	free(body);
}

static struct MHD_Response *faulty_response(const struct request *request,
	int fd, uint64_t begin, uint64_t size, uint64_t whole)
{
	const struct fault *fault = request->fault;
	struct body *body = calloc(1, sizeof(*body));

	if (!body)
		return NULL;
	body->fd = fd;
	body->begin = begin;
	body->whole = whole;
	body->drop = fault->kind == FAULT_DROP ? fault->value : -1;
	body->stall = fault->kind == FAULT_STALL ? fault->value : -1;
	body->corrupt = fault->kind == FAULT_CORRUPT ? whole / 2 : UINT64_MAX;
	body->chandler = request->chandler;
	if (fault->kind == FAULT_LENGTH && (int64_t)size + fault->value >= 0)
		size = (uint64_t)((int64_t)size + fault->value);
	return MHD_create_response_from_callback(
		size, 65536, read_body, body, free_body);
}

/* ---- files ---- */

/* "bytes=N-" and "bytes=N-M" (RFC 9110, section 14.1.2). */
static bool read_range(const struct request *request, uint64_t size,
	uint64_t *first, uint64_t *last)
{
	const char *text = MHD_lookup_connection_value(
		request->connection, MHD_HEADER_KIND, "Range");
	unsigned long long from, to;
	int fields;

	if (!text || request->chandler->no_ranges)
		return false;
	fields = sscanf(text, "bytes=%llu-%llu", &from, &to);
	if (fields < 1)
		return false;
	*first = from;
	*last = fields == 2 && to < size ? to : size - 1;
	return true;
}

static enum MHD_Result reply_file(
	struct request *request, const char *digest, const char *type)
{
	struct MHD_Response *response;
	enum MHD_Result rc;
	uint64_t size = 0, first = 0, last = 0;
	unsigned int status = MHD_HTTP_OK;
	char range[100];
	int fd = layout_open_blob(&request->chandler->layout, digest, &size);

	if (fd < 0)
		return reply_error(request, MHD_HTTP_NOT_FOUND, "BLOB_UNKNOWN",
			"no such blob", NULL);
	if (size && read_range(request, size, &first, &last)) {
		if (first >= size) {
			close(fd);
			return reply_error(request,
				MHD_HTTP_RANGE_NOT_SATISFIABLE, "RANGE",
				"range not satisfiable", NULL);
		}
		status = MHD_HTTP_PARTIAL_CONTENT;
	} else {
		last = size ? size - 1 : 0;
	}
	request->fault = fault_find(request->chandler->faults,
		request->chandler->fault_count, request->path,
		size ? last - first + 1 : 0);
	response = request->fault
		? faulty_response(
			  request, fd, first, size ? last - first + 1 : 0, size)
		: MHD_create_response_from_fd_at_offset64(
			  size ? last - first + 1 : 0, fd, first);
	if (!response) {
		close(fd);
		return MHD_NO;
	}
	note(request, status);
	if (status == MHD_HTTP_PARTIAL_CONTENT) {
		snprintf(range, sizeof(range),
			"bytes %" PRIu64 "-%" PRIu64 "/%" PRIu64, first, last,
			size);
		MHD_add_response_header(response, "Content-Range", range);
	}
	MHD_add_response_header(response, "Content-Type", type);
	rc = MHD_queue_response(request->connection, status, response);
	MHD_destroy_response(response);
	return rc;
}

static enum MHD_Result reply_blob(struct request *request)
{
	struct chandler *chandler = request->chandler;
	const char *headers[] = {"Location", NULL, NULL};
	char url[1400];

	if (!th_digest_valid(request->rest) ||
		!layout_has_blob(
			&chandler->layout, request->name, request->rest))
		return reply_error(request, MHD_HTTP_NOT_FOUND, "BLOB_UNKNOWN",
			"no such blob", NULL);
	if (!chandler->redirect)
		return reply_file(
			request, request->rest, "application/octet-stream");
	snprintf(url, sizeof(url), "%.300s%s", chandler->redirect,
		request->path);
	headers[1] = url;
	return reply(request, MHD_HTTP_TEMPORARY_REDIRECT, "text/plain", "",
		headers);
}

static enum MHD_Result reply_manifest(struct request *request)
{
	char digest[TH_DIGEST_TEXT], type[128];

	if (!layout_find(&request->chandler->layout, request->name,
		    request->rest, digest, type))
		return reply_error(request, MHD_HTTP_NOT_FOUND,
			"MANIFEST_UNKNOWN", "no such manifest", NULL);
	return reply_file(request, digest, type);
}

/* ---- lists ---- */

static size_t page_size(const struct request *request)
{
	const char *asked = MHD_lookup_connection_value(
		request->connection, MHD_GET_ARGUMENT_KIND, "n");
	size_t page = request->chandler->page;
	long number = asked ? atol(asked) : 0;

	if (number > 0 && (page == 0 || (size_t)number < page))
		page = (size_t)number;
	return page;
}

/* A page of the list: what comes behind "last". */
static enum MHD_Result reply_list(
	struct request *request, const char *key, const struct th_strings *list)
{
	const char *last = MHD_lookup_connection_value(
		request->connection, MHD_GET_ARGUMENT_KIND, "last");
	const char *headers[] = {"Link", NULL, NULL};
	json_t *array = json_array(), *doc;
	size_t page = page_size(request), i = 0;
	enum MHD_Result rc;
	char link[1400];
	char *text;

	while (last && i < list->count && strcmp(list->items[i], last) <= 0)
		i++;
	for (; i < list->count && (page == 0 || json_array_size(array) < page);
		i++)
		json_array_append_new(array, json_string(list->items[i]));
	if (i < list->count && i > 0) {
		snprintf(link, sizeof(link),
			"<%s?n=%zu&last=%.300s>; rel=\"next\"", request->path,
			page, list->items[i - 1]);
		headers[1] = link;
	}
	doc = json_pack("{s:o}", key, array);
	if (request->name[0])
		json_object_set_new(doc, "name", json_string(request->name));
	text = th_json_text(doc, JSON_COMPACT);
	json_decref(doc);
	rc = reply(request, MHD_HTTP_OK, "application/json", text,
		headers[1] ? headers : NULL);
	free(text);
	return rc;
}

static enum MHD_Result reply_tags(struct request *request)
{
	struct th_strings tags = {0};
	enum MHD_Result rc;

	if (layout_tags(&request->chandler->layout, request->name, &tags))
		rc = reply_list(request, "tags", &tags);
	else
		rc = reply_error(request, MHD_HTTP_NOT_FOUND, "NAME_UNKNOWN",
			"no such name", NULL);
	th_strings_release(&tags);
	return rc;
}

static enum MHD_Result reply_catalogue(struct request *request)
{
	struct th_strings names = {0};
	enum MHD_Result rc;

	if (request->chandler->no_catalogue)
		return reply_error(request, MHD_HTTP_NOT_FOUND, "UNSUPPORTED",
			"not available from this registry", NULL);
	layout_names(&request->chandler->layout, &names);
	rc = reply_list(request, "repositories", &names);
	th_strings_release(&names);
	return rc;
}

enum MHD_Result serve_read(struct request *request)
{
	if (strcmp(request->path, "/v2/") == 0 ||
		strcmp(request->path, "/v2") == 0)
		return reply(
			request, MHD_HTTP_OK, "application/json", "{}", NULL);
	if (strcmp(request->path, "/v2/_catalog") == 0)
		return reply_catalogue(request);
	if (strcmp(request->kind, "manifests") == 0)
		return reply_manifest(request);
	if (strcmp(request->kind, "tags") == 0 &&
		strcmp(request->rest, "list") == 0)
		return reply_tags(request);
	if (strcmp(request->kind, "blobs") == 0)
		return reply_blob(request);
	return reply_error(
		request, MHD_HTTP_NOT_FOUND, "NAME_UNKNOWN", "not found", NULL);
}
