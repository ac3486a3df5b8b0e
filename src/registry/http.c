#include "registry/http.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "base/clock.h"
#include "base/late_curl.h"

/* Bytes that may wait to be read before the transfer is held. */
#define WINDOW_BYTES (512 * 1024)
#define POLL_MS 200
#define PAUSE_STEP_MS 20
#define CONNECT_SECONDS 15L
/* A transfer that brings less than this for so long is given up. */
#define STALL_SECONDS 60L
#define STALL_BYTES 1L

struct th_http {
	struct th_source source; /* first: the two are one */
	struct th_http_options options;
	CURL *easy;
	CURLM *multi;
	struct curl_slist *headers;
	char error[CURL_ERROR_SIZE];
	char where[160]; /* scheme and host, for messages */
	struct th_buf window;
	bool active, held, done;
	bool fresh; /* the window was not given out yet */
	CURLcode result;
	/* what is sent */
	struct th_source *body;
	const char *piece; /* what is left of the body's last piece */
	size_t piece_len;
	struct th_error body_err;
};

static ssize_t next_piece(
	struct th_source *source, const void **data, struct th_error *err);

static void init_library(void)
{
	curl_global_init(CURL_GLOBAL_DEFAULT);
}

static size_t take_body(char *data, size_t size, size_t count, void *owner)
{
	struct th_http *http = owner;
	size_t len = size * count;

	if (http->window.len > 0 && http->window.len + len > WINDOW_BYTES) {
		http->held = true;
		return CURL_WRITEFUNC_PAUSE;
	}
	th_buf_add(&http->window, data, len);
	return http->window.failed ? 0 : len;
}

static size_t give_body(char *to, size_t size, size_t count, void *owner)
{
	struct th_http *http = owner;
	size_t room = size * count;

	if (http->piece_len == 0) {
		const void *data = NULL;
		ssize_t got =
			http->body->next(http->body, &data, &http->body_err);

		if (got < 0)
			return CURL_READFUNC_ABORT;
		http->piece = data;
		http->piece_len = (size_t)got;
	}
	if (room > http->piece_len)
		room = http->piece_len;
	memcpy(to, http->piece, room);
	http->piece += room;
	http->piece_len -= room;
	return room;
}

struct th_http *th_http_new(
	const struct th_http_options *options, struct th_error *err)
{
	static pthread_once_t once = PTHREAD_ONCE_INIT;
	struct th_http *http;

	if (th_late_curl(err))
		return NULL;
	http = calloc(1, sizeof(*http));
	pthread_once(&once, init_library);
	if (http) {
		http->source.next = next_piece;
		http->easy = curl_easy_init();
		http->multi = curl_multi_init();
		http->options = *options;
		th_buf_init(&http->window, 64u << 20);
	}
	if (!http || !http->easy || !http->multi) {
		th_http_free(http);
		th_fail_memory(err);
		return NULL;
	}
	return http;
}

void th_http_free(struct th_http *http)
{
	if (!http)
		return;
	th_http_end(http);
	if (http->easy)
		curl_easy_cleanup(http->easy);
	if (http->multi)
		curl_multi_cleanup(http->multi);
	th_buf_release(&http->window);
	free(http);
}

void th_http_end(struct th_http *http)
{
	if (http->active)
		curl_multi_remove_handle(http->multi, http->easy);
	http->active = false;
	if (http->headers)
		curl_slist_free_all(http->headers);
	http->headers = NULL;
	http->window.len = 0;
	http->window.failed = false;
	http->fresh = false;
	http->body = NULL;
	http->piece_len = 0;
}

int th_http_pause(const struct th_http *http, int64_t ms, struct th_error *err)
{
	const struct timespec step = {.tv_nsec = PAUSE_STEP_MS * 1000000};
	int64_t until = th_clock_mono_ms() + ms;

	while (th_clock_mono_ms() < until) {
		if (th_cancelled(http->options.cancel))
			return th_fail(
				err, TH_FAILED, "the transfer was interrupted");
		nanosleep(&step, NULL);
	}
	return 0;
}

