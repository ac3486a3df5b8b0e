#include "chandler/login.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/random.h"
#include "chandler/chandler.h"

#define TOKENS_MAX 1024

struct token {
	char text[40];
	char scopes[1000]; /* with a space before and behind each */
	int64_t expires_us;
};

static pthread_mutex_t mutex = PTHREAD_MUTEX_INITIALIZER;
static struct token tokens[TOKENS_MAX];
static size_t next_token;

bool logins_open(struct logins *logins, const char *path)
{
	struct th_error err = {0};
	struct th_buf text;

	th_buf_init(&text, 65536);
	if (th_file_read(-100, path, &text, &err) != 1) {
		th_buf_release(&text);
		return false;
	}
	logins->text = th_buf_take(&text);
	return logins->text != NULL;
}

void logins_close(struct logins *logins)
{
	free(logins->text);
}

static bool is_known(const struct logins *logins, struct request *request)
{
	char *password = NULL, wanted[300];
	char *user = MHD_basic_auth_get_username_password(
		request->connection, &password);
	bool known = false;

	if (user && password && logins->text) {
		const char *at = logins->text;
		size_t len;

		snprintf(wanted, sizeof(wanted), "%.100s %.190s", user,
			password);
		for (; *at && !known; at += len + (at[len] == '\n')) {
			len = strcspn(at, "\n");
			known = len == strlen(wanted) &&
				strncmp(at, wanted, len) == 0;
		}
	}
	MHD_free(user);
	MHD_free(password);
	return known;
}

/* What the request needs: "repository:NAME:pull". */
static void needed_scope(const struct request *request, char scope[600])
{
	bool reads = strcmp(request->method, "GET") == 0 ||
		strcmp(request->method, "HEAD") == 0;

	if (strstr(request->path, "/_catalog"))
		snprintf(scope, 600, "registry:catalog:*");
	else if (!request->name[0])
		scope[0] = '\0';
	else
		snprintf(scope, 600, "repository:%s:%s", request->name,
			reads && strcmp(request->kind, "uploads") != 0
				? "pull"
				: "pull,push");
}

static bool has_action(
	const char *scopes, const char *needed, const char *action)
{
	const char *colon = strrchr(needed, ':');
	const char *found;
	char prefix[600];
	size_t len;

	snprintf(prefix, sizeof(prefix),
		" %.*s:", (int)(colon ? colon - needed : 0), needed);
	found = strstr(scopes, prefix);
	if (!found)
		return false;
	found += strlen(prefix);
	len = strcspn(found, " ");
	return memmem(found, len, action, strlen(action)) != NULL;
}

static bool token_allows(const char *text, const char *scope, bool one_use)
{
	const char *action = strrchr(scope, ':');
	bool allowed = false;

	pthread_mutex_lock(&mutex);
	for (size_t i = 0; i < TOKENS_MAX && !allowed; i++) {
		if (!tokens[i].text[0] || strcmp(tokens[i].text, text) != 0 ||
			tokens[i].expires_us < th_clock_now_us())
			continue;
		allowed = !*scope ||
			has_action(tokens[i].scopes, scope,
				strcmp(action + 1, "pull,push") == 0
					? "push"
					: action + 1);
		if (one_use)
			tokens[i].text[0] = '\0';
	}
	pthread_mutex_unlock(&mutex);
	return allowed;
}

static int challenge(struct request *request, const char *scope)
{
	const char *host = MHD_lookup_connection_value(
		request->connection, MHD_HEADER_KIND, "Host");
	const char *headers[] = {"WWW-Authenticate", NULL, NULL};
	char text[1200];

	if (request->chandler->logins.scheme == LOGIN_BASIC)
		snprintf(text, sizeof(text), "Basic realm=\"chandler\"");
	else
		snprintf(text, sizeof(text),
			"Bearer realm=\"http%s://%.200s/token\","
			"service=\"chandler\"%s%s%s",
			request->chandler->tls ? "s" : "", host ? host : "",
			*scope ? ",scope=\"" : "", scope, *scope ? "\"" : "");
	headers[1] = text;
	return reply_error(request, MHD_HTTP_UNAUTHORIZED, "UNAUTHORIZED",
		"login required", headers);
}

bool logins_allow(struct request *request, int *result)
{
	const struct logins *logins = &request->chandler->logins;
	const char *given = MHD_lookup_connection_value(
		request->connection, MHD_HEADER_KIND, "Authorization");
	char scope[600];

	needed_scope(request, scope);
	if (logins->scheme == LOGIN_NONE)
		return true;
	if (logins->open_pull && strstr(scope, ":pull") &&
		!strstr(scope, "push") && logins->scheme == LOGIN_BASIC)
		return true;
	if (logins->scheme == LOGIN_BASIC && is_known(logins, request))
		return true;
	if (logins->scheme == LOGIN_BEARER && given &&
		strncmp(given, "Bearer ", 7) == 0 &&
		token_allows(given + 7, scope, logins->one_use))
		return true;
	*result = challenge(request, scope);
	return false;
}

/* Which scopes were asked for; without a login only reading. */
struct granting {
	struct token *token;
	bool known;
};

static enum MHD_Result grant(void *owner, enum MHD_ValueKind kind,
	const char *key, const char *value)
{
	struct granting *granting = owner;
	char *scopes = granting->token->scopes;
	size_t used = strlen(scopes);

	(void)kind;
	if (strcmp(key, "scope") != 0 || !value)
		return MHD_YES;
	if (!granting->known && strstr(value, "push"))
		snprintf(scopes + used, sizeof(granting->token->scopes) - used,
			" %.*s:pull ", (int)(strrchr(value, ':') - value),
			value);
	else
		snprintf(scopes + used, sizeof(granting->token->scopes) - used,
			" %s ", value);
	return MHD_YES;
}

int logins_hand_token(struct request *request)
{
	const struct logins *logins = &request->chandler->logins;
	bool known = is_known(logins, request);
	bool tried = MHD_lookup_connection_value(request->connection,
			     MHD_HEADER_KIND, "Authorization") != NULL;
	struct token token = {.scopes = ""};
	struct granting granting = {&token, known};
	char text[200], id[TH_ID_LENGTH + 1];

	if (!known && (tried || !logins->open_pull))
		return reply_error(request, MHD_HTTP_UNAUTHORIZED,
			"UNAUTHORIZED", "unknown login", NULL);
	MHD_get_connection_values(
		request->connection, MHD_GET_ARGUMENT_KIND, grant, &granting);
	th_id_new(id);
	snprintf(token.text, sizeof(token.text), "t-%s", id);
	token.expires_us = th_clock_now_us() + logins->token_seconds * 1000000;
	pthread_mutex_lock(&mutex);
	tokens[next_token++ % TOKENS_MAX] = token;
	pthread_mutex_unlock(&mutex);
	snprintf(text, sizeof(text), "{\"token\":\"%s\",\"expires_in\":%ld}",
		token.text, logins->token_seconds);
	return reply(request, MHD_HTTP_OK, "application/json", text, NULL);
}
