/* Who may do what at a registry: turns logins and challenges into the
 * Authorization headers of requests. One for all threads of a command, so that
 * a token is asked for once and used by all. */
#ifndef TH_REGISTRY_ACCESS_H
#define TH_REGISTRY_ACCESS_H

#include <stdbool.h>

#include "registry/http.h"
#include "registry/logins.h"

struct th_access;

/* logins (borrowed) may be NULL. NULL without memory. */
struct th_access *th_access_new(const struct th_logins *logins);
void th_access_free(struct th_access *access);

/* What is known to open the scope ("repository:selwick/gauge:pull", several
 * with spaces between) at the host: a header line to be freed, or NULL where
 * nothing is known yet. It is for one request: a host whose tokens are good for
 * one only gets a new one, which is asked for over http. secure as below. */
int th_access_header(struct th_access *access, struct th_http *http,
	const char *host, const char *scope, bool secure, char **header,
	struct th_error *err);

/* A request was answered by 401 with this challenge, though it carried the
 * header used (or NULL). Asks the token service over http where one is named,
 * or takes the login. 1: try again with th_access_header; 0: there is nothing
 * to try; -1 with the error. secure: the registry is spoken to over TLS, so
 * that no credentials may go to a service that is not. */
int th_access_answer(struct th_access *access, struct th_http *http,
	const char *host, const char *scope, const char *used,
	const char *challenge, bool secure, struct th_error *err);

bool th_access_knows(
	struct th_access *access, const char *host, const char *scope);

/* An origin (headers.h) has asked for a pause: nobody who shares this sends it
 * anything before that. How long that is from now on. */
void th_access_hold(struct th_access *access, const char *origin, int64_t ms);
int64_t th_access_held_ms(struct th_access *access, const char *origin);

/* A host that asks for more patience than this (Retry-After) gets an end. */
#define TH_PATIENCE_US ((int64_t)60 * 1000000)

/* Whether there is a login for the host. */
bool th_access_has_login(const struct th_access *access, const char *host);

#endif