bool th_http_unreached(const struct th_http *http)
{
	return http->result == CURLE_COULDNT_CONNECT ||
		http->result == CURLE_COULDNT_RESOLVE_HOST ||
		http->result == CURLE_COULDNT_RESOLVE_PROXY;
}

bool th_http_failed(const struct th_http *http)
{
	return !http->done || http->result != CURLE_OK;
}

bool th_http_may_pass(const struct th_http *http)
{
	switch (http->result) {
	case CURLE_RECV_ERROR:
	case CURLE_SEND_ERROR:
	case CURLE_SEND_FAIL_REWIND:
	case CURLE_PARTIAL_FILE:
	case CURLE_GOT_NOTHING:
	case CURLE_OPERATION_TIMEDOUT:
	case CURLE_HTTP2:
	case CURLE_HTTP2_STREAM:
		return true;
	default:
		return false;
	}
}

static int fail(struct th_http *http, struct th_error *err)
{
	const char *why =
		http->error[0] ? http->error : curl_easy_strerror(http->result);
	int64_t stall_us = http->options.stall_us;

	if (http->body_err.code) {
		*err = http->body_err;
		return -1;
	}
	if (http->result == CURLE_OPERATION_TIMEDOUT && http->done &&
		strstr(why, "too slow"))
		return th_fail(err, TH_NETWORK, "no data from %s for %lld s",
			http->where,
			stall_us ? (long long)(stall_us / 1000000)
				 : (long long)STALL_SECONDS);
	th_fail(err, TH_NETWORK, "the transfer with %s failed: %s", http->where,
		why);
	if (http->result == CURLE_SSL_CONNECT_ERROR)
		return th_hint(err,
			"for a registry with plain HTTP, set \"transport: "
			"http\" in the configuration");
	if (http->result == CURLE_PEER_FAILED_VERIFICATION)
		return th_hint(err,
			"for a registry with its own certificate, set "
			"\"ca-file: PATH\" in the configuration");
	if (http->result == CURLE_SSL_CACERT_BADFILE ||
		http->result == CURLE_SSL_CERTPROBLEM)
		return th_hint(err,
			"see ca-file, cert-file and key-file in the "
			"configuration");
	if (th_http_unreached(http))
		return th_hint(err,
			"check the name, and that the registry is running");
	return -1;
}

/* Lets the transfer go on until something has come or it has ended. */
static int drive(struct th_http *http, struct th_error *err)
{
	CURLMsg *message;
	int running, left;

	if (th_cancelled(http->options.cancel))
		return th_fail(err, TH_FAILED, "the transfer was interrupted");
	if (curl_multi_perform(http->multi, &running) != CURLM_OK)
		return th_fail(err, TH_NETWORK, "the transfer with %s failed",
			http->where);
	while ((message = curl_multi_info_read(http->multi, &left))) {
		if (message->msg == CURLMSG_DONE) {
			http->done = true;
			http->result = message->data.result;
		}
	}
	if (!http->done && http->window.len == 0)
		curl_multi_poll(http->multi, NULL, 0, POLL_MS, NULL);
	return 0;
}

/* The window is empty again: the transfer may fill it. */
static void release_held(struct th_http *http)
{
	if (!http->held)
		return;
	http->held = false;
	curl_easy_pause(http->easy, CURLPAUSE_CONT);
}

static ssize_t next_piece(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_http *http = (struct th_http *)(void *)source;

	if (http->fresh) {
		/* What th_http_begin has waited for. */
		http->fresh = false;
	} else {
		http->window.len = 0;
		release_held(http);
	}
	while (http->window.len == 0) {
		if (http->done)
			return http->result == CURLE_OK ? 0 : fail(http, err);
		if (drive(http, err))
			return -1;
	}
	*data = http->window.data;
	return (ssize_t)http->window.len;
}

