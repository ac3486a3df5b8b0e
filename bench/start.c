/* The start of a container against the start floor. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <spawn.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "bench.h"

#define STARTS 15

static double now(void)
{
	struct timespec time;

	clock_gettime(CLOCK_MONOTONIC, &time);
	return (double)time.tv_sec + (double)time.tv_nsec / 1e9;
}

/* From the exec of the program to its end. */
static double measure(const char *const *args, char *const *env)
{
	posix_spawn_file_actions_t quiet;
	double begin;
	int status = 0, rc;
	pid_t pid;

	posix_spawn_file_actions_init(&quiet);
	posix_spawn_file_actions_addopen(&quiet, 1, "/dev/null", O_WRONLY, 0);
	begin = now();
	rc = posix_spawn(&pid, args[0], &quiet, NULL,
		(char *const *)(uintptr_t)args, env);
	posix_spawn_file_actions_destroy(&quiet);
	if (rc)
		return -1;
	while (waitpid(pid, &status, 0) < 0 && errno == EINTR)
		;
	/* What has failed is no measure of anything. */
	if (status) {
		fprintf(stderr, "bench: %s ended with status %d\n", args[0],
			status);
		exit(1);
	}
	return now() - begin;
}

/* Beside the compiled ones lie their rules as text. */
static void first_filter(const char *folder, char path[600])
{
	DIR *dir = opendir(folder);
	struct dirent *entry;

	path[0] = '\0';
	while (dir && (entry = readdir(dir))) {
		if (entry->d_name[0] != '.' && !strstr(entry->d_name, ".rules"))
			snprintf(path, 600, "%.250s/%.250s", folder,
				entry->d_name);
	}
	if (dir)
		closedir(dir);
}

static size_t all_entries(const char *folder, const char **list, size_t most)
{
	DIR *dir = opendir(folder);
	struct dirent *entry;
	size_t count = 0;
	char path[600];

	while (dir && (entry = readdir(dir)) && count < most) {
		/* Beside the trees lie notes on them. */
		if (entry->d_name[0] == '.' || entry->d_type == DT_REG)
			continue;
		snprintf(path, sizeof(path), "%.250s/%.250s", folder,
			entry->d_name);
		list[count++] = strdup(path);
	}
	if (dir)
		closedir(dir);
	return count;
}

#define AT_MOST(what)                                                          \
	(struct bound)                                                         \
	{                                                                      \
		what, false                                                    \
	}

#define LINES_MAX 5

/* All lines one after the other, many times in a round: the figures are the
 * rounds' medians, in milliseconds. */
static void measure_in_turns(const char *const *const *lines, size_t count,
	char *const *env, size_t rounds, double figures[LINES_MAX][ROUNDS_MAX])
{
	for (size_t r = 0; r < rounds; r++) {
		double times[LINES_MAX][STARTS];

		for (size_t i = 0; i < STARTS; i++) {
			for (size_t k = 0; k < count; k++)
				times[k][i] = measure(lines[k], env) * 1e3;
		}
		for (size_t k = 0; k < count; k++)
			figures[k][r] = bench_median(times[k], STARTS);
	}
}

/* On the network that everything is on, with a port; the floor makes the same
 * link. Another container keeps the network up, as the floor's bridge stays. */
static void measure_linked(const char *tool, const char *const *link,
	char *const *env, size_t rounds)
{
	const char *run[] = {tool, "run", "--port", "80", "selwick/base", "--",
		"/bin/true", NULL};
	const char *anchor[] = {tool, "launch", "-q", "selwick/base", "--name",
		"anchor", "--", "/bin/sleep", "10000", NULL};
	const char *away[] = {tool, "remove", "-q", "--force", "anchor", NULL};
	const char *const *const lines[] = {run, link};
	double figures[LINES_MAX][ROUNDS_MAX];

	measure(anchor, env);
	measure(run, env);
	measure_in_turns(lines, 2, env, rounds, figures);
	measure(away, env);
	bench_row("start: run --port 80, bench floor and a link", "ms",
		figures[0], figures[1], rounds, AT_MOST(2));
	bench_run("/", "ip link delete hullfloor");
}

