#include "registry/http.h"

#include <curl/curl.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Bytes that may wait to be read before the transfer is held. */
#define WINDOW_BYTES (512 * 1024)
#define POLL_MS 200
#define CONNECT_SECONDS 15L
/* A transfer that brings less than this for so long is given up. */
#define STALL_SECONDS 60L
#define STALL_BYTES 1L

struct th_http {
	struct th_source source; /* first: the two are one */
	CURL *easy;
	CURLM *multi;
	struct curl_slist *headers;
	const atomic_bool *cancel;
	char error[CURL_ERROR_SIZE];
	char where[160]; /* scheme and host, for messages */
	struct th_buf window;
	bool active, held, done;
	bool fresh; /* the window was not given out yet */
	CURLcode result;
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

struct th_http *th_http_new(
	const struct th_http_options *options, struct th_error *err)
{
	static pthread_once_t once = PTHREAD_ONCE_INIT;
	struct th_http *http = calloc(1, sizeof(*http));

	pthread_once(&once, init_library);
	if (http) {
		http->source.next = next_piece;
		http->easy = curl_easy_init();
		http->multi = curl_multi_init();
		http->cancel = options->cancel;
		th_buf_init(&http->window, 64u << 20);
	}
	if (!http || !http->easy || !http->multi) {
		th_http_free(http);
		th_fail_memory(err);
		return NULL;
	}
	curl_easy_setopt(http->easy, CURLOPT_WRITEFUNCTION, take_body);
	curl_easy_setopt(http->easy, CURLOPT_WRITEDATA, http);
	curl_easy_setopt(http->easy, CURLOPT_ERRORBUFFER, http->error);
	curl_easy_setopt(http->easy, CURLOPT_NOSIGNAL, 1L);
	curl_easy_setopt(http->easy, CURLOPT_FOLLOWLOCATION, 1L);
	curl_easy_setopt(http->easy, CURLOPT_MAXREDIRS, 5L);
	curl_easy_setopt(http->easy, CURLOPT_PROTOCOLS_STR, "http,https");
	curl_easy_setopt(http->easy, CURLOPT_CONNECTTIMEOUT, CONNECT_SECONDS);
	curl_easy_setopt(http->easy, CURLOPT_LOW_SPEED_TIME, STALL_SECONDS);
	curl_easy_setopt(http->easy, CURLOPT_LOW_SPEED_LIMIT, STALL_BYTES);
	curl_easy_setopt(http->easy, CURLOPT_BUFFERSIZE, 256L * 1024);
	curl_easy_setopt(http->easy, CURLOPT_USERAGENT, "tidyhull");
	if (options->ca_file)
		curl_easy_setopt(http->easy, CURLOPT_CAINFO, options->ca_file);
	return http;
}

void th_http_free(struct th_http *http)
{
	if (!http)
		return;
	th_http_close(http);
	if (http->easy)
		curl_easy_cleanup(http->easy);
	if (http->multi)
		curl_multi_cleanup(http->multi);
	th_buf_release(&http->window);
	free(http);
}

void th_http_close(struct th_http *http)
{
	if (http->active)
		curl_multi_remove_handle(http->multi, http->easy);
	http->active = false;
	curl_slist_free_all(http->headers);
	http->headers = NULL;
	http->window.len = 0;
	http->fresh = false;
	http->window.failed = false;
}

static int fail(struct th_http *http, struct th_error *err)
{
	const char *why =
		http->error[0] ? http->error : curl_easy_strerror(http->result);

	th_fail(err, TH_NETWORK, "cannot get from %s: %s", http->where, why);
	if (http->result == CURLE_SSL_CONNECT_ERROR ||
		http->result == CURLE_RECV_ERROR)
		return th_hint(err,
			"a registry that speaks plain HTTP needs "
			"\"transport: http\" in the configuration");
	if (http->result == CURLE_COULDNT_CONNECT ||
		http->result == CURLE_COULDNT_RESOLVE_HOST)
		return th_hint(
			err, "is the name right, and the registry running?");
	return -1;
}

/* Lets the transfer go on until something has come or it has ended. */
static int drive(struct th_http *http, struct th_error *err)
{
	CURLMsg *message;
	int running, left;

	if (http->cancel && atomic_load(http->cancel))
		return th_fail(err, TH_FAILED, "the transfer was cancelled");
	if (curl_multi_perform(http->multi, &running) != CURLM_OK)
		return th_fail(err, TH_NETWORK, "the transfer from %s failed",
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
		/* What th_http_open has waited for. */
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

static int begin(struct th_http *http, const char *url, const char *accept,
	struct th_error *err)
{
	const char *host = strstr(url, "://");
	size_t len;

	th_http_close(http);
	http->done = http->held = false;
	http->result = CURLE_OK;
	http->error[0] = '\0';
	len = host ? strcspn(host + 3, "/") + (size_t)(host + 3 - url) : 0;
	snprintf(http->where, sizeof(http->where), "%.*s", (int)len, url);
	if (accept) {
		http->headers = curl_slist_append(NULL, accept);
		if (!http->headers)
			return th_fail_memory(err);
	}
	curl_easy_setopt(http->easy, CURLOPT_HTTPHEADER, http->headers);
	curl_easy_setopt(http->easy, CURLOPT_URL, url);
	if (curl_multi_add_handle(http->multi, http->easy) != CURLM_OK)
		return th_fail_memory(err);
	http->active = true;
	return 0;
}

int th_http_open(struct th_http *http, const char *url, long *status,
	struct th_source **source, struct th_error *err)
{
	if (begin(http, url, NULL, err))
		return -1;
	while (http->window.len == 0 && !http->done) {
		if (drive(http, err))
			return -1;
	}
	if (http->done && http->result != CURLE_OK)
		return fail(http, err);
	curl_easy_getinfo(http->easy, CURLINFO_RESPONSE_CODE, status);
	*source = &http->source;
	http->fresh = true;
	return 0;
}

int th_http_get(struct th_http *http, const char *url, const char *accept,
	long *status, char content_type[128], struct th_buf *body,
	struct th_error *err)
{
	const char *type = NULL;
	int rc = -1;

	if (begin(http, url, accept, err))
		goto out;
	while (!http->done || http->window.len) {
		th_buf_add(body, http->window.data, http->window.len);
		if (body->failed) {
			th_fail(err, TH_NETWORK,
				"the answer from %s is longer than the %zu "
				"bytes that are accepted",
				http->where, body->limit);
			goto out;
		}
		http->window.len = 0;
		release_held(http);
		if (!http->done && drive(http, err))
			goto out;
	}
	if (http->result != CURLE_OK) {
		fail(http, err);
		goto out;
	}
	curl_easy_getinfo(http->easy, CURLINFO_RESPONSE_CODE, status);
	curl_easy_getinfo(http->easy, CURLINFO_CONTENT_TYPE, &type);
	snprintf(content_type, 128, "%.*s", type ? (int)strcspn(type, "; ") : 0,
		type ? type : "");
	rc = 0;
out:
	th_http_close(http);
	return rc;
}
