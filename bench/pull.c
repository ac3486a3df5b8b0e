/* A pull over loopback, both digests checked and unpacked, against curl piped
 * into tar, layer by layer, which checks nothing. What was unpacked stays to
 * the end: a file system that has just removed much is slow for a while. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "bench.h"

#define LINE_BYTES 4096

pid_t bench_serve(
	const char *build, const char *layout, int *port, const char *option)
{
	char program[600], line[128] = "";
	int pair[2];
	FILE *out;
	pid_t pid;

	snprintf(program, sizeof(program), "%s/chandler", build);
	if (pipe(pair))
		abort();
	pid = fork();
	if (pid == 0) {
		dup2(pair[1], 1);
		close(pair[0]);
		close(pair[1]);
		execl(program, "chandler", layout, option, (char *)NULL);
		_exit(127);
	}
	close(pair[1]);
	out = fdopen(pair[0], "r");
	if (!out || !fgets(line, sizeof(line), out))
		abort();
	fclose(out);
	*port = atoi(strrchr(line, ':') + 1);
	return pid;
}

/* One line for each layer, the lowest first. */
static void floor_line(const char *folder, int port, char line[LINE_BYTES])
{
	snprintf(line, LINE_BYTES,
		"set -e; n=$1; mkdir floor-$n; python3 -c \"\n"
		"import json\n"
		"m=json.load(open('%s/layout/index.json'))['manifests'][0]\n"
		"m=json.load(open('%s/layout/blobs/sha256/'+m['digest'][7:]))\n"
		"print('\\n'.join(l['digest'] for l in m['layers']))\" "
		">digests; "
		"while read d; do curl -s "
		"http://127.0.0.1:%d/v2/selwick/mainland/blobs/$d | "
		"tar -xzf - -C floor-$n; done <digests",
		folder, folder, port);
}

void bench_pull(const char *build, const char *folder, size_t rounds)
{
	double floors[ROUNDS_MAX], pulls[ROUNDS_MAX], peak_mib;
	char layout[700], base[LINE_BYTES], line[LINE_BYTES + 100];
	long peak_kib = 0;
	pid_t server;
	int port;

	snprintf(layout, sizeof(layout), "%s/layout", folder);
	fputs("pull: making an image of 6 layers, 650 MB\n", stdout);
	big_make(layout, "selwick/mainland:latest", false);
	server = bench_serve(build, layout, &port, NULL);
	floor_line(folder, port, base);
	snprintf(line, sizeof(line),
		"printf 'registries:\\n  - host: localhost:%d\\n    transport: "
		"http\\n' >config.yaml; sync",
		port);
	bench_run(folder, line);
	for (size_t i = 0; i < rounds; i++) {
		struct run run;

		snprintf(line, sizeof(line), "set -- %zu; %s", i, base);
		run = bench_run(folder, line);
		floors[i] = run.seconds;
		snprintf(line, sizeof(line),
			"exec %s/tidyhull --version >/dev/null", build);
		bench_run(folder, line);
		snprintf(line, sizeof(line),
			"TIDYHULL_CONFIG=%s/config.yaml exec %s/tidyhull pull "
			"--quiet --root %s/pull-%zu "
			"localhost:%d/selwick/mainland >/dev/null",
			folder, build, folder, i, port);
		run = bench_run(folder, line);
		pulls[i] = run.seconds;
		if (run.peak_kib > peak_kib)
			peak_kib = run.peak_kib;
	}
	bench_row("pull of 650 MB, floor curl | tar", "s", pulls, floors,
		rounds, (struct bound){0.6, false});
	peak_mib = (double)peak_kib / 1024;
	bench_row("pull: peak memory", "MiB", &peak_mib, NULL, 1,
		(struct bound){64, false});
	kill(server, SIGTERM);
	waitpid(server, NULL, 0);
}
