/* Writing: upload sessions, in one piece or in chunks, mounts, manifests
 * (spec.md, "Pushing"). A session is a file below LAYOUT/uploads. */
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/hash.h"
#include "base/random.h"
#include "chandler/chandler.h"

#define MANIFEST_MAX (4u << 20)
#define COPY_BYTES 65536

static bool is(const struct request *request, const char *method)
{
	return strcmp(request->method, method) == 0;
}

static const char *argument(const struct request *request, const char *key)
{
	return MHD_lookup_connection_value(
		request->connection, MHD_GET_ARGUMENT_KIND, key);
}

static void session_path(const struct request *request, char path[300])
{
	snprintf(path, 300, "uploads/%.200s", request->rest);
}

/* The session's file; -1 where there is no such session. */
static int open_session(const struct request *request)
{
	char path[300];

	if (strcmp(request->kind, "uploads") != 0 || !request->rest[0] ||
		strchr(request->rest, '.'))
		return -1;
	session_path(request, path);
	return openat(request->chandler->layout.folder, path,
		O_RDWR | O_APPEND | O_CLOEXEC);
}

bool upload_begin(struct request *request)
{
	const char *length = MHD_lookup_connection_value(
		request->connection, MHD_HEADER_KIND, "Content-Length");

	request->fd = -1;
	request->fault = fault_find(request->chandler->faults,
		request->chandler->fault_count, request->path,
		length ? strtoull(length, NULL, 10) : 0);
	if (is(request, "PATCH") ||
		(is(request, "PUT") && strcmp(request->kind, "uploads") == 0))
		request->fd = open_session(request);
	return true;
}

/* A broken upload, on demand: what came before is kept. */
static bool is_dropped(struct request *request)
{
	return request->fault && request->fault->kind == FAULT_DROP &&
		request->body_bytes >= (uint64_t)request->fault->value;
}

bool upload_take(struct request *request, const char *data, size_t len)
{
	if (is_dropped(request))
		return false;
	request->body_bytes += len;
	if (request->fd >= 0)
		return th_write_all(request->fd, data, len) == 0;
	if (request->body_bytes > MANIFEST_MAX) {
		request->too_long = true;
		return true;
	}
	request->body = realloc(request->body, request->body_bytes + 1);
	if (!request->body)
		return false;
	memcpy(request->body + request->body_bytes - len, data, len);
	request->body[request->body_bytes] = '\0';
	return true;
}

void upload_release(struct request *request)
{
	th_close(&request->fd);
	free(request->body);
	request->body = NULL;
}

static uint64_t file_bytes(int fd)
{
	struct stat st;

	return fstat(fd, &st) ? 0 : (uint64_t)st.st_size;
}

static enum MHD_Result reply_session(struct request *request,
	unsigned int status, const char *session, uint64_t bytes)
{
	char location[900], range[60];
	const char *headers[] = {"Location", location, "Range", range, NULL};

	snprintf(location, sizeof(location), "/v2/%s/blobs/uploads/%.200s",
		request->name, session);
	snprintf(range, sizeof(range), "0-%" PRIu64, bytes ? bytes - 1 : 0);
	return reply(request, status, "text/plain", "", headers);
}

static enum MHD_Result reply_created(
	struct request *request, const char *kind, const char *digest)
{
	char location[900];
	const char *headers[] = {"Location", location, NULL};

	snprintf(location, sizeof(location), "/v2/%s/%s/%s", request->name,
		kind, digest);
	return reply(request, MHD_HTTP_CREATED, "text/plain", "", headers);
}

static enum MHD_Result open_upload(struct request *request)
{
	struct layout *layout = &request->chandler->layout;
	const char *mount = argument(request, "mount");
	const char *from = argument(request, "from");
	char id[TH_ID_LENGTH + 1], path[300];
	int fd;

	if (mount && from && th_digest_valid(mount) &&
		layout_has_blob(layout, from, mount)) {
		layout_add_blob(layout, request->name, mount);
		return reply_created(request, "blobs", mount);
	}
	mkdirat(layout->folder, "uploads", 0700);
	th_id_new(id);
	snprintf(path, sizeof(path), "uploads/%s", id);
	fd = openat(layout->folder, path, O_WRONLY | O_CREAT | O_CLOEXEC, 0600);
	if (fd < 0)
		return reply_error(request, MHD_HTTP_INTERNAL_SERVER_ERROR,
			"UNKNOWN", "cannot write", NULL);
	close(fd);
	return reply_session(request, MHD_HTTP_ACCEPTED, id, 0);
}

