/* What a probe is, and what its answers mean. */
#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/json.h"
#include "model/probe.h"

#define LIMIT 4
#define LIMIT_MAX 1000
#define SPAN_MAX_US ((int64_t)86400 * 1000000)

static const struct th_probe usual = {.every_ms = 15 * 1000,
	.timeout_ms = 2 * 1000,
	.grace_ms = 30 * 1000,
	.limit = LIMIT};

/* An address as a browser takes it, a path, a port, or a command. */
static bool find_meant(const char *text, char meant[TH_PROBE_TEXT])
{
	const char *at = strstr(text, "://"), *path;
	const char *from = at ? at + 3 : text;
	int port = strncmp(text, "https", 5) == 0 ? 443 : 80;
	size_t len;

	if (strchr(text, ' ')) {
		snprintf(meant, TH_PROBE_TEXT, "'exec:%.200s'", text);
		return !strpbrk(text, "'\"");
	}
	/* A path of the usual port, a program's path, a command's name. */
	if (!at && text[0] == '/') {
		bool program = strncmp(text, "/bin/", 5) == 0 ||
			strncmp(text, "/usr/", 5) == 0;

		snprintf(meant, TH_PROBE_TEXT, "%s%.200s",
			program ? "exec:" : "http:80", text);
		return true;
	}
	if (isalpha((unsigned char)text[0]) && strcmp(text, "http") != 0 &&
		strcmp(text, "tcp") != 0 &&
		text[strspn(text, "abcdefghijklmnopqrstuvwxyz-_")] == '\0' &&
		strcmp(text, "localhost") != 0) {
		snprintf(meant, TH_PROBE_TEXT, "exec:%.200s", text);
		return true;
	}
	if (!at && strchr(text, '=') == NULL && isdigit((unsigned char)*text)) {
		len = strspn(text, "0123456789");
		snprintf(meant, TH_PROBE_TEXT, "%s:%.200s",
			text[len] ? "http" : "tcp", text);
		return !text[len] || text[len] == '/';
	}
	if (!at && strncmp(text, "localhost", 9) != 0 && text[0] != ':')
		return false;
	path = from + strcspn(from, "/");
	at = memchr(from, ':', (size_t)(path - from));
	if (at && at[1])
		port = (int)strtol(at + 1, NULL, 10);
	/* Without a key for TLS it is only seen whether somebody answers. */
	if (strncmp(text, "https", 5) == 0)
		snprintf(meant, TH_PROBE_TEXT, "tcp:%d", port);
	else
		snprintf(meant, TH_PROBE_TEXT, "http:%d%.200s", port, path);
	return port > 0 && port < 65536;
}

static int wrong(const char *text, const char *part, struct th_error *err)
{
	char meant[TH_PROBE_TEXT];

	th_fail(err, TH_USAGE, "\"%.60s\" in the probe \"%.120s\" is not valid",
		part, text);
	if (strcmp(part, text) == 0 && find_meant(text, meant))
		return th_hint(err, "it is: --probe %s", meant);
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
	*bad |= end == part + 6 || *end || limit < 1 || limit > LIMIT_MAX;
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

/* True where the text after a comma would be read as a setting. */
static bool is_like_setting(const char *text)
{
	static const char *const names[] = {
		"every=", "grace=", "timeout=", "accept=", "limit="};

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++) {
		if (strncmp(text, names[i], strlen(names[i])) == 0)
			return true;
	}
	return false;
}

/* Settings in a command that is not quoted: one behind them is not known, or
 * they would have been taken. */
static bool holds_settings(const char *command)
{
	char quote = '\0';

	for (; *command; command++) {
		if (quote ? *command == quote
			  : *command == '\'' || *command == '"')
			quote = quote ? '\0' : *command;
		else if (!quote && *command == ',' &&
			is_like_setting(command + 1))
			return true;
	}
	return false;
}