static void set_always(struct th_http *http)
{
	const struct th_http_options *options = &http->options;
	CURL *easy = http->easy;

	/* The connections stay with the multi handle. */
	curl_easy_reset(easy);
	curl_easy_setopt(easy, CURLOPT_WRITEFUNCTION, take_body);
	curl_easy_setopt(easy, CURLOPT_WRITEDATA, http);
	curl_easy_setopt(easy, CURLOPT_ERRORBUFFER, http->error);
	curl_easy_setopt(easy, CURLOPT_NOSIGNAL, 1L);
	curl_easy_setopt(easy, CURLOPT_PROTOCOLS_STR, "http,https");
	curl_easy_setopt(
		easy, CURLOPT_HTTP_VERSION, (long)CURL_HTTP_VERSION_2TLS);
	curl_easy_setopt(easy, CURLOPT_CONNECTTIMEOUT, CONNECT_SECONDS);
	curl_easy_setopt(easy, CURLOPT_LOW_SPEED_TIME,
		options->stall_us
			? (long)((options->stall_us + 999999) / 1000000)
			: STALL_SECONDS);
	curl_easy_setopt(easy, CURLOPT_LOW_SPEED_LIMIT, STALL_BYTES);
	curl_easy_setopt(easy, CURLOPT_BUFFERSIZE, 256L * 1024);
	curl_easy_setopt(easy, CURLOPT_UPLOAD_BUFFERSIZE, 256L * 1024);
	curl_easy_setopt(easy, CURLOPT_USERAGENT, "tidyhull");
	if (options->ca_file)
		curl_easy_setopt(easy, CURLOPT_CAINFO, options->ca_file);
	if (options->cert_file)
		curl_easy_setopt(easy, CURLOPT_SSLCERT, options->cert_file);
	if (options->key_file)
		curl_easy_setopt(easy, CURLOPT_SSLKEY, options->key_file);
}

static void set_method(
	struct th_http *http, const struct th_http_request *request)
{
	const char *method = request->method;

	if (!method)
		return;
	if (strcmp(method, "HEAD") == 0) {
		curl_easy_setopt(http->easy, CURLOPT_NOBODY, 1L);
		return;
	}
	if (request->body) {
		http->body = request->body;
		curl_easy_setopt(http->easy, CURLOPT_UPLOAD, 1L);
		curl_easy_setopt(http->easy, CURLOPT_READFUNCTION, give_body);
		curl_easy_setopt(http->easy, CURLOPT_READDATA, http);
		curl_easy_setopt(http->easy, CURLOPT_INFILESIZE_LARGE,
			(curl_off_t)request->body_bytes);
	} else {
		curl_easy_setopt(http->easy, CURLOPT_POSTFIELDS, "");
		curl_easy_setopt(http->easy, CURLOPT_POSTFIELDSIZE, 0L);
	}
	curl_easy_setopt(http->easy, CURLOPT_CUSTOMREQUEST, method);
}

static int set_headers(struct th_http *http,
	const struct th_http_request *request, struct th_error *err)
{
	/* Nobody is asked whether a body may come: it only costs time. */
	http->headers = curl_slist_append(NULL, "Expect:");
	for (size_t i = 0; i < TH_HEADERS_MAX && request->headers[i]; i++) {
		struct curl_slist *longer =
			curl_slist_append(http->headers, request->headers[i]);

		if (!longer)
			return th_fail_memory(err);
		http->headers = longer;
	}
	if (!http->headers)
		return th_fail_memory(err);
	curl_easy_setopt(http->easy, CURLOPT_HTTPHEADER, http->headers);
	return 0;
}

static int begin(struct th_http *http, const struct th_http_request *request,
	struct th_error *err)
{
	const char *url = request->url, *host = strstr(url, "://");
	size_t len;

