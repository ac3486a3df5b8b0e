/* What the measurements share: running commands, and saying ratios. Every
 * figure is held against a floor that is taken in the same run, in turns, since
 * machines change their speed from minute to minute. */
#ifndef BENCH_H
#define BENCH_H

#include <stdbool.h>
#include <stddef.h>
#include <sys/types.h>

#define ROUNDS_MAX 15

struct run {
	double seconds; /* from start to end */
	double cpu_seconds;
	long peak_kib; /* memory of the largest process */
	int code;
};

/* Runs a line with sh in the folder. */
struct run bench_run(const char *folder, const char *line);
/* Runs the tool with these arguments, behind what the line begins with
 * (settings of its environment); its output goes nowhere. */
struct run bench_run_tool(const char *begin, const char *build,
	const char *folder, const char *arguments);
/* The middle of count values, which are sorted by it. */
double bench_median(double *values, size_t count);

/* ---- the table (table.c) ---- */

/* What a row is held against. */
struct bound {
	double value; /* of the ratio, or of the figure where there is no floor
		       */
	bool at_least; /* otherwise at most */
};

/* Before anything else. Rows come from child processes as well. */
void bench_table_begin(void);
/* A row: the figures of each round, and those of its floor in the same round
 * (NULL: none). Said at once, and once more at the end. The bound's value is 0
 * where nothing is promised. */
void bench_row(const char *name, const char *unit, const double *ours,
	const double *floors, size_t count, struct bound bound);
/* What a verb takes with so many of something there, in milliseconds. */
void bench_growth(const char *verb, size_t number, double milliseconds);
/* How many rows have no figure, as what they measure has failed. */
int bench_table_print(void);
/* All of it as JSON; -1 where the file cannot be written. */
int bench_table_write(const char *path);

/* ---- the measurements ---- */

/* Writes an image of six layers as an OCI image layout: some 650 MB, or small:
 * 30 MB in 30,000 files. */
void big_make(const char *folder, const char *name, bool small);
/* Serves a layout on loopback; option: NULL, or one more of its own. The
 * process is the caller's to end. */
pid_t bench_serve(
	const char *build, const char *layout, int *port, const char *option);

/* The measurements; each prints its own lines. build: where the programs are;
 * folder: an empty one for whatever is needed. */
void bench_pull(const char *build, const char *folder, size_t rounds);

/* crowd.c: hundreds that run, and that end at once. */
void bench_crowd(const char *build, const char *folder);

/* transfer.c: other pulls, a push, a packed file. */
void bench_transfer(const char *build, const char *folder, size_t rounds);

/* port.c: published ports against plain ones. */
void bench_port(const char *build, const char *folder, size_t rounds);

/* build.c: layers, and steps that are remembered. */
void bench_build(const char *build, const char *folder, size_t rounds);

/* start.c: run against the start floors. */
void bench_start(const char *build, const char *folder, size_t rounds);

/* logs.c: writing and reading a log. */
void bench_logs(const char *build, const char *folder, size_t rounds);

/* growth.c: what grows with the number of containers, and what a keeper takes.
 */
void bench_growing(const char *build, const char *folder);

#endif
