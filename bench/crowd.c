/* Hundreds that run: what one more takes, and what it takes while all the
 * others end. */
#include <stdio.h>
#include <stdlib.h>
#include <sys/wait.h>
#include <unistd.h>

#include "bench.h"

#define CROWD 500
#define SOME 15

static char begin[400];

static struct run run_tool(
	const char *build, const char *folder, const char *arguments)
{
	return bench_run_tool(begin, build, folder, arguments);
}

/* The median of several starts, in milliseconds. */
static double newcomers(const char *build, const char *folder)
{
	double times[SOME];

	for (size_t i = 0; i < SOME; i++)
		times[i] = 1e3 *
			run_tool(build, folder,
				"run --network none selwick/base -- true")
				.seconds;
	return bench_median(times, SOME);
}

/* Launches so many; the median of the last ones, in milliseconds. */
static double launch_all(
	const char *build, const char *folder, const char *name, int count)
{
	double times[SOME];
	char line[200];

	for (int i = 0; i < count; i++) {
		snprintf(line, sizeof(line),
			"launch -q selwick/base --network none --name %s%d -- "
			"sleep 10000",
			name, i);
		times[i % SOME] = 1e3 * run_tool(build, folder, line).seconds;
	}
	return bench_median(times, SOME);
}

/* As many times as it can be measured until the others have ended. */
static void measure_stop(const char *build, const char *folder)
{
	double before = newcomers(build, folder), during[SOME];
	double floors[SOME];
	size_t count = 0;
	pid_t stop = fork();

	if (stop == 0)
		_exit(run_tool(build, folder, "stop --all --grace 1s").code);
	usleep(100000);
	while (count < SOME && waitpid(stop, NULL, WNOHANG) == 0) {
		floors[count] = before;
		during[count++] = 1e3 *
			run_tool(build, folder,
				"run --network none selwick/base -- true")
				.seconds;
	}
	/* The last one may have been at it when they had ended. */
	if (count > 1)
		bench_row("a start while 500 are stopped, against before", "ms",
			during, floors, count - 1, (struct bound){2, false});
	waitpid(stop, NULL, 0);
}

void bench_crowd(const char *build, const char *folder)
{
	double last, none;
	char line[200];

	snprintf(begin, sizeof(begin), "export TIDYHULL_ROOT=%.250s/crowd; ",
		folder);
	snprintf(line, sizeof(line),
		"unpack -q %.120s/demo-images --only selwick/base", build);
	run_tool(build, folder, line);
	last = launch_all(build, folder, "runs", CROWD);
	measure_stop(build, folder);
	/* The same store, with as many kept in it: a new one is faster, as
	 * there is less for the disk to sync. */
	none = launch_all(build, folder, "alone", SOME);
	bench_row("launch: beside 500 that run, against none", "ms", &last,
		&none, 1, (struct bound){1.2, false});
	run_tool(build, folder, "remove -q --force --all --yes");
}
