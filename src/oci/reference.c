#include "oci/reference.h"

#include <ctype.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>

#define LOWER "abcdefghijklmnopqrstuvwxyz"
#define UPPER "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
#define DIGITS "0123456789"

static bool is_host(const char *part, size_t len)
{
	if (part[0] == '[')
		return true;
	if (len == 9 && strncmp(part, "localhost", 9) == 0)
		return true;
	return memchr(part, '.', len) || memchr(part, ':', len);
}

static bool host_valid(const char *host)
{
	const char *port = strrchr(host, ':');
	size_t len = port ? (size_t)(port - host) : strlen(host);

	if (host[0] == '[') {
		const char *end = strchr(host, ']');

		if (!end || end == host + 1 ||
			strspn(host + 1, DIGITS "abcdefABCDEF:.") !=
				(size_t)(end - host - 1))
			return false;
		port = end[1] == ':' ? end + 1 : NULL;
		if (end[1] && !port)
			return false;
	} else if (len == 0 || host[0] == '-' || host[0] == '.' ||
		strspn(host, LOWER UPPER DIGITS ".-") != len) {
		return false;
	}
	if (!port)
		return true;
	len = strlen(port + 1);
	return len > 0 && len <= 5 && strspn(port + 1, DIGITS) == len;
}

/* Parts of lower-case letters and digits; inside a part one dot, one or two
 * underscores, or any number of dashes may stand between them. */
static bool path_valid(const char *path)
{
	while (true) {
		size_t run = strspn(path, LOWER DIGITS);

		if (run == 0)
			return false;
		path += run;
		if (*path == '\0')
			return true;
		if (*path == '-')
			path += strspn(path, "-");
		else if (*path == '_')
			path += path[1] == '_' ? 2 : 1;
		else if (*path == '.' || *path == '/')
			path++;
		else
			return false;
	}
}

static bool tag_valid(const char *tag)
{
	size_t len = strlen(tag);

	return len > 0 && len <= 128 && *tag != '.' && *tag != '-' &&
		strspn(tag, LOWER UPPER DIGITS "_.-") == len;
}

static int take_digest(
	char *text, struct th_reference *ref, struct th_error *err)
{
	char *at = strchr(text, '@');

	if (!at)
		return 0;
	if (!th_digest_valid(at + 1)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a digest", at + 1);
		if (!strchr(at, ':'))
			return th_hint(err,
				"a tag stands behind a colon: %.*s:%.60s",
				(int)(at - text > 120 ? 120 : at - text), text,
				at + 1);
		return th_hint(err,
			"a digest is sha256: followed by 64 digits 0-9a-f, or "
			"sha512: followed by 128");
	}
	snprintf(ref->digest, sizeof(ref->digest), "%s", at + 1);
	*at = '\0';
	return 0;
}

static int take_host(char **text, struct th_reference *ref,
	const char *original, struct th_error *err)
{
	char *slash = strchr(*text, '/');
	size_t len;

	if (!slash || !is_host(*text, (size_t)(slash - *text)))
		return 0;
	len = (size_t)(slash - *text);
	if (len >= sizeof(ref->host))
		return th_fail(err, TH_USAGE,
			"the host in \"%.100s\" is too long", original);
	memcpy(ref->host, *text, len);
	ref->host[len] = '\0';
	if (!host_valid(ref->host))
		return th_fail(err, TH_USAGE,
			"\"%s\" in \"%.100s\" is not a host name with an "
			"optional port",
			ref->host, original);
	*text = slash + 1;
	return 0;
}

int th_reference_parse(
	const char *text, struct th_reference *ref, struct th_error *err)
{
	char copy[TH_REFERENCE_MAX], *rest = copy, *colon;
	size_t len = strlen(text);

	memset(ref, 0, sizeof(*ref));
	if (len == 0)
		return th_fail(err, TH_USAGE, "the name of the image is empty");
	if (len >= sizeof(copy))
		return th_fail(err, TH_USAGE,
			"the name of the image is longer than %d characters",
			TH_REFERENCE_MAX - 1);
	if (strstr(text, "://")) {
		th_fail(err, TH_USAGE,
			"\"%.100s\" is an address, not the name of an image",
			text);
		return th_hint(err,
			"leave out the part before the host: %.200s",
			strstr(text, "://") + 3);
	}
	memcpy(copy, text, len + 1);
	if (take_digest(copy, ref, err) || take_host(&rest, ref, text, err))
		return -1;
	colon = strchr(rest, ':');
	if (colon) {
		if (!tag_valid(colon + 1)) {
			th_fail(err, TH_USAGE,
				"\"%.100s\" in \"%.100s\" is not a tag",
				colon + 1, text);
			return th_hint(err,
				"tags have up to 128 letters, digits, dots, "
				"dashes and underscores");
		}
		memcpy(ref->tag, colon + 1, strlen(colon + 1) + 1);
		*colon = '\0';
	} else if (!ref->digest[0]) {
		memcpy(ref->tag, "latest", 7);
	}
	if (strlen(rest) >= sizeof(ref->path) || !path_valid(rest)) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not the name of an image",
			text);
		for (char *at = rest; *at; at++)
			*at = (char)tolower((unsigned char)*at);
		if (strlen(rest) < sizeof(ref->path) && path_valid(rest))
			th_hint(err, "in lower-case letters it is one: %.150s",
				rest);
		return th_hint(err,
			"names consist of lower-case letters and digits, with "
			"single dots, underscores, dashes or slashes in "
			"between");
	}
	memcpy(ref->path, rest, strlen(rest) + 1);
	return 0;
}

int th_host_check(const char *text, struct th_error *err)
{
	size_t len = strlen(text);

	if (len > 0 && len < sizeof(((struct th_reference *)0)->host) &&
		!strchr(text, '/') && is_host(text, len) && host_valid(text))
		return 0;
	th_fail(err, TH_USAGE, "\"%.100s\" is not the host of a registry",
		text);
	return th_hint(err,
		"use a name with a dot or a port: registry.example or "
		"localhost:5000; into a container: tidyhull enter NAME");
}

void th_reference_format(
	const struct th_reference *ref, char text[TH_REFERENCE_MAX + 256])
{
	snprintf(text, TH_REFERENCE_MAX + 256, "%s%s%s%s%s%s%s", ref->host,
		ref->host[0] ? "/" : "", ref->path, ref->tag[0] ? ":" : "",
		ref->tag, ref->digest[0] ? "@" : "", ref->digest);
}

const char *th_reference_wanted(const struct th_reference *ref)
{
	return ref->digest[0] ? ref->digest : ref->tag;
}
