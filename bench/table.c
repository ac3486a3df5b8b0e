/* The rows of all measurements, in memory that child processes share. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <time.h>

#include "bench.h"

#define ROWS_MAX 60
#define GROWTH_MAX 80
#define NAME_BYTES 64

struct row {
	char name[NAME_BYTES], unit[16];
	double ours, floor; /* medians */
	double ratio, low, high; /* of the rounds' ratios, or of ours */
	bool has_floor;
	bool failed; /* in some round there was nothing to measure */
	struct bound bound;
};

static struct table {
	struct row rows[ROWS_MAX];
	size_t count;
	struct {
		char verb[NAME_BYTES];
		size_t number;
		double milliseconds;
	} growth[GROWTH_MAX];
	size_t growth_count;
} * table;

void bench_table_begin(void)
{
	table = mmap(NULL, sizeof(*table), PROT_READ | PROT_WRITE,
		MAP_SHARED | MAP_ANONYMOUS, -1, 0);
	if (table == MAP_FAILED)
		abort();
}

static bool is_met(const struct row *row)
{
	return row->bound.at_least ? row->ratio >= row->bound.value
				   : row->ratio <= row->bound.value;
}

static void print_row(const struct row *row)
{
	char floor[32] = "", bound[32] = "";

	if (row->has_floor)
		snprintf(floor, sizeof(floor), "%.2f", row->floor);
	if (row->failed)
		snprintf(bound, sizeof(bound), "failed");
	else if (row->bound.value > 0)
		snprintf(bound, sizeof(bound), "%s %.2f %s",
			row->bound.at_least ? ">=" : "<=", row->bound.value,
			is_met(row) ? "met" : "not met");
	printf("%-44s %9.2f %9s %-8s %8.2f  %.2f to %.2f  %s\n", row->name,
		row->ours, floor, row->unit, row->ratio, row->low, row->high,
		bound);
}

void bench_row(const char *name, const char *unit, const double *ours,
	const double *floors, size_t count, struct bound bound)
{
	struct row *row = &table->rows[table->count];
	double *ratios = calloc(3 * count, sizeof(*ratios));

	if (!ratios || !count || table->count == ROWS_MAX)
		abort();
	for (size_t i = 0; i < count; i++) {
		ratios[i] = floors ? ours[i] / floors[i] : ours[i];
		row->failed |= floors && (ours[i] <= 0 || floors[i] <= 0);
		ratios[count + i] = ours[i];
		ratios[2 * count + i] = floors ? floors[i] : 0;
	}
	snprintf(row->name, sizeof(row->name), "%s", name);
	snprintf(row->unit, sizeof(row->unit), "%s", unit);
	row->has_floor = floors;
	row->bound = bound;
	row->ratio = bench_median(ratios, count);
	row->low = ratios[0];
	row->high = ratios[count - 1];
	row->ours = bench_median(ratios + count, count);
	row->floor = bench_median(ratios + 2 * count, count);
	free(ratios);
	table->count++;
	print_row(row);
}

void bench_growth(const char *verb, size_t number, double milliseconds)
{
	if (table->growth_count == GROWTH_MAX)
		abort();
	snprintf(table->growth[table->growth_count].verb, NAME_BYTES, "%s",
		verb);
	table->growth[table->growth_count].number = number;
	table->growth[table->growth_count++].milliseconds = milliseconds;
	printf("  %-30s with %5zu: %8.2f ms\n", verb, number, milliseconds);
}

int bench_table_print(void)
{
	int failed = 0;

	printf("\n%-44s %9s %9s %-8s %8s  %s\n", "", "ours", "floor", "unit",
		"ratio", "spread of the ratio, budget");
	for (size_t i = 0; i < table->count; i++) {
		print_row(&table->rows[i]);
		failed += table->rows[i].failed;
	}
	return failed;
}

int bench_table_write(const char *path)
{
	json_t *rows = json_array(), *growth = json_array(), *doc;
	int rc;

	for (size_t i = 0; i < table->count; i++) {
		const struct row *row = &table->rows[i];

		json_array_append_new(rows,
			json_pack("{s:s s:s s:f s:o s:f s:f s:f s:o s:b}",
				"name", row->name, "unit", row->unit, "ours",
				row->ours, "floor",
				row->has_floor ? json_real(row->floor)
					       : json_null(),
				"ratio", row->ratio, "lowest", row->low,
				"highest", row->high, "budget",
				row->bound.value > 0
					? json_real(row->bound.value)
					: json_null(),
				"at-least", (int)row->bound.at_least));
	}
	for (size_t i = 0; i < table->growth_count; i++)
		json_array_append_new(growth,
			json_pack("{s:s s:I s:f}", "verb",
				table->growth[i].verb, "number",
				(json_int_t)table->growth[i].number, "ms",
				table->growth[i].milliseconds));
	doc = json_pack("{s:I s:o s:o}", "time", (json_int_t)time(NULL), "rows",
		rows, "growth", growth);
	rc = json_dump_file(doc, path, JSON_INDENT(1) | JSON_REAL_PRECISION(5));
	json_decref(doc);
	return rc;
}
