#include "model/limit.h"

#include <inttypes.h>
#include <stddef.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "base/json.h"
#include "base/size.h"

#define MEMORY_LEAST (512 * 1024)

static int read_size(const char *text, int64_t *bytes)
{
	uint64_t size;

	if (strcmp(text, "none") == 0) {
		*bytes = -1;
		return 0;
	}
	if (th_size_parse(text, &size) || size < MEMORY_LEAST ||
		size > INT64_MAX)
		return -1;
	*bytes = (int64_t)size;
	return 0;
}

static int read_cpu(const char *text, int64_t *cpu_us)
{
	char *end;
	double count;

	if (strcmp(text, "none") == 0) {
		*cpu_us = -1;
		return 0;
	}
	count = strtod(text, &end);
	if (end == text || *end || !(count >= 0.01 && count <= 4096))
		return -1;
	*cpu_us = (int64_t)(count * TH_LIMIT_PERIOD_US + 0.5);
	return 0;
}

static int read_count(
	const char *text, int64_t least, int64_t most, int64_t *count)
{
	char *end;
	long long value;

	if (strcmp(text, "none") == 0) {
		*count = -1;
		return 0;
	}
	value = strtoll(text, &end, 10);
	if (end == text || *end || value < least || value > most)
		return -1;
	*count = value;
	return 0;
}

static int read_one(const char *word, struct th_limit *limit)
{
	const char *value = strchr(word, '=');
	size_t len = value ? (size_t)(value++ - word) : 0;

	if (!value)
		return -1;
	if (len == 6 && strncmp(word, "memory", len) == 0)
		return read_size(value, &limit->memory_bytes);
	if (len == 4 && strncmp(word, "swap", len) == 0)
		return read_size(value, &limit->swap_bytes);
	if (len == 3 && strncmp(word, "cpu", len) == 0)
		return read_cpu(value, &limit->cpu_us);
	if (len == 9 && strncmp(word, "processes", len) == 0)
		return read_count(value, 1, 4194304, &limit->processes);
	if (len == 2 && strncmp(word, "io", len) == 0)
		return read_count(value, 10, 1000, &limit->io_weight);
	return -1;
}

/* What each takes. */
static const struct part {
	const char *name, *takes, *example;
} parts[] = {{"memory", "bytes, with K, M or G, from 512K on", "256M"},
	{"swap", "bytes, with K, M or G, from 512K on", "1G"},
	{"cpu", "a number of CPUs from 0.01 on", "1.5"},
	{"processes", "a number from 1 on", "200"},
	{"io", "a weight from 10 to 1000", "300"}};

/* A value alone says what it limits: "100M", "1.5". */
static const char *limited_by(const char *value)
{
	uint64_t bytes;
	int64_t cpu_us;

	if (strchr(value, '.') && read_cpu(value, &cpu_us) == 0)
		return "cpu";
	return th_size_parse(value, &bytes) == 0 && bytes >= MEMORY_LEAST
		? "memory"
		: NULL;
}

/* Other words for what is limited. */
static const char *other_name(const char *word, size_t len)
{
	static const char *const others[][2] = {{"pids", "processes"},
		{"tasks", "processes"}, {"threads", "processes"},
		{"ram", "memory"}, {"cores", "cpu"}, {"processors", "cpu"},
		{"weight", "io"}, {"disk", "io"}};

	for (size_t i = 0; i < sizeof(others) / sizeof(*others); i++) {
		if (strlen(others[i][0]) == len &&
			strncasecmp(others[i][0], word, len) == 0)
			return others[i][1];
	}
	return NULL;
}

