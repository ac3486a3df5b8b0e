#include "registry/access.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "registry/headers.h"
#include "registry/token.h"

#define ANSWER_MAX (256 * 1024)
/* A token service gets some more tries, each after twice the pause. */
#define TRIES_MAX 2
#define FIRST_PAUSE_MS 200

struct grant {
	char *host, *scope; /* owned, as header is */
	char *header; /* the whole line */
	int64_t expires_us; /* 0: never */
	int uses; /* requests that it was given to */
	struct th_challenge challenge; /* what it was given for */
	struct grant *next;
};

/* What holds for all requests to a host, or to an origin. */
struct habit {
	char *host; /* owned */
	bool one_use; /* its tokens open one request each */
	int64_t not_before_ms; /* on the monotonic clock */
	struct habit *next;
};

struct th_access {
	const struct th_logins *logins;
	pthread_mutex_t mutex;
	struct grant *grants;
	struct habit *habits;
};

struct th_access *th_access_new(const struct th_logins *logins)
{
	struct th_access *access = calloc(1, sizeof(*access));

	if (!access)
		return NULL;
	access->logins = logins;
	pthread_mutex_init(&access->mutex, NULL);
	return access;
}

static void free_grant(struct grant *grant)
{
	free(grant->host);
	free(grant->scope);
	free(grant->header);
	free(grant);
}

void th_access_free(struct th_access *access)
{
	if (!access)
		return;
	while (access->grants) {
		struct grant *grant = access->grants;

		access->grants = grant->next;
		free_grant(grant);
	}
	while (access->habits) {
		struct habit *habit = access->habits;

		access->habits = habit->next;
		free(habit->host);
		free(habit);
	}
	pthread_mutex_destroy(&access->mutex);
	free(access);
}

/* NULL without memory. The mutex is held. */
static struct habit *habit_of(struct th_access *access, const char *host)
{
	struct habit *habit = access->habits;

	while (habit && strcmp(habit->host, host) != 0)
		habit = habit->next;
	if (habit)
		return habit;
	habit = calloc(1, sizeof(*habit));
	if (habit)
		habit->host = strdup(host);
	if (!habit || !habit->host) {
		free(habit);
		return NULL;
	}
	habit->next = access->habits;
	access->habits = habit;
	return habit;
}

void th_access_hold(struct th_access *access, const char *origin, int64_t ms)
{
	int64_t until = th_clock_mono_ms() + ms;
	struct habit *habit;

	pthread_mutex_lock(&access->mutex);
	habit = habit_of(access, origin);
	if (habit && habit->not_before_ms < until)
		habit->not_before_ms = until;
	pthread_mutex_unlock(&access->mutex);
}

int64_t th_access_held_ms(struct th_access *access, const char *origin)
{
	const struct habit *habit;
	int64_t left = 0;

	pthread_mutex_lock(&access->mutex);
	habit = habit_of(access, origin);
	if (habit)
		left = habit->not_before_ms - th_clock_mono_ms();
	pthread_mutex_unlock(&access->mutex);
	return left > 0 ? left : 0;
}

bool th_access_has_login(const struct th_access *access, const char *host)
{
	return th_logins_find(access->logins, host) != NULL;
}

/* An expired one is taken out. The mutex is held. */
static struct grant *find(
	struct th_access *access, const char *host, const char *scope)
{
	struct grant **at = &access->grants;

	while (*at) {
		struct grant *grant = *at;

		if (strcmp(grant->host, host) != 0 ||
			strcmp(grant->scope, scope) != 0) {
			at = &grant->next;
			continue;
		}
		if (!grant->expires_us || grant->expires_us > th_clock_now_us())
			return grant;
		*at = grant->next;
		free_grant(grant);
	}
	return NULL;
}

/* Takes the header over. */
static int keep(struct th_access *access, const char *host, const char *scope,
	const struct th_challenge *challenge, char *header, int64_t expires_us,
	struct th_error *err)
{
	struct grant *grant = find(access, host, scope);

	if (!header)
		return th_fail_memory(err);
	if (!grant) {
		grant = calloc(1, sizeof(*grant));
		if (grant) {
			grant->host = strdup(host);
			grant->scope = strdup(scope);
		}
		if (!grant || !grant->host || !grant->scope) {
			if (grant)
				free_grant(grant);
			free(header);
			return th_fail_memory(err);
		}
		grant->next = access->grants;
		access->grants = grant;
	}
	free(grant->header);
	grant->header = header;
	grant->expires_us = expires_us;
	grant->uses = 0;
	if (challenge)
		grant->challenge = *challenge;
	return 0;
}

static char *basic_header(const struct th_login *login)
{
	struct th_buf line, pair;

	th_buf_init(&line, 16384);
	th_buf_init(&pair, 8192);
	th_buf_addf(&pair, "%s:%s", login->user, login->password);
	th_buf_adds(&line, "Authorization: Basic ");
	th_buf_base64(&line, pair.data, pair.len);
	line.failed |= pair.failed;
	if (pair.cap)
		explicit_bzero(pair.data, pair.len);
	th_buf_release(&pair);
	return th_buf_take(&line);
}

