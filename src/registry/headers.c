#include "registry/headers.h"

#include <stdio.h>
#include <string.h>
#include <strings.h>
#include <time.h>

#define DIGITS "0123456789"
/* The characters of a token (RFC 9110, section 5.6.2). */
#define TOKEN                                                                  \
	"!#$%&'*+-.^_`|~" DIGITS                                               \
	"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
#define BLANK " \t"
#define DAY_US ((int64_t)86400 * 1000000)

bool th_number_parse(const char *text, uint64_t *number)
{
	size_t len = strspn(text, DIGITS);
	uint64_t value = 0;

	if (len == 0 || len > 18 || text[len])
		return false;
	for (size_t i = 0; i < len; i++)
		value = value * 10 + (uint64_t)(text[i] - '0');
	*number = value;
	return true;
}

/* ---- challenges ---- */

/* Reads a value, plain or quoted; where it does not fit it is left empty. */
static const char *read_value(const char *at, char *to, size_t size)
{
	size_t used = 0;

	if (*at != '"') {
		/* Some registries leave addresses without their quotes. */
		size_t len = strcspn(at, ", \t");

		if (to && len < size) {
			memcpy(to, at, len);
			to[len] = '\0';
		}
		return at + len;
	}
	for (at++; *at && *at != '"'; at++) {
		if (*at == '\\' && at[1])
			at++;
		if (used + 1 < size)
			to[used] = *at;
		used++;
	}
	if (to && size)
		to[used < size ? used : 0] = '\0';
	return *at ? at + 1 : at;
}

static const char *read_parameter(
	const char *at, size_t name_len, struct th_challenge *challenge)
{
	static const char *const names[] = {"realm", "service", "scope"};
	char *const to[] = {
		challenge->realm, challenge->service, challenge->scope};
	const size_t sizes[] = {sizeof(challenge->realm),
		sizeof(challenge->service), sizeof(challenge->scope)};
	const char *name = at;
	char ignored[1] = "";

	at += name_len;
	at += strspn(at, BLANK);
	at++; /* the equals sign */
	at += strspn(at, BLANK);
	for (size_t i = 0; i < 3; i++) {
		if (strlen(names[i]) == name_len &&
			strncasecmp(name, names[i], name_len) == 0)
			return read_value(at, to[i], sizes[i]);
	}
	return read_value(at, ignored, sizeof(ignored));
}

/* Whether an equals sign follows, so that the word is a parameter's name. */
static bool is_parameter(const char *at, size_t len)
{
	at += len;
	at += strspn(at, BLANK);
	return *at == '=' && at[1] != '=';
}

static void keep_better(
	const struct th_challenge *found, struct th_challenge *best)
{
	if (found->scheme == TH_SCHEME_BEARER && !found->realm[0])
		return;
	if (found->scheme > best->scheme)
		*best = *found;
}

void th_challenge_parse(const char *text, struct th_challenge *challenge)
{
	struct th_challenge now;

	memset(challenge, 0, sizeof(*challenge));
	memset(&now, 0, sizeof(now));
	while (*text) {
		size_t len;

		text += strspn(text, BLANK ",");
		len = strspn(text, TOKEN);
		if (len == 0) {
			text += *text != '\0';
			continue;
		}
		if (is_parameter(text, len)) {
			text = read_parameter(text, len, &now);
			continue;
		}
		keep_better(&now, challenge);
		memset(&now, 0, sizeof(now));
		if (len == 5 && strncasecmp(text, "Basic", 5) == 0)
			now.scheme = TH_SCHEME_BASIC;
		else if (len == 6 && strncasecmp(text, "Bearer", 6) == 0)
			now.scheme = TH_SCHEME_BEARER;
		text += len;
	}
	keep_better(&now, challenge);
}

/* ---- the others ---- */

/* "Sun, 06 Nov 1994 08:49:37 GMT": the one form that is written today. The
 * locale has no say in it. */
