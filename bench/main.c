/* make bench: what things cost, as ratios against floors of the same run.
 *
 *   bench BUILD [ROUNDS [start | port | build]] */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "bench.h"

int main(int argc, char **argv)
{
	char folder[] = "/var/tmp/hull-bench-XXXXXX";
	size_t rounds = argc > 2 ? (size_t)atoi(argv[2]) : 5;
	struct th_error err = {0};
	const char *only;

	if (argc < 2 || rounds < 1 || rounds > ROUNDS_MAX) {
		fputs("bench BUILD [ROUNDS]\n", stderr);
		return 2;
	}
	if (!mkdtemp(folder)) {
		perror("bench");
		return 1;
	}
	setvbuf(stdout, NULL, _IOLBF, 4096);
	only = argc > 3 ? argv[3] : "";
	if (!*only || strcmp(only, "start") == 0)
		bench_start(argv[1], folder);
	if (!*only || strcmp(only, "port") == 0)
		bench_port(argv[1], folder, rounds);
	if (!*only || strcmp(only, "build") == 0)
		bench_build(argv[1], folder, rounds);
	if (!*only)
		bench_pull(argv[1], folder, rounds);
	if (th_tree_remove(-100, folder, &err))
		fprintf(stderr, "bench: %s\n", err.msg);
	return 0;
}
