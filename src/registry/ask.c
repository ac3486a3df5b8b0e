#include "registry/ask.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/json.h"
#include "base/random.h"
#include "registry/headers.h"

#define REDIRECTS_MAX 5
#define WAIT_FIRST_MS 200
#define WORDS_MAX 4096

struct th_registry {
	struct th_http *http;
	struct th_access *access;
	struct th_cancel cancel;
	char base[300];
	char host[256];
	bool secure;
	bool spoken; /* it has answered before */
};

struct th_registry *th_registry_new(const struct th_registry_options *options,
	const char *host, struct th_error *err)
{
	const struct th_registry_config *entry =
		th_config_find(options->config, host);
	struct th_http_options http = {.cancel = options->cancel};
	struct th_registry *registry = calloc(1, sizeof(*registry));

	if (!registry) {
		th_fail_memory(err);
		return NULL;
	}
	if (entry) {
		http.ca_file = entry->ca_file;
		http.cert_file = entry->cert_file;
		http.key_file = entry->key_file;
		http.stall_us = entry->stall_us;
	}
	registry->secure = !entry || entry->transport == TH_TRANSPORT_HTTPS;
	registry->access = options->access;
	registry->cancel = options->cancel;
	snprintf(registry->host, sizeof(registry->host), "%s", host);
	snprintf(registry->base, sizeof(registry->base), "http%s://%s",
		registry->secure ? "s" : "", host);
	registry->http = th_http_new(&http, err);
	if (!registry->http) {
		free(registry);
		return NULL;
	}
	return registry;
}

void th_registry_free(struct th_registry *registry)
{
	if (!registry)
		return;
	th_http_free(registry->http);
	free(registry);
}

const char *th_registry_host(const struct th_registry *registry)
{
	return registry->host;
}

const char *th_registry_base(const struct th_registry *registry)
{
	return registry->base;
}

bool th_registry_resolve(const struct th_registry *registry, const char *given,
	char url[TH_URL_MAX])
{
	char origin[300];
	int len;

	if (given[0] == '/') {
		len = snprintf(url, TH_URL_MAX, "%s%s", registry->base, given);
		return len < TH_URL_MAX;
	}
	if (!th_url_origin(given, origin, sizeof(origin)) ||
		(registry->secure && strncmp(origin, "https://", 8) != 0))
		return false;
	len = snprintf(url, TH_URL_MAX, "%s", given);
	return len < TH_URL_MAX;
}

static bool cancelled(const struct th_registry *registry)
{
	return th_cancelled(registry->cancel);
}

int th_ask_wait(
	const struct th_registry *registry, int number, struct th_error *err)
{
	int64_t ms = WAIT_FIRST_MS;

	for (; number > 0; number--)
		ms *= 2;
	/* Many that were thrown out together should not return together. */
	return th_http_pause(
		registry->http, ms + th_random_below((uint32_t)ms / 4), err);
}

bool th_ask_may_pass(const struct th_registry *registry)
{
	return !cancelled(registry) && th_http_may_pass(registry->http);
}

int th_ask_read(
	struct th_registry *registry, struct th_buf *buf, struct th_error *err)
{
	return th_http_read(registry->http, buf, err);
}

void th_ask_end(struct th_registry *registry)
{
	th_http_end(registry->http);
}

/* ---- one try ---- */

static bool is_own(const struct th_registry *registry, const char *url)
{
	char origin[300], base[300];

	return th_url_origin(url, origin, sizeof(origin)) &&
		th_url_origin(registry->base, base, sizeof(base)) &&
		strcmp(origin, base) == 0;
}

static int wait_for_host(const struct th_registry *registry, const char *url,
	struct th_error *err)
{
	char origin[300];
	int64_t ms;

	if (!th_url_origin(url, origin, sizeof(origin)))
		return 0;
	while ((ms = th_access_held_ms(registry->access, origin)) > 0) {
		if (th_http_pause(registry->http, ms, err))
			return -1;
	}
	return 0;
}

/* Sends the request to url. *used receives the header with the credentials,
 * which go to the registry itself and to nobody else. */
