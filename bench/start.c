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

#define STARTS 40

static double now(void)
{
	struct timespec time;

	clock_gettime(CLOCK_MONOTONIC, &time);
	return (double)time.tv_sec + (double)time.tv_nsec / 1e9;
}

/* From the exec of the program to its end. */
static double measure(const char *const *args, char *const *env)
{
	double begin = now();
	int status = 0;
	pid_t pid;

	if (posix_spawn(&pid, args[0], NULL, NULL,
		    (char *const *)(uintptr_t)args, env))
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

static void first_entry(const char *folder, char path[600])
{
	DIR *dir = opendir(folder);
	struct dirent *entry;

	path[0] = '\0';
	while (dir && (entry = readdir(dir))) {
		if (entry->d_name[0] != '.')
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

void bench_start(const char *build, const char *folder)
{
	char tool[600], floor_path[600], images[700], store[300], scratch[300];
	char filter[600], filters[320], trees[320], set[400];
	char *env[] = {set, NULL};
	const char *run[] = {tool, "run", "--network", "none", "selwick/base",
		"--", "/bin/true", NULL};
	const char *unpack[] = {tool, "unpack", "--quiet", images, "--only",
		"selwick/base", NULL};
	const char *bare[40] = {floor_path, scratch, filter, "/bin/true"};
	double ours[STARTS], floors[STARTS], one, two;

	snprintf(tool, sizeof(tool), "%.500s/tidyhull", build);
	snprintf(floor_path, sizeof(floor_path), "%.500s/floor", build);
	snprintf(images, sizeof(images), "%.500s/demo-images", build);
	snprintf(store, sizeof(store), "%.200s/start", folder);
	snprintf(scratch, sizeof(scratch), "%.200s/floor", folder);
	snprintf(filters, sizeof(filters), "%s/filters", store);
	snprintf(trees, sizeof(trees), "%s/trees", store);
	snprintf(set, sizeof(set), "TIDYHULL_ROOT=%s", store);
	mkdir(scratch, 0755);
	if (!freopen("/dev/null", "r", stdin))
		return;
	measure(unpack, env);
	measure(run, env);
	first_entry(filters, filter);
	all_entries(trees, bare + 4, 30);
	for (int i = 0; i < STARTS; i++) {
		ours[i] = measure(run, env);
		floors[i] = measure(bare, env);
	}
	one = bench_median(ours, STARTS);
	two = bench_median(floors, STARTS);
	printf("run --network none: %.2f ms, floor %.2f ms: %.2f x "
	       "(budget 3, %d starts each, in turns)\n",
		one * 1e3, two * 1e3, one / two, STARTS);
}
