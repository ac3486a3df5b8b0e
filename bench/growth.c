/* What verbs take as containers grow in number, and what a keeper takes of the
 * memory. */
#include <dirent.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "bench.h"

#define LINE_BYTES 1600
#define TIMES 9
#define RUNNING 100

static char begin[400];

static double run_verb(
	const char *build, const char *folder, const char *arguments)
{
	return 1e3 * bench_run_tool(begin, build, folder, arguments).seconds;
}

static double median_of(
	const char *build, const char *folder, const char *arguments)
{
	double times[TIMES];

	for (size_t i = 0; i < TIMES; i++)
		times[i] = run_verb(build, folder, arguments);
	return bench_median(times, TIMES);
}

static void grow(const char *build, const char *folder)
{
	static const char *const verbs[] = {"list", "list --all", "show kept1",
		"why kept1", "sweep", "timeline kept1"};
	static const size_t numbers[] = {10, 100, 1000, 10000};
	double last[2] = {0, 0};
	char line[LINE_BYTES];
	size_t made = 0;

	for (size_t n = 0; n < 4; n++) {
		double took;

		snprintf(line, sizeof(line),
			"%sfor i in $(seq %zu %zu); do %.500s/tidyhull create "
			"-q selwick/base --network none --name kept$i "
			">/dev/null; done",
			begin, made + 1, numbers[n], build);
		took = 1e3 * bench_run(folder, line).seconds;
		bench_growth("create", numbers[n],
			took / (double)(numbers[n] - made));
		made = numbers[n];
		for (size_t v = 0; v < sizeof(verbs) / sizeof(*verbs); v++) {
			double time = median_of(build, folder, verbs[v]);

			bench_growth(verbs[v], made, time);
			if (v == 1 && n > 1)
				last[n - 2] = time;
		}
	}
	last[1] = (last[1] - last[0]) * 1e3 / 9000;
	bench_row("list --all: each row", "us", &last[1], NULL, 1,
		(struct bound){20, false});
}

/* Proportional: what several share counts for each by its part. */
static double pss_kib(const char *pid)
{
	char path[64], line[200];
	double kib = 0;
	FILE *file;

	snprintf(path, sizeof(path), "/proc/%.20s/smaps_rollup", pid);
	file = fopen(path, "re");
	while (file && fgets(line, sizeof(line), file))
		sscanf(line, "Pss: %lf", &kib);
	if (file)
		fclose(file);
	return kib;
}

static bool is_keeper_of(const char *pid, const char *root)
{
	char path[64], text[600] = "";
	FILE *file;
	size_t got;

	snprintf(path, sizeof(path), "/proc/%.20s/cmdline", pid);
	file = fopen(path, "re");
	if (!file)
		return false;
	got = fread(text, 1, sizeof(text) - 1, file);
	fclose(file);
	return got > 0 && strstr(text, "tidyhull-keeper") &&
		strcmp(text + strlen(text) + 1, root) == 0;
}

static double mean_keeper(const char *root)
{
	DIR *dir = opendir("/proc");
	struct dirent *entry;
	double all = 0;
	size_t count = 0;

	while (dir && (entry = readdir(dir))) {
		if (entry->d_name[0] < '1' || entry->d_name[0] > '9' ||
			!is_keeper_of(entry->d_name, root))
			continue;
		all += pss_kib(entry->d_name);
		count++;
	}
	if (dir)
		closedir(dir);
	return count ? all / (double)count : 0;
}

static void run_many(const char *build, const char *folder)
{
	char line[200], root[300];
	double kib;

	for (int i = 0; i < RUNNING; i++) {
		snprintf(line, sizeof(line),
			"launch -q selwick/base --network none --name runs%d "
			"-- sleep 10000",
			i);
		run_verb(build, folder, line);
	}
	/* Until they rest. */
	sleep(8);
	snprintf(root, sizeof(root), "%.250s/growth", folder);
	kib = mean_keeper(root);
	bench_row("keeper: proportional, 100 running", "KiB", &kib, NULL, 1,
		(struct bound){100, false});
	bench_growth("list, of 100 that run", RUNNING,
		median_of(build, folder, "list"));
	run_verb(build, folder, "remove -q --force --all --yes");
}

void bench_growing(const char *build, const char *folder)
{
	char line[200];

	snprintf(begin, sizeof(begin), "export TIDYHULL_ROOT=%.250s/growth; ",
		folder);
	snprintf(line, sizeof(line),
		"unpack -q %.120s/demo-images --only selwick/base", build);
	run_verb(build, folder, line);
	grow(build, folder);
	run_verb(build, folder, "remove -q --force --all --yes");
	run_many(build, folder);
}