static int send_request(struct th_registry *registry, const struct th_ask *ask,
	const char *url, struct th_http_answer *answer, struct th_source **body,
	char **used, struct th_error *err)
{
	struct th_http_request request = {.method = ask->method, .url = url};
	size_t count = 0;

	free(*used);
	*used = NULL;
	if (wait_for_host(registry, url, err) ||
		(is_own(registry, url) &&
			th_access_header(registry->access, registry->http,
				registry->host, ask->scope, registry->secure,
				used, err)))
		return -1;
	while (count < TH_HEADERS_MAX - 2 && ask->headers[count]) {
		request.headers[count] = ask->headers[count];
		count++;
	}
	request.headers[count] = *used;
	if (ask->open_body) {
		request.body = ask->open_body(ask->owner, err);
		if (!request.body)
			return -1;
		request.body_bytes = ask->body_bytes;
	}
	return th_http_begin(registry->http, &request, answer, body, err);
}

static bool is_redirect(const struct th_ask *ask, long status)
{
	bool reads = !ask->method || strcmp(ask->method, "HEAD") == 0;

	return reads &&
		(status == 301 || status == 302 || status == 303 ||
			status == 307 || status == 308);
}

static bool is_passing(long status)
{
	return status == 408 || status == 429 || status == 500 ||
		status == 502 || status == 503 || status == 504;
}

static int follow(const struct th_registry *registry,
	const struct th_http_answer *answer, int number, char url[TH_URL_MAX],
	struct th_error *err)
{
	char origin[300];

	if (number > REDIRECTS_MAX)
		return th_fail(err, TH_NETWORK,
			"the registry %s redirects more than %d times",
			registry->host, REDIRECTS_MAX);
	if (!th_url_origin(answer->location, origin, sizeof(origin)))
		return th_fail(err, TH_NETWORK,
			"the registry %s redirects without giving an address",
			registry->host);
	if (strncmp(url, "https://", 8) == 0 &&
		strncmp(answer->location, "https://", 8) != 0)
		return th_fail(err, TH_NETWORK,
			"the registry %s redirects to an address without TLS "
			"(%.200s)",
			registry->host, origin);
	snprintf(url, TH_URL_MAX, "%s", answer->location);
	return 0;
}

/* What Retry-After asks for holds for all requests to that host, whoever sends
 * them. False where nothing is asked for; *too_long where it is too much. */
static bool note_pause(const struct th_registry *registry, const char *url,
	const struct th_http_answer *answer, bool *too_long)
{
	char origin[300];
	int64_t wait_us;

	*too_long = false;
	if (!th_retry_after_parse(
		    answer->retry_after, th_clock_now_us(), &wait_us))
		return false;
	*too_long = wait_us > TH_PATIENCE_US;
	if (!*too_long && th_url_origin(url, origin, sizeof(origin)))
		th_access_hold(registry->access, origin, wait_us / 1000);
	return true;
}

/* An answer that may pass: 1 try again, 0 it stays, -1. */
static int look_again(const struct th_registry *registry,
	const struct th_ask *ask, const char *url,
	const struct th_http_answer *answer, int *tries, struct th_error *err)
{
	bool too_long, told = note_pause(registry, url, answer, &too_long);

	if (ask->once || *tries >= TH_RETRIES || too_long)
		return 0;
	(*tries)++;
	return !told && th_ask_wait(registry, *tries - 1, err) ? -1 : 1;
}

int th_ask(struct th_registry *registry, const struct th_ask *ask,
	struct th_http_answer *answer, struct th_source **body,
	struct th_error *err)
{
	char url[TH_URL_MAX], *used = NULL;
	int tries = 0, redirects = 0, challenges = 0, rc = -1;

