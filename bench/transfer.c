/* Transfers over loopback besides the large pull: an image of many small files,
 * one of which all but the last layer is here, a push, and a packed file. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>

#include "bench.h"

#define LINE_BYTES 4096
#define HERE_ROUNDS 9

static const char *programs, *room;
static int from_port, to_port;

/* A line in the folder, with what all of them need; $T is the tool. */
static struct run run_line(const char *line, size_t round)
{
	char text[LINE_BYTES];

	snprintf(text, sizeof(text),
		"set -e; T=%s/tidyhull; export TIDYHULL_CONFIG=%s/both.yaml; "
		"F=localhost:%d; P=localhost:%d; n=%zu; %s",
		programs, room, from_port, to_port, round, line);
	return bench_run(room, text);
}

static const char write_config[] =
	"printf 'registries:\\n  - {host: %s, transport: http}\\n  - {host: "
	"%s, transport: http}\\n' $F $P >both.yaml";

static void end_server(pid_t server)
{
	kill(server, SIGTERM);
	waitpid(server, NULL, 0);
}

static void measure(const char *name, const char *ours, const char *floor,
	size_t rounds, double budget)
{
	double times[ROUNDS_MAX], floors[ROUNDS_MAX];

	for (size_t i = 0; i < rounds; i++) {
		floors[i] = run_line(floor, i).seconds;
		times[i] = run_line(ours, i).seconds;
	}
	bench_row(name, "s", times, floors, rounds,
		(struct bound){budget, false});
}

/* What is unpacked stays to the end. The floor checks nothing. */
static void measure_small(size_t rounds)
{
	measure("pull of 30,000 small files, floor curl | tar",
		"exec $T pull -q --root small-$n $F/selwick/shells >/dev/null",
		"mkdir floor-small-$n; while read d; do curl -s "
		"http://$F/v2/selwick/shells/blobs/$d | tar -xzf - -C "
		"floor-small-$n; done <small-digests",
		rounds, 1.3);
}

/* Each round one more image on top of the same: its requests are the floor. */
static void measure_here(void)
{
	double times[HERE_ROUNDS];

	run_line("$T pull -q --root here $F/selwick/shells >/dev/null", 0);
	for (size_t i = 0; i < HERE_ROUNDS; i++) {
		double floor;

		run_line("mkdir -p make; echo $n >make/mark; printf 'image: "
			 "%s/selwick/top%s\\nfrom: %s/selwick/shells\\nsteps:"
			 "\\n  - put: {/mark: ./mark}\\n' $P $n $F "
			 ">make/top.yaml; "
			 "$T build -q --root here make/top.yaml >/dev/null; "
			 "$T push -q --root here $P/selwick/top$n >/dev/null; "
			 "u=http://$P/v2/selwick/top$n; curl -s "
			 "$u/manifests/latest -o m; { echo "
			 "$u/manifests/latest; grep -o 'sha256:[0-9a-f]*' m | "
			 "sed -n \"1p;\\$p\" | sed \"s|^|$u/blobs/|\"; } "
			 ">urls; [ $(wc -l <urls) = 3 ]; "
			 "[ $n != 0 ] || $T pull -q --root other "
			 "$F/selwick/shells >/dev/null",
			i);
		/* The same three requests of one connection. */
		floor = run_line("exec curl -fs $(cat urls) >answers", i)
				.seconds;
		times[i] = 1e3 *
			(run_line("exec $T pull -q --root other "
				  "$P/selwick/top$n >/dev/null",
				 i)
					.seconds -
				floor);
	}
	bench_row("pull where all but one layer is here, beyond requests", "ms",
		times, NULL, HERE_ROUNDS, (struct bound){30, false});
}

/* To an empty registry each time. */
static struct run push_once(const char *line, size_t round, const char *kind)
{
	char path[700], text[200];
	struct run run;
	pid_t server;

	snprintf(path, sizeof(path), "%s/to-%s%zu", room, kind, round);
	snprintf(text, sizeof(text), "cp -R empty to-%s%zu", kind, round);
	run_line(text, round);
	server = bench_serve(programs, path, &to_port, "--writable");
	run_line(write_config, round);
	run_line("$T tag -q --root here $F/selwick/shells $P/selwick/s "
		 ">/dev/null",
		round);
	run = run_line(line, round);
	/* All of it is there. */
	snprintf(text, sizeof(text),
		"[ $(ls to-%s%zu/blobs/sha256 | wc -l) -ge 6 ]", kind, round);
	if (run_line(text, round).code)
		fputs("transfer: a push is not whole\n", stdout);
	end_server(server);
	return run;
}

static void measure_push(size_t rounds)
{
	double times[ROUNDS_MAX], floors[ROUNDS_MAX];

	for (size_t i = 0; i < rounds; i++) {
		floors[i] = push_once(
			"while read d; do at=$(curl -si -X POST "
			"http://$P/v2/selwick/s/blobs/uploads/ | tr -d '\r' | "
			"sed -n 's/^[Ll]ocation: //p'); case $at in http*) ;; "
			"*) at=http://$P$at ;; esac; case $at in *\\?*) "
			"at=\"$at&\" ;; *) at=\"$at?\" ;; esac; curl -s -X PUT "
			"--data-binary @small/blobs/sha256/${d#sha256:} -H "
			"'Content-Type: application/octet-stream' "
			"\"${at}digest=$d\"; done <small-digests",
			i, "floor")
				    .seconds;
		times[i] = push_once("exec $T push -q --root here $P/selwick/s "
				     ">/dev/null",
			i, "ours")
				   .seconds;
	}
	bench_row("push of it, floor curl", "s", times, floors, rounds,
		(struct bound){1.3, false});
}

static void measure_pack(size_t rounds)
{
	measure("pack of it, floor tar | gzip -1",
		"exec $T pack -q --yes --root here $F/selwick/shells p.tar "
		">/dev/null",
		"tar -C floor-small-0 -c . | gzip -1 >floor.tgz", rounds, 0.6);
}

/* Ready for a registry. */
static const char make_empty[] =
	"mkdir -p empty/blobs/sha256; printf "
	"'{\"imageLayoutVersion\":\"1.0.0\"}' >empty/oci-layout; printf "
	"'{\"schemaVersion\":2,\"manifests\":[]}' >empty/index.json; cp -R "
	"empty to";

void bench_transfer(const char *build, const char *folder, size_t rounds)
{
	char path[700];
	pid_t from, to;

	programs = build;
	room = folder;
	fputs("transfer: making an image of 6 layers, 30,000 files\n", stdout);
	snprintf(path, sizeof(path), "%s/small", folder);
	big_make(path, "selwick/shells:latest", true);
	from = bench_serve(build, path, &from_port, NULL);
	snprintf(path, sizeof(path), "%s/to", folder);
	bench_run(folder, make_empty);
	to = bench_serve(build, path, &to_port, "--writable");
	run_line(write_config, 0);
	run_line("python3 -c \"\nimport json\n"
		 "m=json.load(open('small/index.json'))['manifests'][0]\n"
		 "m=json.load(open('small/blobs/sha256/'+m['digest'][7:]))\n"
		 "print('\\\\n'.join(l['digest'] for l in m['layers']))\" "
		 ">small-digests",
		0);
	measure_small(rounds);
	measure_here();
	end_server(to);
	measure_push(rounds);
	measure_pack(rounds);
	end_server(from);
}
