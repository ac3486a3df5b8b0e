/* Writing a log: a container against a program that reads the same pipe and
 * stamps each line as JSON. Reading it: as text, into a pipe and from its end.
 * Following it: how long a line takes from the program to the reader. */
#include <stdio.h>
#include <stdlib.h>

#include "bench.h"

#define LINE_BYTES 2600
#define MEGABYTES 200

static double run_line(const char *folder, const char *line)
{
	return bench_run(folder, line).seconds;
}

/* What the file in the folder says. */
static double read_number(const char *folder, const char *name)
{
	char path[300];
	double number = -1;
	FILE *file;

	snprintf(path, sizeof(path), "%.250s/%.40s", folder, name);
	file = fopen(path, "re");
	if (file && fscanf(file, "%lf", &number) != 1)
		number = -1;
	if (file)
		fclose(file);
	return number;
}

/* Lines that come one by one; and what waiting for none costs. */
static void follow(
	const char *build, const char *folder, const char *begin, size_t rounds)
{
	double delays[ROUNDS_MAX], costs[ROUNDS_MAX], looks[ROUNDS_MAX];
	char line[LINE_BYTES];

	for (size_t i = 0; i < rounds; i++) {
		snprintf(line, sizeof(line),
			"%s%.500s/tidyhull launch -q selwick/base --name "
			"ticker%zu --network none --mount "
			"/lines=%.500s/lines,ro -- /lines tick 200 >/dev/null; "
			"%.500s/tidyhull logs --follow ticker%zu | "
			"%.500s/lines delay >delay",
			begin, build, i, build, build, i, build);
		bench_run(folder, line);
		delays[i] = read_number(folder, "delay") / 1e3;
		snprintf(line, sizeof(line),
			"%s%.500s/tidyhull launch -q selwick/base --name "
			"silent%zu --network none -- sleep 1000 >/dev/null",
			begin, build, i);
		bench_run(folder, line);
		snprintf(line, sizeof(line),
			"%stimeout 2 %.500s/tidyhull logs --follow silent%zu; "
			"true",
			begin, build, i);
		costs[i] = 1e3 * bench_run(folder, line).cpu_seconds;
		snprintf(line, sizeof(line),
			"%stimeout 2 %.500s/tidyhull logs silent%zu; true",
			begin, build, i);
		looks[i] = 1e3 * bench_run(folder, line).cpu_seconds;
		snprintf(line, sizeof(line),
			"%s%.500s/tidyhull remove -q --force silent%zu", begin,
			build, i);
		bench_run(folder, line);
	}
	bench_row("log: followed, from the program to the reader", "ms", delays,
		NULL, rounds, (struct bound){5, false});
	bench_row("log: followed two idle seconds, processor", "ms", costs,
		looks, rounds, (struct bound){0, false});
}

void bench_logs(const char *build, const char *folder, size_t rounds)
{
	double writes[ROUNDS_MAX], floors[ROUNDS_MAX], reads[ROUNDS_MAX];
	double lasts[ROUNDS_MAX];
	char line[LINE_BYTES], begin[400];

	snprintf(begin, sizeof(begin), "export TIDYHULL_ROOT=%.150s/logs; ",
		folder);
	snprintf(line, sizeof(line),
		"%s%.500s/tidyhull unpack -q %.500s/demo-images --only "
		"selwick/base >/dev/null",
		begin, build, build);
	bench_run(folder, line);
	for (size_t i = 0; i < rounds; i++) {
		double begun, none;

		snprintf(line, sizeof(line),
			"%.500s/lines write %d | "
			"%.500s/lines stamp >stamped-%zu",
			build, MEGABYTES, build, i);
		floors[i] = MEGABYTES / run_line(folder, line);
		snprintf(line, sizeof(line),
			"%s%.500s/tidyhull create -q selwick/base --name "
			"writer%zu --network none --log size=1G --mount "
			"/lines=%.500s/lines,ro -- /lines write %d >/dev/null",
			begin, build, i, build, MEGABYTES);
		bench_run(folder, line);
		/* Beside what a start and a look at its end take. */
		snprintf(line, sizeof(line),
			"%s%.500s/tidyhull run -q --network none selwick/base "
			"-- /bin/true",
			begin, build);
		none = run_line(folder, line);
		snprintf(line, sizeof(line),
			"%s%.500s/tidyhull start -q writer%zu && "
			"%.500s/tidyhull wait writer%zu >/dev/null",
			begin, build, i, build, i);
		begun = run_line(folder, line);
		writes[i] = MEGABYTES / (begun - none);
		snprintf(line, sizeof(line),
			"%s%.500s/tidyhull logs writer%zu | cat >/dev/null",
			begin, build, i);
		reads[i] = MEGABYTES / run_line(folder, line);
		snprintf(line, sizeof(line),
			"%s%.500s/tidyhull logs --last 10 writer%zu >/dev/null",
			begin, build, i);
		lasts[i] = 1e3 * run_line(folder, line);
	}
	bench_row("log: writing, floor stamps as JSON", "MB/s", writes, floors,
		rounds, (struct bound){0.7, true});
	bench_row("log: reading, into a pipe", "MB/s", reads, NULL, rounds,
		(struct bound){200, true});
	bench_row("log: the last 10 lines of 200 MB", "ms", lasts, NULL, rounds,
		(struct bound){0, false});
	follow(build, folder, begin, rounds);
}