int th_probe_parse(
	const char *text, struct th_probe *probe, struct th_error *err)
{
	char copy[TH_PROBE_TEXT], *comma;
	bool bad = false;
	int rc = -1;

	*probe = usual;
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
		if (holds_settings(copy + 5))
			return wrong(text, strrchr(copy, ',') + 1, err);
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

/* ---- and back ---- */

/* How much of the word can stand in the quotes: to the next quote of the same
 * kind, or to a comma that must not stand before a setting. */
static size_t quoted_length(const char *word, char quote)
{
	size_t len = 0;

	while (word[len] && word[len] != quote) {
		if (word[len++] == ',' && is_like_setting(word + len))
			break;
	}
	return len;
}

/* A word of a command so that split_command() makes the same of it. */
static void add_word(struct th_buf *text, const char *word)
{
	if (*word && !strpbrk(word, " '\",")) {
		th_buf_adds(text, word);
		return;
	}
	/* Runs without quotes of one kind in quotes of the other. */
	do {
		char quote = *word && *word != '\'' ? '\'' : '"';
		size_t run = quoted_length(word, quote);

		th_buf_addf(text, "%c%.*s%c", quote, (int)run, word, quote);
		word += run;
	} while (*word);
}

static void add_target(struct th_buf *text, const struct th_probe *probe)
{
	if (probe->kind == TH_PROBE_TCP)
		th_buf_addf(text, "tcp:%d", probe->port);
	if (probe->kind == TH_PROBE_HTTP)
		th_buf_addf(text, "http:%d%s", probe->port,
			strcmp(probe->path, "/") == 0 ? "" : probe->path);
	if (probe->kind != TH_PROBE_EXEC)
		return;
	th_buf_adds(text, "exec:");
	for (size_t i = 0; i < probe->command.count; i++) {
		th_buf_adds(text, i ? " " : "");
		add_word(text, probe->command.items[i]);
	}
}

static void add_span(struct th_buf *text, const char *name, int64_t span_ms,
	int64_t usual_ms)
{
	char span[TH_TIME_TEXT];

	if (span_ms == usual_ms)
		return;
	th_clock_exact_span(span_ms, span);
	th_buf_addf(text, ",%s=%s", name, span);
}

char *th_probe_format(const struct th_probe *probe)
{
	struct th_buf text;
	char *taken;

	if (probe->kind == TH_PROBE_NONE)
		return strdup("");
	th_buf_init(&text, 8 * TH_PROBE_TEXT);
	add_target(&text, probe);
	add_span(&text, "every", probe->every_ms, usual.every_ms);
	add_span(&text, "timeout", probe->timeout_ms, usual.timeout_ms);
	add_span(&text, "grace", probe->grace_ms, usual.grace_ms);
	if (probe->limit != usual.limit)
		th_buf_addf(&text, ",limit=%d", probe->limit);
	/* Read from the end, so that the first one comes last. */
	for (size_t i = probe->accept_count; i > 0; i--) {
		const struct th_status_range *range = &probe->accept[i - 1];

		th_buf_addf(&text, ",accept=%d-%d", range->first, range->last);
	}
	taken = th_buf_take(&text);
	th_buf_release(&text);
	return taken;
}

static const char *const kinds[] = {[TH_PROBE_NONE] = "none",
	[TH_PROBE_TCP] = "tcp",
	[TH_PROBE_HTTP] = "http",
	[TH_PROBE_EXEC] = "exec"};

json_t *th_probe_to_json(const struct th_probe *probe)
{
	json_t *accept = json_array();

	for (size_t i = 0; i < probe->accept_count; i++)
		json_array_append_new(accept,
			json_pack("[i i]", probe->accept[i].first,
				probe->accept[i].last));
	return json_pack("{s:s s:i s:s s:o s:I s:I s:I s:i s:o}", "kind",
		kinds[probe->kind], "port", probe->port, "path", probe->path,
		"command", th_json_from_strings(&probe->command), "every-ms",
		(json_int_t)probe->every_ms, "timeout-ms",
		(json_int_t)probe->timeout_ms, "grace-ms",
		(json_int_t)probe->grace_ms, "limit", probe->limit, "accept",
		accept);
}

static int read_accept(
	const json_t *doc, struct th_probe *probe, struct th_error *err)
{
	json_t *list = NULL, *one;
	size_t i;

	if (th_json_array(doc, "accept", "a probe", &list, err) < 0)
		return -1;
	json_array_foreach(list, i, one)
	{
		struct th_status_range *range =
			&probe->accept[probe->accept_count];

		if (probe->accept_count == TH_PROBE_ACCEPT_MAX ||
			json_array_size(one) != 2)
			return th_fail(err, TH_FAILED, "a probe is not valid");
		range->first = (int)json_integer_value(json_array_get(one, 0));
		range->last = (int)json_integer_value(json_array_get(one, 1));
		probe->accept_count++;
	}
	return 0;
}

static int read_probe(
	const json_t *doc, struct th_probe *probe, struct th_error *err)
{
	static const char what[] = "a probe";
	const char *kind = NULL, *path = NULL;
	int64_t port = 0, limit = LIMIT;
	size_t number = 0;

	if (th_json_string(doc, "kind", what, &kind, err) < 0 ||
		th_json_string(doc, "path", what, &path, err) < 0 ||
		th_json_int(doc, "port", what, &port, err) < 0 ||
		th_json_int(doc, "limit", what, &limit, err) < 0 ||
		th_json_int(doc, "every-ms", what, &probe->every_ms, err) < 0 ||
		th_json_int(doc, "timeout-ms", what, &probe->timeout_ms, err) <
			0 ||
		th_json_int(doc, "grace-ms", what, &probe->grace_ms, err) < 0 ||
		th_json_strings(doc, "command", what, &probe->command, err) <
			0 ||
		read_accept(doc, probe, err))
		return -1;
	while (number <= TH_PROBE_EXEC &&
		strcmp(kind ? kind : "", kinds[number]) != 0)
		number++;
	if (number > TH_PROBE_EXEC || port < 0 || port > 65535 || limit < 1 ||
		limit > LIMIT_MAX || probe->every_ms < 1 ||
		probe->timeout_ms < 1 || probe->grace_ms < 0 ||
		strlen(path ? path : "") >= sizeof(probe->path) ||
		(number == TH_PROBE_EXEC && !probe->command.count))
		return th_fail(err, TH_FAILED, "%s is not valid", what);
	probe->kind = (enum th_probe_kind)number;
	probe->port = (int)port;
	probe->limit = (int)limit;
	snprintf(probe->path, sizeof(probe->path), "%s", path ? path : "");
	return 0;
}

int th_probe_from_json(
	const json_t *doc, struct th_probe *probe, struct th_error *err)
{
	int rc;

	*probe = usual;
	rc = read_probe(doc, probe, err);
	if (rc)
		th_probe_release(probe);
	return rc;
}

/* ---- what answers mean ---- */

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
