#include "registry/token.h"

#include <stdlib.h>
#include <string.h>

#include "base/json.h"

#define WHERE "the token service's answer"
/* Tokens carry what they allow, and so may be long. */
#define TOKEN_BYTES_MAX (64 * 1024)
#define LIFE_SECONDS 60
#define LIFE_SECONDS_MAX (24 * 3600)

int th_token_parse(const char *data, size_t len, int64_t now_us,
	struct th_token *token, struct th_error *err)
{
	const char *text = NULL;
	int64_t life = 0;
	json_t *doc = NULL;
	int rc = -1;

	memset(token, 0, sizeof(*token));
	if (th_json_parse(data, len, WHERE, &doc, err))
		return -1;
	if (th_json_string(doc, "token", WHERE, &text, err) < 0)
		goto out;
	if ((!text || !*text) &&
		th_json_string(doc, "access_token", WHERE, &text, err) < 0)
		goto out;
	if (th_json_int(doc, "expires_in", WHERE, &life, err) < 0)
		goto out;
	if (!text || !*text) {
		th_fail(err, TH_NETWORK, WHERE " does not contain a token");
		goto out;
	}
	/* It goes into a header: a line end in it would begin another one. */
	for (const char *at = text; *at; at++) {
		if (*at <= ' ' || *at > '~') {
			th_fail(err, TH_NETWORK,
				WHERE " contains a token that cannot be sent");
			goto out;
		}
	}
	if (strlen(text) > TOKEN_BYTES_MAX) {
		th_fail(err, TH_NETWORK,
			WHERE " contains a token that is too long");
		goto out;
	}
	if (life < 1)
		life = LIFE_SECONDS;
	if (life > LIFE_SECONDS_MAX)
		life = LIFE_SECONDS_MAX;
	token->text = strdup(text);
	if (!token->text) {
		th_fail_memory(err);
		goto out;
	}
	token->expires_us = now_us + (life - life / 10) * 1000000;
	rc = 0;
out:
	json_decref(doc);
	return rc;
}

void th_token_release(struct th_token *token)
{
	free(token->text);
	token->text = NULL;
}