static void add_query(
	struct th_buf *url, const char *key, const char *value, size_t len)
{
	th_buf_addf(url, "%s%s=", strchr(url->data, '?') ? "&" : "?", key);
	for (size_t i = 0; i < len; i++) {
		unsigned char byte = (unsigned char)value[i];

		if (strchr("-._~:/,", byte) ||
			(byte < 0x80 &&
				((byte >= '0' && byte <= '9') ||
					((byte | 32) >= 'a' &&
						(byte | 32) <= 'z'))))
			th_buf_addf(url, "%c", byte);
		else
			th_buf_addf(url, "%%%02X", byte);
	}
}

/* "repository:a:pull,push" allows what "repository:a:pull" does. */
static bool is_covered(const char *scopes, const char *wanted)
{
	size_t name = strcspn(wanted, " ");

	while (name > 0 && wanted[name - 1] != ':')
		name--;
	for (const char *at = scopes; *at; at += strcspn(at, " ")) {
		size_t len;
		const char *action = wanted + name;
		bool all = true;

		at += *at == ' ';
		len = strcspn(at, " ");
		if (len <= name || strncmp(at, wanted, name) != 0)
			continue;
		while (all && *action && *action != ' ') {
			size_t one = strcspn(action, ", ");

			all = one == 0 ||
				memmem(at + name, len - name, action, one) !=
					NULL;
			action += one + (action[one] == ',');
		}
		if (all)
			return true;
	}
	return false;
}

static void add_scopes(struct th_buf *url, const char *scope)
{
	while (*scope) {
		size_t len = strcspn(scope, " ");

		if (len)
			add_query(url, "scope", scope, len);
		scope += len + (scope[len] == ' ');
	}
}

/* What is wanted goes first: the registry names only what this one request
 * needs, and the next ones would all be refused once. */
static void token_url(const struct th_challenge *challenge, const char *scope,
	const struct th_login *login, struct th_buf *url)
{
	th_buf_adds(url, challenge->realm);
	if (challenge->service[0])
		add_query(url, "service", challenge->service,
			strlen(challenge->service));
	add_scopes(url, scope);
	if (!is_covered(scope, challenge->scope))
		add_scopes(url, challenge->scope);
	if (login)
		add_query(url, "account", login->user, strlen(login->user));
}

static int refuse_token(long status, const char *host,
	const struct th_login *login, struct th_error *err)
{
	if (status != 401 && status != 403 && status != 404)
		return th_fail(err, TH_NETWORK,
			"the token service of %s answered %ld", host, status);
	if (login) {
		th_fail(err, TH_NETWORK,
			"the registry %s does not accept the login of \"%s\"",
			host, login->user);
		return th_hint(err, "tidyhull login %s", host);
	}
	th_fail(err, TH_NETWORK, "the registry %s requires a login", host);
	return th_hint(err, "tidyhull login %s", host);
}

/* One try; a status that may pass counts as a failure but in the last one. */
static int ask_once(struct th_http *http, const struct th_http_request *request,
	struct th_http_answer *answer, struct th_buf *body, int tries,
	struct th_error *err)
{
	body->len = 0;
	if (th_http_begin(http, request, answer, NULL, err) ||
		th_http_read(http, body, err))
		return -1;
	if (tries < TRIES_MAX &&
		(answer->status == 429 || answer->status >= 500))
		return th_fail(err, TH_NETWORK,
			"the token service answered %ld", answer->status);
	return 0;
}

/* False where another try makes no sense: it was interrupted, or there is
 * nobody, or the service asks for more patience than there is. */
static bool pause_before_next(const struct th_http *http,
	const struct th_http_answer *answer, int tries)
{
	int64_t wait_us = (int64_t)(FIRST_PAUSE_MS << tries) * 1000;
	struct th_error ignored = {0}; /* cancelled */

	if (th_http_failed(http)) {
		if (!th_http_may_pass(http))
			return false;
	} else if (th_retry_after_parse(
			   answer->retry_after, th_clock_now_us(), &wait_us) &&
		wait_us > TH_PATIENCE_US) {
		return false;
	}
	return th_http_pause(http, wait_us / 1000, &ignored) == 0;
}

static int fetch_token(struct th_http *http, const char *host,
	const struct th_challenge *challenge, const char *scope,
	const struct th_login *login, struct th_token *token,
	struct th_error *err)
{
	struct th_http_request request = {0};
	struct th_http_answer answer = {0};
	struct th_buf url, body;
	char *basic = NULL;
	int rc = -1;

