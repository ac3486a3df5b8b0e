/* HTTP: the only part that knows libcurl. A client belongs to one thread and
 * keeps its connections. */
#ifndef TH_REGISTRY_HTTP_H
#define TH_REGISTRY_HTTP_H

#include <stdatomic.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/buffer.h"
#include "base/source.h"

struct th_http;

struct th_http_options {
	const char *ca_file; /* instead of the system's; may be NULL */
	const atomic_bool *cancel; /* ends transfers soon; may be NULL */
};

struct th_http *th_http_new(
	const struct th_http_options *options, struct th_error *err);
void th_http_free(struct th_http *http);

/* Gets a small document into body (up to its limit). accept (may be NULL) goes
 * into the Accept header. Gives the status and the content type. The error is
 * about the transfer only: a status of 404 is no error here. */
int th_http_get(struct th_http *http, const char *url, const char *accept,
	long *status, char content_type[128], struct th_buf *body,
	struct th_error *err);

/* Begins to get a body of any size; gives the status as soon as it is known.
 * The source ends the transfer when it is closed. One at a time. */
int th_http_open(struct th_http *http, const char *url, long *status,
	struct th_source **source, struct th_error *err);
void th_http_close(struct th_http *http);

#endif