static enum MHD_Result take_chunk(struct request *request)
{
	const char *range = MHD_lookup_connection_value(
		request->connection, MHD_HEADER_KIND, "Content-Range");
	uint64_t all = file_bytes(request->fd);
	unsigned long long first = all - request->body_bytes;

	if (range && sscanf(range, "%llu-", &first) == 1 &&
		first != all - request->body_bytes) {
		/* Out of order: as if it had not come. */
		if (ftruncate(request->fd, (off_t)(all - request->body_bytes)))
			return MHD_NO;
		return reply_error(request, MHD_HTTP_RANGE_NOT_SATISFIABLE,
			"BLOB_UPLOAD_INVALID", "the chunk is out of order",
			NULL);
	}
	return reply_session(request, MHD_HTTP_ACCEPTED, request->rest, all);
}

static bool hash_file(int fd, const char *like, char digest[TH_DIGEST_TEXT])
{
	struct th_hash *hash = th_hash_new(like);
	char data[COPY_BYTES];
	off_t at = 0;
	ssize_t got;

	while (hash && (got = pread(fd, data, sizeof(data), at)) > 0) {
		th_hash_add(hash, data, (size_t)got);
		at += got;
	}
	if (hash)
		th_hash_digest(hash, digest);
	th_hash_free(hash);
	return hash != NULL;
}

static enum MHD_Result close_upload(struct request *request)
{
	struct layout *layout = &request->chandler->layout;
	const char *wanted = argument(request, "digest");
	char digest[TH_DIGEST_TEXT] = "", from[300];
	char to[TH_DIGEST_PATH + 16];

	session_path(request, from);
	if (!wanted || !hash_file(request->fd, wanted, digest) ||
		strcmp(wanted, digest) != 0) {
		unlinkat(layout->folder, from, 0);
		return reply_error(request, MHD_HTTP_BAD_REQUEST,
			"DIGEST_INVALID", "the digest does not match", NULL);
	}
	snprintf(to, sizeof(to), "blobs/%s",
		th_digest_path(digest, (char[TH_DIGEST_PATH]){0}));
	if (renameat(layout->folder, from, layout->folder, to))
		return reply_error(request, MHD_HTTP_INTERNAL_SERVER_ERROR,
			"UNKNOWN", "cannot write", NULL);
	layout_add_blob(layout, request->name, digest);
	return reply_created(request, "blobs", digest);
}

static enum MHD_Result put_manifest(struct request *request)
{
	const char *type = MHD_lookup_connection_value(
		request->connection, MHD_HEADER_KIND, "Content-Type");
	char digest[TH_DIGEST_TEXT], missing[TH_DIGEST_TEXT];
	struct th_error err = {0};

	if (request->too_long)
		return reply_error(request, MHD_HTTP_CONTENT_TOO_LARGE,
			"SIZE_INVALID", "the manifest is too long", NULL);
	if (layout_put_manifest(&request->chandler->layout, request->name,
		    request->rest, type ? type : "application/json",
		    request->body ? request->body : "", request->body_bytes,
		    digest, missing, &err) == 0)
		return reply_created(request, "manifests", digest);
	if (missing[0])
		return reply_error(request, MHD_HTTP_NOT_FOUND,
			"MANIFEST_BLOB_UNKNOWN",
			"a blob that the manifest refers to is missing", NULL);
	return reply_error(request, MHD_HTTP_BAD_REQUEST, "MANIFEST_INVALID",
		"not a valid manifest", NULL);
}

enum MHD_Result upload_finish(struct request *request)
{
	bool session = strcmp(request->kind, "uploads") == 0;

	if (!request->chandler->writable)
		return reply_error(request, MHD_HTTP_METHOD_NOT_ALLOWED,
			"UNSUPPORTED", "this registry is read-only", NULL);
	if (is(request, "POST") && session && !request->rest[0])
		return open_upload(request);
	if (is(request, "PUT") && strcmp(request->kind, "manifests") == 0)
		return put_manifest(request);
	if (session && request->fd < 0 && is(request, "GET"))
		request->fd = open_session(request);
	if (!session || request->fd < 0)
		return reply_error(request, MHD_HTTP_NOT_FOUND,
			"BLOB_UPLOAD_UNKNOWN", "no such upload", NULL);
	if (is(request, "PATCH"))
		return take_chunk(request);
	if (is(request, "PUT"))
		return close_upload(request);
	return reply_session(request, MHD_HTTP_NO_CONTENT, request->rest,
		file_bytes(request->fd));
}
