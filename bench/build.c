/* Making images: a layer of 600 MB from what a container has written, against
 * tar piped into gzip; and 40 steps of which nothing has changed, against
 * reading and hashing what they put. */
#include <stdio.h>
#include <stdlib.h>

#include "bench.h"

#define LINE_BYTES 2048
#define MEGABYTES 600
#define STEPS 40
#define CACHED_ROUNDS 15

/* Half of it can be made smaller, as programs can, and half cannot. */
static void write_changes(const char *build, const char *folder)
{
	char line[LINE_BYTES];

	snprintf(line, sizeof(line),
		"export TIDYHULL_ROOT=%s/store; set -e; mkdir -p changes; "
		"for i in $(seq %d); do head -c 1000000 /dev/urandom "
		">changes/r$i; head -c 750000 /dev/urandom | base64 "
		">changes/t$i; done; "
		"%s/tidyhull unpack -q %s/demo-images >/dev/null; "
		"%s/tidyhull run selwick/base --name box --keep --network none "
		"--mount /src=%s/changes,ro -- cp -r /src /big; sync",
		folder, MEGABYTES / 2, build, build, build, folder);
	if (bench_run(folder, line).code)
		fputs("layer: the container could not be made\n", stdout);
}

static void bench_layer(const char *build, const char *folder, size_t rounds)
{
	double floors[ROUNDS_MAX], layers[ROUNDS_MAX], peak_mib;
	char line[LINE_BYTES];
	long peak_kib = 0;

	write_changes(build, folder);
	for (size_t i = 0; i < rounds; i++) {
		struct run run = bench_run(folder,
			"cd store/containers/*/upper && tar c . | gzip -1 "
			">../../../../floor.gz");

		floors[i] = run.seconds;
		snprintf(line, sizeof(line),
			"TIDYHULL_ROOT=%s/store %s/tidyhull capture -q box "
			"selwick/big:%zu >/dev/null",
			folder, build, i);
		run = bench_run(folder, line);
		if (run.code)
			fputs("layer: a capture failed\n", stdout);
		layers[i] = run.seconds;
		if (run.peak_kib > peak_kib)
			peak_kib = run.peak_kib;
	}
	bench_row("capture of 600 MB, floor tar | gzip -1", "s", layers, floors,
		rounds, (struct bound){0.5, false});
	peak_mib = (double)peak_kib / 1024;
	bench_row("capture: peak memory", "MiB", &peak_mib, NULL, 1,
		(struct bound){64, false});
}

static void write_recipe(const char *folder)
{
	char line[LINE_BYTES];

	snprintf(line, sizeof(line),
		"set -e; mkdir -p context; { echo 'image: selwick/steps'; echo "
		"'from: selwick/base'; echo 'steps:'; for i in $(seq %d); do "
		"head -c 20000 /dev/urandom >context/f$i; "
		"if [ $((i %% 2)) = 0 ]; then echo \"  - put: {/f$i: "
		"./f$i}\"; else echo \"  - do: echo $i > /d$i\"; echo '    "
		"network: none'; fi; done; } >context/steps.yaml",
		STEPS);
	bench_run(folder, line);
}

static void bench_cached(const char *build, const char *folder)
{
	double floors[CACHED_ROUNDS], builds[CACHED_ROUNDS];
	char line[LINE_BYTES];

	write_recipe(folder);
	snprintf(line, sizeof(line),
		"TIDYHULL_ROOT=%s/store %s/tidyhull build -q "
		"context/steps.yaml >/dev/null",
		folder, build);
	if (bench_run(folder, line).code)
		fputs("steps: the first build failed\n", stdout);
	for (size_t i = 0; i < CACHED_ROUNDS; i++) {
		floors[i] = bench_run(
			folder, "exec sha256sum context/f* >/dev/null")
				    .seconds;
		builds[i] = bench_run(folder, line).seconds;
	}
	for (size_t i = 0; i < CACHED_ROUNDS; i++)
		builds[i] = 1e3 * (builds[i] - floors[i]);
	bench_row("build: 40 steps, nothing changed, beyond hashing", "ms",
		builds, NULL, CACHED_ROUNDS, (struct bound){20, false});
}

void bench_build(const char *build, const char *folder, size_t rounds)
{
	bench_layer(build, folder, rounds);
	bench_cached(build, folder);
}