	th_buf_init(&url, TH_URL_MAX - 1);
	th_buf_init(&body, ANSWER_MAX);
	token_url(challenge, scope, login, &url);
	if (login)
		basic = basic_header(login);
	if (url.failed || (login && !basic)) {
		th_fail(err, TH_NETWORK,
			"the registry %s names a token service whose address "
			"is too long",
			host);
		goto out;
	}
	request.url = url.data;
	request.headers[0] = basic;
	for (int tries = 0;
		ask_once(http, &request, &answer, &body, tries, err); tries++) {
		if (tries >= TRIES_MAX ||
			!pause_before_next(http, &answer, tries))
			goto out;
		th_error_clear(err);
	}
	if (answer.status != 200) {
		refuse_token(answer.status, host, login, err);
		goto out;
	}
	rc = th_token_parse(body.data, body.len, th_clock_now_us(), token, err);
out:
	th_http_end(http);
	free(basic);
	th_buf_release(&url);
	if (body.cap)
		explicit_bzero(body.data, body.len);
	th_buf_release(&body);
	return rc;
}

static int take_bearer(struct th_access *access, struct th_http *http,
	const char *host, const char *scope,
	const struct th_challenge *challenge, bool secure, struct th_error *err)
{
	const struct th_login *login = th_logins_find(access->logins, host);
	struct th_token token = {0};
	int rc;

	if (strncmp(challenge->realm, "https://", 8) != 0 &&
		(secure || strncmp(challenge->realm, "http://", 7) != 0))
		return th_fail(err, TH_NETWORK,
			"the registry %s names a token service without TLS "
			"(%.200s); nothing was sent to it",
			host, challenge->realm);
	if (fetch_token(http, host, challenge, scope, login, &token, err))
		return -1;
	rc = keep(access, host, scope, challenge,
		th_format("Authorization: Bearer %s", token.text),
		token.expires_us, err);
	th_token_release(&token);
	return rc ? -1 : 1;
}

static int take_basic(struct th_access *access, const char *host,
	const char *scope, const char *used, struct th_error *err)
{
	const struct th_login *login = th_logins_find(access->logins, host);
	char *header;

	if (!login)
		return 0;
	header = basic_header(login);
	if (header && used && strcmp(header, used) == 0) {
		free(header);
		return refuse_token(401, host, login, err);
	}
	return keep(access, host, scope, NULL, header, 0, err) ? -1 : 1;
}

/* A token of one use that has been used makes room for the next one, before a
 * request (with all that it sends) is thrown away for its sake. */
static int renew(struct th_access *access, struct th_http *http,
	const char *host, const struct grant *grant, bool secure,
	struct th_error *err)
{
	const struct habit *habit = habit_of(access, host);
	/* The grant may be taken out on the way. */
	struct th_challenge challenge = grant->challenge;
	char *scope;
	int rc;

	if (!habit || !habit->one_use || !grant->uses ||
		challenge.scheme != TH_SCHEME_BEARER)
		return 0;
	scope = strdup(grant->scope);
	rc = scope ? take_bearer(
			     access, http, host, scope, &challenge, secure, err)
		   : th_fail_memory(err);
	free(scope);
	return rc < 0 ? -1 : 0;
}

int th_access_header(struct th_access *access, struct th_http *http,
	const char *host, const char *scope, bool secure, char **header,
	struct th_error *err)
{
	struct grant *grant;
	int rc = 0;

	*header = NULL;
	pthread_mutex_lock(&access->mutex);
	grant = find(access, host, scope);
	if (grant)
		rc = renew(access, http, host, grant, secure, err);
	grant = rc == 0 ? find(access, host, scope) : NULL;
	if (grant) {
		grant->uses++;
		*header = strdup(grant->header);
		if (!*header)
			rc = th_fail_memory(err);
	}
	pthread_mutex_unlock(&access->mutex);
	return rc;
}

bool th_access_knows(
	struct th_access *access, const char *host, const char *scope)
{
	bool known;

	pthread_mutex_lock(&access->mutex);
	known = find(access, host, scope) != NULL;
	pthread_mutex_unlock(&access->mutex);
	return known;
}

/* It was good for one request, and refused for the next. */
static void note_one_use(
	struct th_access *access, const char *host, const struct grant *grant)
{
	struct habit *habit = grant->uses > 1 ? habit_of(access, host) : NULL;

	if (habit)
		habit->one_use = true;
}

int th_access_answer(struct th_access *access, struct th_http *http,
	const char *host, const char *scope, const char *used,
	const char *challenge, bool secure, struct th_error *err)
{
	struct th_challenge parsed;
	const struct grant *grant;
	int rc = 0;

	th_challenge_parse(challenge, &parsed);
	pthread_mutex_lock(&access->mutex);
	grant = find(access, host, scope);
	if (grant && (!used || strcmp(grant->header, used) != 0))
		rc = 1; /* another thread was quicker */
	else if (parsed.scheme == TH_SCHEME_BEARER) {
		if (grant)
			note_one_use(access, host, grant);
		rc = take_bearer(
			access, http, host, scope, &parsed, secure, err);
	} else if (parsed.scheme == TH_SCHEME_BASIC)
		rc = take_basic(access, host, scope, used, err);
	pthread_mutex_unlock(&access->mutex);
	return rc;
}
