/* What a probe is, and what its answers mean. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "model/probe.h"

#define SPAN_MAX_US ((int64_t)86400 * 1000000)

static int wrong(const char *text, const char *part, struct th_error *err)
{
	th_fail(err, TH_USAGE, "\"%.60s\" in the probe \"%.120s\" is not valid",
		part, text);
	return th_hint(err,
		"for example http:80/health, tcp:7070 or exec:CMD, with "
		",every=15s,limit=4,grace=30s,timeout=2s,accept=300-399");
}

/* "404" or "300-399". */
static bool take_accept(struct th_probe *probe, const char *text)
{
	struct th_status_range range;
	char *end;

	range.first = range.last = (int)strtol(text, &end, 10);
	if (end != text && *end == '-')
		range.last = (int)strtol(text = end + 1, &end, 10);
	if (end == text || *end || range.first < 100 || range.last > 599 ||
		range.first > range.last ||
		probe->accept_count == TH_PROBE_ACCEPT_MAX)
		return false;
	probe->accept[probe->accept_count++] = range;
	return true;
}

/* One of the settings that may follow the probe; false where it is none of
 * them, and so a part of the command. */
static bool take_setting(struct th_probe *probe, const char *part, bool *bad)
{
	static const char *const spans[] = {"every=", "grace=", "timeout="};
	int64_t *const places[] = {
		&probe->every_ms, &probe->grace_ms, &probe->timeout_ms};
	int64_t span_us;
	char *end;
	long limit;

	for (size_t i = 0; i < 3; i++) {
		size_t len = strlen(spans[i]);

		if (strncmp(part, spans[i], len) != 0)
			continue;
		*bad |= th_clock_parse_span(part + len, &span_us) ||
			span_us > SPAN_MAX_US || span_us < (i == 1 ? 0 : 1000);
		if (!*bad)
			*places[i] = span_us / 1000;
		return true;
	}
	if (strncmp(part, "accept=", 7) == 0) {
		*bad |= !take_accept(probe, part + 7);
		return true;
	}
	if (strncmp(part, "limit=", 6) != 0)
		return false;
	limit = strtol(part + 6, &end, 10);
	*bad |= end == part + 6 || *end || limit < 1 || limit > 1000;
	if (!*bad)
		probe->limit = (int)limit;
	return true;
}

/* Words at spaces; quotes of either kind hold a word together. */
static int split_command(
	const char *text, struct th_strings *words, struct th_error *err)
{
	char word[TH_PROBE_TEXT];

	while (*text) {
		size_t len = 0;
		char quote = '\0';

		text += strspn(text, " ");
		if (!*text)
			break;
		for (; *text && (quote || *text != ' '); text++) {
			if (quote ? *text == quote
				  : *text == '\'' || *text == '"')
				quote = quote ? '\0' : *text;
			else
				word[len++] = *text;
		}
		word[len] = '\0';
		if (quote)
			return -1;
		if (th_strings_add(words, word))
			return th_fail_memory(err);
	}
	return words->count ? 0 : -1;
}

static int take_target(struct th_probe *probe, const char *target, bool http)
{
	char *end;
	long port = strtol(target, &end, 10);

	if (end == target || port < 1 || port > 65535 ||
		(*end && (!http || *end != '/')) ||
		strlen(end) >= sizeof(probe->path))
		return -1;
	for (const char *at = end; *at; at++) {
		if (*at <= ' ' || *at == 0x7f)
			return -1;
	}
	probe->kind = http ? TH_PROBE_HTTP : TH_PROBE_TCP;
	probe->port = (int)port;
	snprintf(probe->path, sizeof(probe->path), "%s", *end ? end : "/");
	return 0;
}

int th_probe_parse(
	const char *text, struct th_probe *probe, struct th_error *err)
{
	char copy[TH_PROBE_TEXT], *comma;
	bool bad = false;
	int rc = -1;

	memset(probe, 0, sizeof(*probe));
	probe->every_ms = 15 * 1000;
	probe->timeout_ms = 2 * 1000;
	probe->grace_ms = 30 * 1000;
	probe->limit = 4;
	if (!*text)
		return 0;
	if (strlen(text) >= sizeof(copy))
		return wrong("...", "too long", err);
	snprintf(copy, sizeof(copy), "%s", text);
	/* From the end, as a command may hold commas itself. */
	while ((comma = strrchr(copy, ',')) &&
		take_setting(probe, comma + 1, &bad)) {
		if (bad)
			return wrong(text, comma + 1, err);
		*comma = '\0';
	}
	if (strncmp(copy, "http:", 5) == 0) {
		rc = take_target(probe, copy + 5, true);
	} else if (strncmp(copy, "tcp:", 4) == 0) {
		rc = take_target(probe, copy + 4, false);
	} else if (strncmp(copy, "exec:", 5) == 0) {
		probe->kind = TH_PROBE_EXEC;
		rc = split_command(copy + 5, &probe->command, err);
	}
	if (rc == 0 && probe->accept_count && probe->kind != TH_PROBE_HTTP)
		rc = wrong(text, "accept=", err);
	if (rc && !err->code)
		wrong(text, copy, err);
	if (rc)
		th_probe_release(probe);
	return rc;
}

bool th_probe_accepts(const struct th_probe *probe, int status)
{
	bool good = status >= 200 && status <= 299;

	for (size_t i = 0; i < probe->accept_count; i++)
		good |= status >= probe->accept[i].first &&
			status <= probe->accept[i].last;
	return good;
}

void th_probe_release(struct th_probe *probe)
{
	th_strings_release(&probe->command);
	probe->kind = TH_PROBE_NONE;
}

bool th_health_take(struct th_health *health, const struct th_probe *probe,
	bool good, int64_t since_start_ms)
{
	bool was_ready = health->ready, was_ailing = health->ailing;

	if (good) {
		health->failures = 0;
		health->ready = true;
		health->ailing = false;
	} else if (health->ready || since_start_ms >= probe->grace_ms) {
		health->failures++;
		if (health->failures >= probe->limit) {
			health->ready = false;
			health->ailing = true;
		}
	}
	return health->ready != was_ready || health->ailing != was_ailing;
}

const char *th_health_word(const struct th_health *health)
{
	return health->ailing ? "ailing" : health->ready ? "ready" : "warming";
}