	if (strlen(ask->url) >= sizeof(url))
		return th_fail(err, TH_NETWORK, "the address is too long");
	snprintf(url, sizeof(url), "%s", ask->url);
	for (;;) {
		if (send_request(
			    registry, ask, url, answer, body, &used, err)) {
			bool again = th_http_may_pass(registry->http) ||
				(th_http_unreached(registry->http) &&
					registry->spoken);

			if (cancelled(registry) || !again || ask->once ||
				tries >= TH_RETRIES)
				goto out;
			th_error_clear(err);
			if (th_ask_wait(registry, tries++, err))
				goto out;
			snprintf(url, sizeof(url), "%s", ask->url);
			continue;
		}
		registry->spoken = true;
		if (is_redirect(ask, answer->status)) {
			if (follow(registry, answer, ++redirects, url, err))
				goto out;
			continue;
		}
		if (answer->status == 401 && is_own(registry, url) &&
			challenges++ < 2) {
			int able;

			th_http_end(registry->http);
			able = th_access_answer(registry->access,
				registry->http, registry->host, ask->scope,
				used, answer->challenge, registry->secure, err);
			if (able < 0)
				goto out;
			if (able > 0)
				continue;
		}
		if (is_passing(answer->status)) {
			int again = look_again(
				registry, ask, url, answer, &tries, err);

			if (again < 0)
				goto out;
			if (again) {
				snprintf(url, sizeof(url), "%s", ask->url);
				continue;
			}
		}
		rc = 0;
		break;
	}
out:
	free(used);
	return rc;
}

int th_ask_document(struct th_registry *registry, const struct th_ask *ask,
	struct th_http_answer *answer, struct th_buf *body,
	struct th_error *err)
{
	for (int tries = 0;; tries++) {
		body->len = 0;
		if (th_ask(registry, ask, answer, NULL, err))
			return -1;
		if (answer->status != 200)
			return 0;
		if (th_ask_read(registry, body, err) == 0)
			break;
		if (!th_ask_may_pass(registry) || tries >= TH_RETRIES)
			return -1;
		th_error_clear(err);
		if (th_ask_wait(registry, tries, err))
			return -1;
	}
	th_ask_end(registry);
	return 0;
}

/* ---- what an answer means ---- */

/* The registry's own words, made fit for a line. */
static void read_words(struct th_registry *registry, char words[160])
{
	struct th_error ignored = {0}; /* then by its number */
	json_t *doc = NULL, *first;
	const char *message;
	struct th_buf body;
	size_t used = 0;

	words[0] = '\0';
	th_buf_init(&body, WORDS_MAX);
	if (th_ask_read(registry, &body, &ignored) == 0 && body.len &&
		th_json_parse(body.data, body.len, "the answer", &doc,
			&ignored) == 0) {
		first = json_array_get(json_object_get(doc, "errors"), 0);
		message = json_string_value(json_object_get(first, "message"));
		for (; message && *message && used < 150; message++) {
			if ((unsigned char)*message >= ' ' && *message != 127)
				words[used++] = *message;
		}
		words[used] = '\0';
	}
	json_decref(doc);
	th_buf_release(&body);
}

int th_ask_fail(struct th_registry *registry,
	const struct th_http_answer *answer, const char *what,
	struct th_error *err)
{
	char words[160], tail[170] = "";
	const char *host = registry->host;

	read_words(registry, words);
	if (words[0])
		snprintf(tail, sizeof(tail), " (\"%s\")", words);
	th_ask_end(registry);
	switch (answer->status) {
	case 404:
		th_fail(err, TH_NOT_FOUND, "the registry %s does not have %s",
			host, what);
		return th_hint(err, "check the name and the tag");
	case 401:
		th_fail(err, TH_NETWORK,
			"the registry %s requires a login for %s%s", host, what,
			tail);
		return th_hint(err, "tidyhull login %s", host);
	case 403:
		th_fail(err, TH_NETWORK, "the registry %s does not allow %s%s",
			host, what, tail);
		return th_hint(err,
			th_access_has_login(registry->access, host)
				? "check what this login has access to"
				: "tidyhull login %s",
			host);
	case 429:
		th_fail(err, TH_NETWORK,
			"the registry %s limits the rate of requests%s%s%s",
			host, answer->retry_after[0] ? "; retry after: " : "",
			answer->retry_after, tail);
		return th_hint(err, "try again later");
	default:
		return th_fail(err, TH_NETWORK,
			"the registry %s answered %ld for %s%s", host,
			answer->status, what, tail);
	}
}