static bool read_date(const char *text, int64_t *when_us)
{
	static const char months[] = "JanFebMarAprMayJunJulAugSepOctNovDec";
	struct tm date = {0};
	char month[4] = "", zone[4] = "";
	const char *found;

	if (sscanf(text, "%*3[A-Za-z], %2d %3s %4d %2d:%2d:%2d %3s",
		    &date.tm_mday, month, &date.tm_year, &date.tm_hour,
		    &date.tm_min, &date.tm_sec, zone) != 7 ||
		strcmp(zone, "GMT") != 0 || strlen(month) != 3)
		return false;
	found = strstr(months, month);
	if (!found || (found - months) % 3 || date.tm_year < 1970)
		return false;
	date.tm_mon = (int)(found - months) / 3;
	date.tm_year -= 1900;
	*when_us = (int64_t)timegm(&date) * 1000000;
	return true;
}

bool th_retry_after_parse(const char *text, int64_t now_us, int64_t *wait_us)
{
	uint64_t seconds;
	int64_t when_us;

	if (th_number_parse(text, &seconds))
		*wait_us =
			seconds > 86400 ? DAY_US : (int64_t)seconds * 1000000;
	else if (read_date(text, &when_us))
		*wait_us = when_us > now_us ? when_us - now_us : 0;
	else
		return false;
	if (*wait_us > DAY_US)
		*wait_us = DAY_US;
	return true;
}

static bool read_span(
	const char *text, size_t len, uint64_t *first, uint64_t *last)
{
	char part[48], *dash;

	if (len >= sizeof(part))
		return false;
	memcpy(part, text, len);
	part[len] = '\0';
	dash = strchr(part, '-');
	if (!dash)
		return false;
	*dash = '\0';
	return th_number_parse(part, first) &&
		th_number_parse(dash + 1, last) && *first <= *last;
}

bool th_content_range_parse(const char *text, uint64_t *first, uint64_t *last)
{
	if (strncasecmp(text, "bytes ", 6) != 0)
		return false;
	text += 6;
	return read_span(text, strcspn(text, "/"), first, last);
}

bool th_upload_range_parse(const char *text, uint64_t *arrived)
{
	uint64_t first, last;

	/* Some write the unit, which the specification does not ask for. */
	if (strncasecmp(text, "bytes=", 6) == 0)
		text += 6;
	/* And some say "0-0" where nothing has arrived. */
	if (!read_span(text, strlen(text), &first, &last) || first != 0)
		return false;
	*arrived = last ? last + 1 : 0;
	return true;
}

bool th_link_next(const char *text, char *target, size_t size)
{
	while (*text) {
		const char *open = strchr(text, '<'), *close;
		size_t len, rest;

		close = open ? strchr(open, '>') : NULL;
		if (!close)
			return false;
		len = (size_t)(close - open - 1);
		rest = strcspn(close + 1, "<");
		if (len < size && len > 0) {
			char after[128];

			snprintf(after, sizeof(after), "%.*s",
				rest < 127 ? (int)rest : 127, close + 1);
			if (strstr(after, "rel=\"next\"") ||
				strstr(after, "rel=next")) {
				memcpy(target, open + 1, len);
				target[len] = '\0';
				return true;
			}
		}
		text = close + 1 + rest;
	}
	return false;
}

bool th_url_origin(const char *url, char *origin, size_t size)
{
	const char *host = strstr(url, "://");
	size_t len;

	if (!host)
		return false;
	len = (size_t)(host - url) + 3 + strcspn(host + 3, "/?#");
	/* What stands before an @ would be credentials, not a host. */
	if (len >= size || memchr(url, '@', len))
		return false;
	for (size_t i = 0; i < len; i++)
		origin[i] = url[i] >= 'A' && url[i] <= 'Z'
			? (char)(url[i] - 'A' + 'a')
			: url[i];
	origin[len] = '\0';
	return true;
}
