/* Running a command and measuring it. */
#include <stdio.h>
#include <stdlib.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "bench.h"

static double now(void)
{
	struct timespec time;

	clock_gettime(CLOCK_MONOTONIC, &time);
	return (double)time.tv_sec + (double)time.tv_nsec / 1e9;
}

struct run bench_run(const char *folder, const char *line)
{
	struct run run = {.code = -1};
	struct rusage usage;
	double begin = now();
	pid_t pid = fork();
	int status;

	if (pid == 0) {
		if (chdir(folder) == 0)
			execl("/bin/sh", "sh", "-c", line, (char *)NULL);
		_exit(127);
	}
	if (wait4(pid, &status, 0, &usage) == pid)
		run.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128;
	run.seconds = now() - begin;
	run.cpu_seconds = (double)usage.ru_utime.tv_sec +
		(double)usage.ru_stime.tv_sec +
		(double)(usage.ru_utime.tv_usec + usage.ru_stime.tv_usec) / 1e6;
	run.peak_kib = usage.ru_maxrss;
	if (run.code)
		fprintf(stderr, "bench: \"%s\" ended with code %d\n", line,
			run.code);
	return run;
}

struct run bench_run_tool(const char *begin, const char *build,
	const char *folder, const char *arguments)
{
	char line[2048];

	snprintf(line, sizeof(line), "%sexec %.500s/tidyhull %s >/dev/null",
		begin, build, arguments);
	return bench_run(folder, line);
}

static int compare(const void *a, const void *b)
{
	double one = *(const double *)a, two = *(const double *)b;

	return (one > two) - (one < two);
}

double bench_median(double *values, size_t count)
{
	qsort(values, count, sizeof(*values), compare);
	return count % 2 ? values[count / 2]
			 : (values[count / 2 - 1] + values[count / 2]) / 2;
}
