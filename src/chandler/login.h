/* Who may do what at chandler: basic logins, and tokens for them. */
#ifndef CHANDLER_LOGIN_H
#define CHANDLER_LOGIN_H

#include <stdbool.h>
#include <stddef.h>

struct request;

enum login_scheme { LOGIN_NONE, LOGIN_BASIC, LOGIN_BEARER };

struct logins {
	enum login_scheme scheme;
	char *text; /* the file: a line "NAME PASSWORD" for each; owned */
	bool open_pull; /* reading needs no login */
	long token_seconds;
	bool one_use; /* a token opens one request */
};

/* Reads the file; false where that fails. */
bool logins_open(struct logins *logins, const char *path);
void logins_close(struct logins *logins);

/* Whether the request may be done. Where not, it was answered, *result says
 * how. */
bool logins_allow(struct request *request, int *result);
/* Answers a request for a token. */
int logins_hand_token(struct request *request);

#endif
