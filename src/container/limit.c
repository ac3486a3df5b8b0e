#include "container/limit.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "container/settings.h"

#define PERIOD_US 100000
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
	*cpu_us = (int64_t)(count * PERIOD_US + 0.5);
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
			rc = th_fail(err, TH_USAGE, "\"%.100s\" is not a limit",
				word);
			th_hint(err,
				"for example --limit "
				"memory=256M,swap=1G,cpu=1.5,processes=200,io="
				"300; none removes a limit");
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
	static const char units[] = "KMGT";
	char value[32];
	int unit = -1;

	if (bytes <= 0)
		return;
	while (bytes % 1024 == 0 && unit < 3) {
		bytes /= 1024;
		unit++;
	}
	snprintf(value, sizeof(value), "%" PRId64 "%.1s", bytes,
		unit < 0 ? "" : units + unit);
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
			(double)limit->cpu_us / PERIOD_US);
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

static json_t *part_of(json_t *resources, const char *name)
{
	json_t *part = json_object_get(resources, name);

	if (!part) {
		part = json_object();
		json_object_set_new(resources, name, part);
	}
	return part;
}

void th_limit_write(const struct th_limit *limit, json_t *resources)
{
	json_t *part;

	if (limit->memory_bytes) {
		part = part_of(resources, "memory");
		json_object_set_new(
			part, "limit", json_integer(limit->memory_bytes));
	}
	if (limit->swap_bytes) {
		/* The specification counts both together. */
		part = part_of(resources, "memory");
		json_object_set_new(part, "swap",
			json_integer(limit->swap_bytes < 0 ? -1
							   : limit->swap_bytes +
						limit->memory_bytes));
	}
	if (limit->cpu_us) {
		part = part_of(resources, "cpu");
		json_object_set_new(part, "period", json_integer(PERIOD_US));
		json_object_set_new(part, "quota", json_integer(limit->cpu_us));
	}
	if (limit->processes) {
		part = part_of(resources, "pids");
		json_object_set_new(
			part, "limit", json_integer(limit->processes));
	}
	if (limit->io_weight) {
		part = part_of(resources, "blockIO");
		json_object_set_new(part, "weight",
			json_integer(
				limit->io_weight < 0 ? 100 : limit->io_weight));
	}
}
