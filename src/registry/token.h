/* The document in which an authorization service hands out a token. */
#ifndef TH_REGISTRY_TOKEN_H
#define TH_REGISTRY_TOKEN_H

#include <stddef.h>
#include <stdint.h>

#include "base/error.h"

struct th_token {
	char *text; /* owned */
	int64_t expires_us;
};

/* Reads the document: "token" or "access_token", and how long it is good:
 * "expires_in" seconds (60 where not told) from now_us on, of which a little
 * is kept back for clocks and slow ways. The text must be fit for a header. */
int th_token_parse(const char *data, size_t len, int64_t now_us,
	struct th_token *token, struct th_error *err);
void th_token_release(struct th_token *token);

#endif
