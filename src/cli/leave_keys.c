#include "cli/leave_keys.h"

#include <ctype.h>
#include <stdio.h>
#include <string.h>

static int wrong(const char *text, struct th_error *err)
{
	th_fail(err, TH_USAGE, "\"%.60s\" is not a sequence of keys", text);
	return th_hint(err,
		"separate keys by blanks, for example \"Ctrl-T l\" or "
		"\"Ctrl-] Ctrl-]\"; none turns them off");
}

int leave_keys_parse(
	const char *text, struct leave_keys *keys, struct th_error *err)
{
	char copy[65], *rest = NULL;

	memset(keys, 0, sizeof(*keys));
	if (strcmp(text, "none") == 0)
		return 0;
	if (!*text || strlen(text) >= sizeof(copy))
		return wrong(text, err);
	snprintf(copy, sizeof(copy), "%s", text);
	for (char *part = strtok_r(copy, " ", &rest); part;
		part = strtok_r(NULL, " ", &rest)) {
		char key = part[0];

		if (strncasecmp(part, "ctrl-", 5) == 0) {
			/* Ctrl with the keys from @ to _ of ASCII. */
			key = (char)toupper((unsigned char)part[5]);
			if (key < '@' || key > '_' || part[6])
				return wrong(text, err);
			key = (char)(key & 0x1f);
		} else if (part[1] || !isprint((unsigned char)key)) {
			return wrong(text, err);
		}
		if (keys->count == LEAVE_KEYS_MAX)
			return wrong(text, err);
		keys->keys[keys->count++] = key;
	}
	return keys->count ? 0 : wrong(text, err);
}

void leave_keys_text(const struct leave_keys *keys, char text[64])
{
	size_t used = 0;

	text[0] = '\0';
	for (size_t i = 0; i < keys->count; i++) {
		char key = keys->keys[i];

		snprintf(text + used, 64 - used, "%s%s%c", i ? " " : "",
			key < ' ' ? "Ctrl-" : "", key < ' ' ? key + '@' : key);
		used += strlen(text + used);
	}
}

bool leave_keys_take(struct leave_keys *keys, const char *typed, size_t len,
	char *out, size_t *out_len)
{
	*out_len = 0;
	for (size_t i = 0; i < len; i++) {
		if (!keys->count) {
			out[(*out_len)++] = typed[i];
			continue;
		}
		if (typed[i] != keys->keys[keys->seen]) {
			/* What was held back is the program's after all. */
			memcpy(out + *out_len, keys->keys, keys->seen);
			*out_len += keys->seen;
			keys->seen = 0;
		}
		if (typed[i] != keys->keys[keys->seen])
			out[(*out_len)++] = typed[i];
		else if (++keys->seen == keys->count)
			return true;
	}
	return false;
}
