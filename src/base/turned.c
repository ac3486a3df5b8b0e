#include "base/turned.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

static bool is_port(const char *text, size_t len)
{
	return len && len < 12 && strspn(text, "0123456789-") >= len;
}

static bool turned_port(const char *text, char turned[TH_TURNED_TEXT])
{
	const char *inside = strrchr(text, ':');
	size_t len = inside ? (size_t)(inside - text) : 0, number;
	const char *protocol;
	size_t local;

	if (!inside || len > 100)
		return false;
	inside++;
	number = strcspn(inside, "/");
	protocol = strcmp(inside + number, "/udp") == 0 ? "/udp" : "";
	if (!is_port(inside, number))
		return false;
	/* An address may stand before the port outside, and that be empty. */
	local = strncmp(text, "localhost:", 10) == 0 ? 9 : 0;
	snprintf(turned, TH_TURNED_TEXT, "%.*s%s%s%.*s%s", (int)number, inside,
		len && text[len - 1] != ':' ? "=" : "",
		local ? "127.0.0.1" : "",
		len && text[len - 1] != ':' ? (int)(len - local) : 0,
		text + local, protocol);
	return strcspn(text, "=,@ ") == strlen(text);
}

bool th_turned_port(const char *text, char turned[TH_TURNED_TEXT])
{
	char copy[TH_TURNED_TEXT];
	size_t whole = strlen(text);

	/* "8080:80:tcp" */
	if (whole > 4 && whole < 100 &&
		(strcmp(text + whole - 4, ":tcp") == 0 ||
			strcmp(text + whole - 4, ":udp") == 0)) {
		snprintf(copy, sizeof(copy), "%.*s/%s", (int)whole - 4, text,
			text + whole - 3);
		return turned_port(copy, turned);
	}
	return turned_port(text, turned);
}

static bool is_name(const char *text, size_t len)
{
	for (size_t i = 0; i < len; i++) {
		if (text[i] == '/' || text[i] == '.' || text[i] == '~')
			return false;
	}
	return len > 0;
}

/* The value of one of the keys in "KEY=VALUE,KEY=VALUE"; its length, or 0. */
static size_t value_of(
	const char *text, const char *const *keys, const char **value)
{
	while (*text) {
		size_t part = strcspn(text, ",");

		for (size_t i = 0; keys[i]; i++) {
			size_t len = strlen(keys[i]);

			if (len < part && strncmp(text, keys[i], len) == 0 &&
				text[len] == '=') {
				*value = text + len + 1;
				return part - len - 1;
			}
		}
		text += part + (text[part] == ',');
	}
	return 0;
}

/* "source=./site,target=/srv". */
static bool turned_keys(const char *text, char turned[TH_TURNED_TEXT])
{
	static const char *const froms[] = {"source", "src", "from", NULL};
	static const char *const tos[] = {
		"target", "destination", "dst", "dest", "to", NULL};
	const char *from = NULL, *to = NULL;
	size_t from_len = value_of(text, froms, &from);
	size_t to_len = value_of(text, tos, &to);

	if (!from_len || !to_len || strlen(text) > 200)
		return false;
	snprintf(turned, TH_TURNED_TEXT, "%.*s=%s%.*s%s", (int)to_len, to,
		is_name(from, from_len) ? "volume:" : "", (int)from_len, from,
		strstr(text, "readonly") || strstr(text, ",ro") ? ",ro" : "");
	return true;
}

bool th_turned_mount(const char *text, char turned[TH_TURNED_TEXT])
{
	const char *at = strchr(text, ':'), *options;
	size_t len, inside;
	char name[TH_TURNED_TEXT];
	bool volume;

	if (turned_keys(text, turned))
		return true;
	/* "volume:data:/data" */
	if (strncmp(text, "volume:", 7) == 0 && at)
		at = strchr(at + 1, ':');
	if (!at || at[1] != '/')
		at = strstr(text, "=/");
	if (!at || at == text || strlen(text) > 200 ||
		(*at == '=' && text[0] == '/'))
		return false;
	len = (size_t)(at - text);
	snprintf(name, sizeof(name), "%.*s", (int)len, text);
	volume = is_name(text, len) && !memchr(text, ':', len) &&
		(*at == ':' || access(name, F_OK) != 0);
	inside = strcspn(at + 1, ":,");
	options = at + 1 + inside;
	options += *options != '\0';
	snprintf(turned, TH_TURNED_TEXT, "%.*s=%s%.*s%s%s", (int)inside, at + 1,
		volume ? "volume:" : "", (int)len, text,
		strcmp(options, "ro") == 0 ? "," : "",
		strcmp(options, "ro") == 0 ? "ro" : "");
	return true;
}
