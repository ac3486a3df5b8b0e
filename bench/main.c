/* make bench: what things cost, as ratios against floors of the same run.
 *
 *   bench BUILD [ROUNDS [PART [JSON-FILE]]] */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "bench.h"

static bool is_part(const char *only, const char *name)
{
	return !*only || strcmp(only, "all") == 0 || strcmp(only, name) == 0;
}

int main(int argc, char **argv)
{
	char folder[] = "/var/tmp/hull-bench-XXXXXX";
	size_t rounds = argc > 2 ? (size_t)atoi(argv[2]) : 5;
	struct th_error err = {0};
	const char *only;
	int failed;

	if (argc < 2 || rounds < 1 || rounds > ROUNDS_MAX) {
		fputs("bench BUILD [ROUNDS [PART [JSON-FILE]]]\n", stderr);
		return 2;
	}
	if (!mkdtemp(folder)) {
		perror("bench");
		return 1;
	}
	setvbuf(stdout, NULL, _IOLBF, 4096);
	bench_table_begin();
	only = argc > 3 ? argv[3] : "";
	if (is_part(only, "start"))
		bench_start(argv[1], folder, rounds);
	if (is_part(only, "logs"))
		bench_logs(argv[1], folder, rounds);
	if (is_part(only, "growth"))
		bench_growing(argv[1], folder);
	if (is_part(only, "port"))
		bench_port(argv[1], folder, rounds);
	if (is_part(only, "build"))
		bench_build(argv[1], folder, rounds);
	if (is_part(only, "pull"))
		bench_pull(argv[1], folder, rounds);
	if (is_part(only, "crowd"))
		bench_crowd(argv[1], folder);
	if (is_part(only, "transfer"))
		bench_transfer(argv[1], folder, rounds);
	failed = bench_table_print();
	if (argc > 4 && bench_table_write(argv[4]))
		fprintf(stderr, "bench: cannot write %s\n", argv[4]);
	if (th_tree_remove(-100, folder, &err))
		fprintf(stderr, "bench: %s\n", err.msg);
	return failed ? 1 : 0;
}