static void measure_starts(const char *const *run, const char *const *bare,
	const char *const *lean, char *const *env, size_t rounds)
{
	const char *const *const lines[] = {run, bare, lean};
	double figures[LINES_MAX][ROUNDS_MAX];

	measure_in_turns(lines, 3, env, rounds, figures);
	bench_row("start: run --network none, bench floor", "ms", figures[0],
		figures[1], rounds, AT_MOST(2));
	bench_row("start: run --network none, lean floor", "ms", figures[0],
		figures[2], rounds, AT_MOST(3.5));
}

/* What is kept: made and taken away. */
static void measure_kept(const char *tool, char *const *env, size_t rounds)
{
	const char *create[] = {tool, "create", "-q", "selwick/base", "--name",
		"kept", "--network", "none", NULL};
	const char *launch[] = {tool, "launch", "-q", "selwick/base", "--name",
		"kept", "--network", "none", "--", "/bin/sleep", "1000", NULL};
	const char *away[] = {tool, "remove", "-q", "--force", "kept", NULL};
	const char *stop[] = {
		tool, "stop", "-q", "--grace", "0s", "kept", NULL};
	const char *const *const lines[] = {create, away, launch, stop, away};
	double figures[LINES_MAX][ROUNDS_MAX];

	measure_in_turns(lines, LINES_MAX, env, rounds, figures);
	bench_row("create, synced", "ms", figures[0], NULL, rounds, AT_MOST(0));
	bench_row("remove", "ms", figures[1], NULL, rounds, AT_MOST(0));
	bench_row("launch --network none, synced", "ms", figures[2], NULL,
		rounds, AT_MOST(0));
}

void bench_start(const char *build, const char *folder, size_t rounds)
{
	char tool[600], floor_path[600], images[700], store[300], scratch[300];
	char filter[600], filters[320], trees[320], set[400], lean_folder[300];
	char *env[] = {set, NULL};
	const char *run[] = {tool, "run", "--network", "none", "selwick/base",
		"--", "/bin/true", NULL};
	const char *unpack[] = {tool, "unpack", "--quiet", images, "--only",
		"selwick/base", NULL};
	const char *bare[40] = {floor_path, scratch, filter, "/bin/true"};
	const char *lean[41] = {
		floor_path, "lean", lean_folder, filter, "/bin/true"};

	snprintf(tool, sizeof(tool), "%.500s/tidyhull", build);
	snprintf(floor_path, sizeof(floor_path), "%.500s/floor", build);
	snprintf(images, sizeof(images), "%.500s/demo-images", build);
	snprintf(store, sizeof(store), "%.200s/start", folder);
	snprintf(scratch, sizeof(scratch), "%.200s/floor", folder);
	snprintf(lean_folder, sizeof(lean_folder), "%.200s/lean", folder);
	snprintf(filters, sizeof(filters), "%s/filters", store);
	snprintf(trees, sizeof(trees), "%s/trees", store);
	snprintf(set, sizeof(set), "TIDYHULL_ROOT=%s", store);
	mkdir(scratch, 0755);
	mkdir(lean_folder, 0755);
	if (!freopen("/dev/null", "r", stdin))
		return;
	measure(unpack, env);
	measure(run, env);
	first_filter(filters, filter);
	all_entries(trees, bare + 4, 30);
	memcpy(lean + 5, bare + 4, 30 * sizeof(*lean));
	measure_starts(run, bare, lean, env, rounds);
	memcpy(lean + 5, bare + 4, 30 * sizeof(*lean));
	lean[1] = "link";
	measure_linked(tool, lean, env, rounds);
	measure_kept(tool, env, rounds);
}
