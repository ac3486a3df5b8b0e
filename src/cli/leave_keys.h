/* The keys that leave an attached program running. */
#ifndef CLI_LEAVE_KEYS_H
#define CLI_LEAVE_KEYS_H

#include <stdbool.h>
#include <stddef.h>

#include "base/error.h"

#define LEAVE_KEYS_DEFAULT "Ctrl-T l"
#define LEAVE_KEYS_MAX 8

struct leave_keys {
	char keys[LEAVE_KEYS_MAX];
	size_t count; /* 0: there are none */
	size_t seen; /* of them, at the end of what was typed */
};

/* Reads "Ctrl-T l", keys separated by blanks; "none" is none. TH_USAGE
 * otherwise. */
int leave_keys_parse(
	const char *text, struct leave_keys *keys, struct th_error *err);
/* Writes them in the same form. */
void leave_keys_text(const struct leave_keys *keys, char text[64]);
/* Takes what was typed. out (of len + LEAVE_KEYS_MAX bytes) gets what goes on
 * to the program: keys that may be the first of the sequence are held back
 * until it is clear that they are not. True where the sequence is complete. */
bool leave_keys_take(struct leave_keys *keys, const char *typed, size_t len,
	char *out, size_t *out_len);

#endif
