/* What the measurements share: running commands, and saying ratios. Every
 * figure is held against a floor that is taken in the same run, in turns, since
 * machines change their speed from minute to minute. */
#ifndef BENCH_H
#define BENCH_H

#include <stddef.h>

#define ROUNDS_MAX 15

struct run {
	double seconds; /* from start to end */
	double cpu_seconds;
	long peak_kib; /* memory of the largest process */
	int code;
};

/* Runs a line with sh in the folder. */
struct run bench_run(const char *folder, const char *line);
/* The middle of count values, which are sorted by it. */
double bench_median(double *values, size_t count);

/* Writes an image of six layers and some 600 MB as an OCI image layout. */
void big_make(const char *folder, const char *name);

/* The measurements; each prints its own lines. build: where the programs are;
 * folder: an empty one for whatever is needed. */
void bench_pull(const char *build, const char *folder, size_t rounds);

/* port.c: published ports against plain ones. */
void bench_port(const char *build, const char *folder, size_t rounds);

/* build.c: layers, and steps that are remembered. */
void bench_build(const char *build, const char *folder, size_t rounds);

/* start.c: run against the start floor. */
void bench_start(const char *build, const char *folder);

#endif
