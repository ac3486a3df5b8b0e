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
 * nothing is known yet. */
char *th_access_header(
	struct th_access *access, const char *host, const char *scope);

/* A request was answered by 401 with this challenge, though it carried the
 * header used (or NULL). Asks the token service over http where one is named,
 * or takes the login. 1: try again with th_access_header; 0: there is nothing
 * to try; -1 with the error. secure: the registry is spoken to over TLS, so
 * that no credentials may go to a service that is not. */
int th_access_answer(struct th_access *access, struct th_http *http,
	const char *host, const char *scope, const char *used,
	const char *challenge, bool secure, struct th_error *err);

/* Whether there is a login for the host. */
bool th_access_has_login(const struct th_access *access, const char *host);

#endif