static int wrong(const char *word, struct th_error *err)
{
	size_t len = strcspn(word, "=:");
	const char *value = word[len] ? word + len + 1 : "";
	char whole[100];

	th_fail(err, TH_USAGE, "\"%.100s\" is not a limit", word);
	if (strchr(word, ' ') && strlen(word) < sizeof(whole)) {
		struct th_limit tried = {0};
		struct th_error none = {0}; /* a hint only */

		snprintf(whole, sizeof(whole), "%s", word);
		for (char *at = whole; *at; at++)
			*at = *at == ' ' ? ',' : *at;
		if (th_limit_parse(whole, &tried, &none) == 0)
			return th_hint(err, "it is: --limit %s", whole);
	}
	if (th_size_meant(value, whole))
		return th_hint(
			err, "it is: --limit %.*s=%s", (int)len, word, whole);
	if (!*value && limited_by(word))
		return th_hint(
			err, "it is: --limit %s=%s", limited_by(word), word);
	if (*value && other_name(word, len))
		return th_hint(err, "it is: --limit %s=%s",
			other_name(word, len), value);
	for (size_t i = 0; i < sizeof(parts) / sizeof(*parts); i++) {
		const struct part *part = &parts[i];

		/* A part of the name is enough to know what is meant. */
		if (len < 2 ||
			strncmp(part->name, word, len < 3 ? len : 3) != 0)
			continue;
		if (strlen(part->name) == len && word[len] != ':')
			return th_hint(err,
				"%s takes %s, or none: --limit %s=%s",
				part->name, part->takes, part->name,
				part->example);
		return th_hint(err, "it is: --limit %s=%.60s", part->name,
			*value ? value : part->example);
	}
	return th_hint(err,
		"for example --limit memory=256M,swap=1G,cpu=1.5,processes=200,"
		"io=300; none removes a limit");
}

int th_limit_parse(
	const char *text, struct th_limit *limit, struct th_error *err)
{
	char *copy = strdup(text), *rest = NULL;
	int rc = 0;

	if (!copy)
		return th_fail_memory(err);
	for (char *word = strtok_r(copy, ",", &rest); word && rc == 0;
		word = strtok_r(NULL, ",", &rest)) {
		if (read_one(word, limit)) {
			rc = wrong(word, err);
		}
	}
	if (rc == 0 && limit->swap_bytes > 0 && limit->memory_bytes <= 0) {
		rc = th_fail(
			err, TH_USAGE, "a swap limit needs a memory limit");
		th_hint(err, "for example --limit memory=256M,swap=1G");
	}
	free(copy);
	return rc;
}

static void add(char text[TH_LIMIT_TEXT], const char *name, const char *value)
{
	size_t used = strlen(text);

	snprintf(text + used, TH_LIMIT_TEXT - used, "%s%s=%s", used ? "," : "",
		name, value);
}

static void add_size(char text[TH_LIMIT_TEXT], const char *name, int64_t bytes)
{
	char value[TH_SIZE_EXACT];

	if (bytes <= 0)
		return;
	th_size_exact((uint64_t)bytes, value);
	add(text, name, value);
}

void th_limit_format(const struct th_limit *limit, char text[TH_LIMIT_TEXT])
{
	char value[32];

	text[0] = '\0';
	add_size(text, "memory", limit->memory_bytes);
	add_size(text, "swap", limit->swap_bytes);
	if (limit->cpu_us > 0) {
		snprintf(value, sizeof(value), "%g",
			(double)limit->cpu_us / TH_LIMIT_PERIOD_US);
		add(text, "cpu", value);
	}
	/* Not the same as none given: then there is a default. */
	if (limit->processes < 0)
		add(text, "processes", "none");
	if (limit->processes > 0) {
		snprintf(value, sizeof(value), "%" PRId64, limit->processes);
		add(text, "processes", value);
	}
	if (limit->io_weight > 0) {
		snprintf(value, sizeof(value), "%" PRId64, limit->io_weight);
		add(text, "io", value);
	}
}

/* ---- JSON ---- */

static const struct {
	const char *name;
	size_t offset;
} members[] = {{"memory", offsetof(struct th_limit, memory_bytes)},
	{"swap", offsetof(struct th_limit, swap_bytes)},
	{"cpu-us", offsetof(struct th_limit, cpu_us)},
	{"processes", offsetof(struct th_limit, processes)},
	{"io", offsetof(struct th_limit, io_weight)}};

#define MEMBERS (sizeof(members) / sizeof(*members))

json_t *th_limit_to_json(const struct th_limit *limit)
{
	json_t *doc = json_object();

	for (size_t i = 0; i < MEMBERS; i++) {
		int64_t value =
			*(const int64_t *)(const void *)((const char *)limit +
				members[i].offset);

		if (value)
			json_object_set_new(
				doc, members[i].name, json_integer(value));
	}
	return doc;
}

int th_limit_from_json(
	const json_t *doc, struct th_limit *limit, struct th_error *err)
{
	memset(limit, 0, sizeof(*limit));
	for (size_t i = 0; i < MEMBERS; i++) {
		int64_t *value =
			(int64_t *)(void *)((char *)limit + members[i].offset);

		if (th_json_int(doc, members[i].name, "a limit", value, err) <
			0)
			return -1;
	}
	return 0;
}