	th_http_end(http);
	http->done = http->held = false;
	http->result = CURLE_OK;
	http->error[0] = '\0';
	th_error_clear(&http->body_err);
	len = host ? strcspn(host + 3, "/") + (size_t)(host + 3 - url) : 0;
	snprintf(http->where, sizeof(http->where), "%.*s", (int)len, url);
	set_always(http);
	set_method(http, request);
	if (set_headers(http, request, err))
		return -1;
	curl_easy_setopt(http->easy, CURLOPT_URL, url);
	if (curl_multi_add_handle(http->multi, http->easy) != CURLM_OK)
		return th_fail_memory(err);
	http->active = true;
	return 0;
}

/* All fields of that name, joined as one list (RFC 9110, section 5.3). */
static void copy_header(
	struct th_http *http, const char *name, char *to, size_t size)
{
	struct curl_header *header;
	size_t used = 0;

	to[0] = '\0';
	for (size_t i = 0; curl_easy_header(http->easy, name, i, CURLH_HEADER,
				   -1, &header) == CURLHE_OK;
		i++) {
		/* A value that is cut would say something else. */
		if (used + strlen(header->value) + 3 > size)
			break;
		used += (size_t)snprintf(to + used, size - used, "%s%s",
			i ? ", " : "", header->value);
		if (i + 1 >= header->amount)
			break;
	}
}

static void read_answer(struct th_http *http, struct th_http_answer *answer)
{
	curl_off_t length = -1;
	char *location = NULL;

	memset(answer, 0, sizeof(*answer));
	curl_easy_getinfo(http->easy, CURLINFO_RESPONSE_CODE, &answer->status);
	curl_easy_getinfo(
		http->easy, CURLINFO_CONTENT_LENGTH_DOWNLOAD_T, &length);
	answer->length = length;
	copy_header(http, "Content-Type", answer->type, sizeof(answer->type));
	answer->type[strcspn(answer->type, "; ,")] = '\0';
	copy_header(http, "WWW-Authenticate", answer->challenge,
		sizeof(answer->challenge));
	copy_header(http, "Retry-After", answer->retry_after,
		sizeof(answer->retry_after));
	copy_header(http, "Content-Range", answer->content_range,
		sizeof(answer->content_range));
	copy_header(http, "Range", answer->range, sizeof(answer->range));
	copy_header(http, "Link", answer->link, sizeof(answer->link));
	copy_header(http, "OCI-Chunk-Min-Length", answer->chunk_min,
		sizeof(answer->chunk_min));
	/* libcurl makes it absolute for redirects; uploads have their own. */
	curl_easy_getinfo(http->easy, CURLINFO_REDIRECT_URL, &location);
	if (location)
		snprintf(answer->location, sizeof(answer->location), "%.2047s",
			location);
	else
		copy_header(http, "Location", answer->location,
			sizeof(answer->location));
}

int th_http_begin(struct th_http *http, const struct th_http_request *request,
	struct th_http_answer *answer, struct th_source **body,
	struct th_error *err)
{
	if (begin(http, request, err))
		return -1;
	while (http->window.len == 0 && !http->done) {
		if (drive(http, err))
			return -1;
	}
	/* What has come before it broke counts: the next read fails. */
	if (http->done && http->result != CURLE_OK && http->window.len == 0)
		return fail(http, err);
	read_answer(http, answer);
	http->fresh = true;
	if (body)
		*body = &http->source;
	return 0;
}

int th_http_read(struct th_http *http, struct th_buf *buf, struct th_error *err)
{
	const void *data;
	ssize_t got;

	while ((got = next_piece(&http->source, &data, err)) > 0) {
		th_buf_add(buf, data, (size_t)got);
		if (buf->failed)
			return th_fail(err, TH_NETWORK,
				"the answer from %s is larger than the maximum "
				"of %zu bytes",
				http->where, buf->limit);
	}
	return got < 0 ? -1 : 0;
}
