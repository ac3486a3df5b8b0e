#include "cli/metering.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "cli/doc.h"

static bool counts(const json_t *one, const char *key)
{
	return json_is_integer(json_object_get(one, key));
}

static const json_t *of_id(const json_t *list, const char *id)
{
	const json_t *one;
	size_t i;

	json_array_foreach(list, i, one)
	{
		if (strcmp(doc_text(one, "id"), id) == 0)
			return one;
	}
	return NULL;
}

/* How much a counter has grown in a second; below 0 where that is not known. */
static double rate(const json_t *before, const json_t *now, const char *key)
{
	int64_t span =
		doc_number(now, "time-us") - doc_number(before, "time-us");
	int64_t grown = doc_number(now, key) - doc_number(before, key);

	if (!before || !counts(before, key) || !counts(now, key) || span <= 0 ||
		grown < 0)
		return -1;
	return (double)grown * 1e6 / (double)span;
}

static struct sample sample_of(const json_t *before, const json_t *now)
{
	struct sample sample;
	double cpu = rate(before, now, "cpu-us");

	/* Hundredths of a CPU's microseconds. */
	sample.of[CPU] = cpu < 0 ? -1 : cpu / 1e4;
	sample.of[MEMORY] =
		counts(now, "memory") ? (double)doc_number(now, "memory") : -1;
	sample.of[RECEIVED] = rate(before, now, "received");
	sample.of[SENT] = rate(before, now, "sent");
	sample.of[READ] = rate(before, now, "read");
	sample.of[WRITTEN] = rate(before, now, "written");
	return sample;
}

/* The history goes on from where it was. */
static void take_up(const struct metering *metering, struct metered *one,
	const struct sample *sample)
{
	for (size_t i = 0; i < metering->count; i++) {
		const struct metered *old = &metering->all[i];

		if (strcmp(old->id, one->id) != 0)
			continue;
		one->samples =
			old->samples < HISTORY ? old->samples + 1 : HISTORY;
		memcpy(one->past + 1, old->past,
			(one->samples - 1) * sizeof(*one->past));
	}
	if (!one->samples)
		one->samples = 1;
	one->past[0] = *sample;
}

int metering_read(struct invocation *call, struct metering *metering,
	struct th_error *err)
{
	struct metered *all;
	json_t *doc = NULL, *list, *one;
	size_t i;

	if (th_container_usage(call->hull, metering->names, &doc, err))
		return -1;
	list = json_incref(doc_part(doc, "containers"));
	json_decref(doc);
	all = calloc(json_array_size(list) + 1, sizeof(*all));
	if (!all) {
		json_decref(list);
		return th_fail_memory(err);
	}
	json_array_foreach(list, i, one)
	{
		const char *id = doc_text(one, "id");
		struct sample sample =
			sample_of(of_id(metering->list, id), one);

		snprintf(all[i].id, sizeof(all[i].id), "%s", id);
		all[i].now = one;
		take_up(metering, &all[i], &sample);
		json_object_set_new(one, "cpu-percent",
			sample.of[CPU] < 0 ? json_null()
					   : json_real(sample.of[CPU]));
	}
	json_decref(metering->list);
	free(metering->all);
	metering->list = list;
	metering->all = all;
	metering->count = json_array_size(list);
	metering_sort(metering, metering->sort);
	return 0;
}

void metering_release(struct metering *metering)
{
	json_decref(metering->names);
	json_decref(metering->list);
	free(metering->all);
}

/* ---- order ---- */

static int by_name(const void *a, const void *b)
{
	const struct metered *one = a, *other = b;

	return strcmp(doc_text(one->now, "name"), doc_text(other->now, "name"));
}

/* What a container takes of it in all: both ways of network and disks. */
static double weight(const struct metered *one, int figure)
{
	double sum = metered_now(one, (enum figure)figure);

	if (figure == RECEIVED || figure == READ)
		sum += metered_now(one, (enum figure)(figure + 1));
	return sum;
}

/* The most first. */
static int by_figure(const void *a, const void *b, void *figure)
{
	double one = weight(a, *(int *)figure);
	double other = weight(b, *(int *)figure);

	return one > other ? -1 : one < other ? 1 : by_name(a, b);
}

void metering_sort(struct metering *metering, int figure)
{
	metering->sort = figure;
	if (figure == FIGURES)
		qsort(metering->all, metering->count, sizeof(*metering->all),
			by_name);
	else
		qsort_r(metering->all, metering->count, sizeof(*metering->all),
			by_figure, &metering->sort);
}

/* ---- figures ---- */

double metered_now(const struct metered *one, enum figure figure)
{
	return one->samples ? one->past[0].of[figure] : -1;
}

double metered_most(const struct metered *one, enum figure figure, size_t of)
{
	double most = 0;

	for (size_t i = 0; i < one->samples && i < of; i++) {
		if (one->past[i].of[figure] > most)
			most = one->past[i].of[figure];
	}
	return most;
}

void figure_text(enum figure figure, double value, char text[SIZE_TEXT + 4])
{
	char size[SIZE_TEXT];

	if (value < 0) {
		snprintf(text, SIZE_TEXT + 4, "-");
		return;
	}
	if (figure == CPU) {
		snprintf(text, SIZE_TEXT + 4, "%.1f %%", value);
		return;
	}
	size_text((uint64_t)value, size);
	snprintf(text, SIZE_TEXT + 4, "%s%s", size,
		figure == MEMORY ? "" : "/s");
}

void meter_amount(const json_t *one, const char *key, char text[SIZE_TEXT])
{
	if (counts(one, key))
		size_text((uint64_t)doc_number(one, key), text);
	else
		snprintf(text, SIZE_TEXT, "-");
}

void meter_memory(const json_t *one, char text[64])
{
	bool limited = counts(one, "memory-limit");
	char used[SIZE_TEXT], limit[SIZE_TEXT];

	meter_amount(one, "memory", used);
	meter_amount(one, "memory-limit", limit);
	snprintf(text, 64, "%s%s%s", used, limited ? " of " : "",
		limited ? limit : "");
}

void meter_processes(const json_t *one, char text[48])
{
	long long processes = (long long)doc_number(one, "processes");

	if (counts(one, "processes-limit"))
		snprintf(text, 48, "%lld of %lld", processes,
			(long long)doc_number(one, "processes-limit"));
	else
		snprintf(text, 48, "%lld", processes);
}
