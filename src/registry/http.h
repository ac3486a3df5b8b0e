/* HTTP: the only part that knows libcurl. A client belongs to one thread, does
 * one transfer at a time, and keeps its connections. It follows no redirects
 * and tries nothing twice: that is registry/client.c's. */
#ifndef TH_REGISTRY_HTTP_H
#define TH_REGISTRY_HTTP_H

#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/cancel.h"
#include "base/source.h"

struct th_http;

struct th_http_options {
	const char *ca_file; /* instead of the system's; may be NULL */
	const char *cert_file; /* the client's certificate; may be NULL */
	const char *key_file;
	int64_t stall_us; /* without a byte for so long: given up; 0: 60 s */
	struct th_cancel cancel; /* ends transfers soon */
};

struct th_http *th_http_new(
	const struct th_http_options *options, struct th_error *err);
void th_http_free(struct th_http *http);

#define TH_URL_MAX 2048
#define TH_HEADERS_MAX 8

struct th_http_request {
	const char *method; /* NULL: GET */
	const char *url;
	const char *headers[TH_HEADERS_MAX]; /* "Name: value"; NULL ends */
	/* What is sent: body_bytes from the source; or nothing (NULL). */
	struct th_source *body;
	uint64_t body_bytes;
};

/* What the headers of an answer said; texts are empty where they did not. */
struct th_http_answer {
	long status;
	int64_t length; /* of the body in bytes; -1 where not told */
	char type[128]; /* Content-Type without parameters */
	char location[TH_URL_MAX]; /* absolute */
	char challenge[2048]; /* all of WWW-Authenticate, joined by ", " */
	char retry_after[64];
	char content_range[96];
	char range[96]; /* of an upload */
	char link[TH_URL_MAX];
	char chunk_min[32]; /* OCI-Chunk-Min-Length */
};

/* Sends the request and waits for the headers of the answer. The body is then
 * read from the source (borrowed; may be NULL where it is not wanted). The
 * error is about the transfer only: a status of 404 is no error here. */
int th_http_begin(struct th_http *http, const struct th_http_request *request,
	struct th_http_answer *answer, struct th_source **body,
	struct th_error *err);
/* Reads the rest of the body into buf (up to its limit). */
int th_http_read(
	struct th_http *http, struct th_buf *buf, struct th_error *err);
/* Ends the transfer, finished or not. */
void th_http_end(struct th_http *http);

/* Waits between two requests; -1 where it was interrupted. */
int th_http_pause(const struct th_http *http, int64_t ms, struct th_error *err);

/* Whether the last failure was of a kind that may pass: a connection that
 * broke or stalled. */
bool th_http_may_pass(const struct th_http *http);
/* Whether it failed at all, also by being interrupted. */
bool th_http_failed(const struct th_http *http);
/* Whether the host could not be reached at all. */
bool th_http_unreached(const struct th_http *http);

#endif
