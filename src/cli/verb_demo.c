/* demo: a guided tour on made-up data, with nothing to set up. */
#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/verbs.h"

#define WORDS_MAX 24

struct tour {
	char folder[64];
	char own[PROGRAM_PATH];
	pid_t chandler;
	char registry[64]; /* host and port of chandler */
	int port; /* outside, of the gauge */
	bool step, stopped;
	int failures;
};

static volatile sig_atomic_t cut_short;

static void interrupt(int number)
{
	(void)number;
	cut_short = 1;
}

static void heading(const char *text)
{
	const char *bold = colours() ? "\033[1;36m" : "";
	const char *plain = colours() ? "\033[0m" : "";

	printf("\n%s# %s%s\n", bold, text, plain);
}

/* Starts a program; its standard output goes to out where that is not -1, and
 * where out is 2, its errors go where its output goes. */
static pid_t start(const struct tour *tour, const char *const *words, int out)
{
	const char *program =
		strcmp(words[0], "tidyhull") == 0 ? tour->own : words[0];
	pid_t pid;

	fflush(stdout);
	pid = fork();
	if (pid != 0)
		return pid;
	if (out == 2)
		dup2(1, 2);
	else if (out >= 0)
		dup2(out, 1);
	if (chdir(tour->folder) == 0)
		execvp(program, (char *const *)(uintptr_t)words);
	fprintf(stderr, "cannot start %s: %s\n", program, strerror(errno));
	_exit(127);
}

static int finish(pid_t pid)
{
	int status = 0;

	while (pid > 0 && waitpid(pid, &status, 0) < 0) {
		if (errno != EINTR)
			return -1;
	}
	return WIFEXITED(status) ? WEXITSTATUS(status) : 128;
}

/* Waits for Enter where --step was given. */
static void pause_tour(struct tour *tour)
{
	int letter;

	if (!tour->step || cut_short)
		return;
	fputs("  [Enter]", stdout);
	fflush(stdout);
	do
		letter = getchar();
	while (letter != '\n' && letter != EOF && !cut_short);
	if (letter == EOF)
		tour->step = false;
}

/* Shows one command as it would be typed, runs it, and says in a line what it
 * is for. wanted is its exit code: 0, or another where it shows a refusal. */
static void show(struct tour *tour, const char *why, int wanted,
	const char *const *words)
{
	const char *bold = colours() ? "\033[1m" : "";
	const char *plain = colours() ? "\033[0m" : "";
	int code;

	if (tour->stopped || cut_short) {
		tour->stopped = true;
		return;
	}
	heading(why);
	printf("%s$", bold);
	for (const char *const *word = words; *word; word++)
		printf(strpbrk(*word, " *?") ? " '%s'" : " %s", *word);
	printf("%s\n", plain);
	/* Refusals belong into the picture where they happen. */
	code = finish(start(tour, words, 2));
	if (code != wanted && !cut_short) {
		printf("this ended with exit code %d instead of %d\n", code,
			wanted);
		tour->failures++;
		tour->stopped = true;
		return;
	}
	pause_tour(tour);
}

/* Words of a command: fixed ones, cut at the spaces. */
static void say(
	struct tour *tour, const char *why, int wanted, const char *line)
{
	const char *words[WORDS_MAX + 1];
	char copy[512], *rest = NULL;
	int count = 0;

	snprintf(copy, sizeof(copy), "%s", line);
	for (char *word = strtok_r(copy, " ", &rest); word && count < WORDS_MAX;
		word = strtok_r(NULL, " ", &rest))
		words[count++] = word;
	words[count] = NULL;
	show(tour, why, wanted, words);
}

/* ---- the stage ---- */

static int start_chandler(struct tour *tour, struct th_error *err)
{
	char program[PROGRAM_PATH], images[PROGRAM_PATH];
	char recipes[PROGRAM_PATH], line[128] = "";
	/* What is pushed comes into a copy. */
	const char *copy[] = {"cp", "-R", images, recipes, ".", NULL};
	const char *words[] = {program, "--writable", "demo-images", NULL};
	int pair[2];
	FILE *out;

	if (!program_path("chandler", program) || !demo_images_path(images) ||
		!demo_recipes_path(recipes)) {
		th_fail(err, TH_NOT_FOUND,
			"the demo registry or its images are not installed");
		return th_hint(err, "run make all, or make install");
	}
	if (finish(start(tour, copy, -1)))
		return th_fail(err, TH_FAILED, "cannot copy the demo images");
	if (pipe2(pair, O_CLOEXEC))
		return th_fail_sys(err, TH_FAILED, errno, "cannot make a pipe");
	tour->chandler = start(tour, words, pair[1]);
	close(pair[1]);
	out = fdopen(pair[0], "r");
	if (!out || !fgets(line, sizeof(line), out) ||
		!strstr(line, "127.0.0.1:"))
		th_fail(err, TH_FAILED, "the demo registry did not start");
	else
		snprintf(tour->registry, sizeof(tour->registry), "localhost:%d",
			atoi(strrchr(line, ':') + 1));
	if (out)
		fclose(out);
	return err->code ? -1 : 0;
}

static int write_stage(struct tour *tour, struct th_error *err)
{
	static const char february[] = "2026-02-26 4.72\n2026-02-27 4.91\n"
				       "2026-02-28 5.08\n";
	char config[256], path[128];
	int folder, len;

	len = snprintf(config, sizeof(config),
		"registries:\n  - host: %s\n    transport: http\n"
		"    search: true\n",
		tour->registry);
	folder = open(tour->folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	snprintf(path, sizeof(path), "%s/history", tour->folder);
	if (folder < 0 || th_dir_make(path, 0755, err) ||
		th_file_replace(folder, "config.yaml", config, (size_t)len,
			0644, false, err) ||
		th_file_replace(folder, "history/february", february,
			sizeof(february) - 1, 0644, false, err)) {
		th_close(&folder);
		return -1;
	}
	th_close(&folder);
	snprintf(path, sizeof(path), "%s/store", tour->folder);
	setenv("TIDYHULL_ROOT", path, 1);
	snprintf(path, sizeof(path), "%s/config.yaml", tour->folder);
	setenv("TIDYHULL_CONFIG", path, 1);
	return 0;
}

/* 8080, or the next one that nobody has. */
static int choose_port(void)
{
	struct sockaddr_in6 address = {.sin6_family = AF_INET6};

	for (int port = 8080; port < 8180; port++) {
		/* Of both families, as nothing says otherwise. */
		int fd = socket(AF_INET6, SOCK_STREAM | SOCK_CLOEXEC, 0), rc;

		address.sin6_port = htons((uint16_t)port);
		rc = bind(fd, (struct sockaddr *)&address, sizeof(address));
		th_close(&fd);
		if (rc == 0)
			return port;
	}
	return 0;
}

/* Files that can be executed look for tidyhull along the path. */
static void find_myself(const struct tour *tour)
{
	const char *before = getenv("PATH"), *slash = strrchr(tour->own, '/');
	char *path = th_format("%.*s:%s", slash ? (int)(slash - tour->own) : 0,
		tour->own, before ? before : "/usr/bin:/bin");

	if (path && slash)
		setenv("PATH", path, 1);
	free(path);
}

static int set_up(struct tour *tour, struct th_error *err)
{
	snprintf(tour->folder, sizeof(tour->folder), "/tmp/selwick-XXXXXX");
	if (!mkdtemp(tour->folder)) {
		tour->folder[0] = '\0';
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot create a folder in /tmp");
	}
	own_path(tour->own);
	find_myself(tour);
	tour->port = choose_port();
	if (!tour->port)
		return th_fail(err, TH_IN_USE,
			"all ports from 8080 to 8099 are in use");
	if (start_chandler(tour, err))
		return -1;
	return write_stage(tour, err);
}

/* Files of the store may belong to subordinate IDs, which only a process in a
 * user namespace can remove. */
static int remove_as_user(const struct tour *tour, th_hull *hull)
{
	struct th_error err = {0};
	pid_t pid = fork();

	if (pid == 0) {
		th_hull_erase(hull, tour->folder, &err);
		/* The folder itself lies in one that is not ours. */
		_exit(err.code ? say_error(&err) : 0);
	}
	return finish(pid);
}

static void tear_down(struct tour *tour, th_hull *hull)
{
	static const char *const stop_all[] = {
		"tidyhull", "stop", "--all", "--quiet", "--grace", "1s", NULL};
	static const char *const remove_all[] = {
		"tidyhull", "remove", "--all", "--quiet", NULL};
	struct th_error err = {0};

	if (tour->registry[0]) {
		finish(start(tour, stop_all, -1));
		finish(start(tour, remove_all, -1));
	}
	if (tour->chandler > 0) {
		kill(tour->chandler, SIGTERM);
		finish(tour->chandler);
	}
	if (tour->folder[0] && geteuid() != 0)
		remove_as_user(tour, hull);
	else if (tour->folder[0] &&
		th_tree_remove(AT_FDCWD, tour->folder, &err))
		say_error(&err);
}

/* ---- the tour ---- */

/* Several containers as one. */
static void walk_group(struct tour *tour)
{
	char line[256];

	say(tour, "One file describes containers that belong together.", 0,
		"cat demo-recipes/harbour.yaml");
	snprintf(line, sizeof(line),
		"tidyhull launch --settings demo-recipes/harbour.yaml --given "
		"PORT=%d",
		tour->port);
	say(tour,
		"Bring them up: in order, as much at the same time as that "
		"allows.",
		0, line);
	say(tour, "They are one object.", 0, "tidyhull list");
	say(tour, "Book a berth at the ledger.", 0,
		"tidyhull run selwick/ledger --quiet --network harbour "
		"--entrypoint booking -- --at ledger:7070 BOOK 7 Heron");
	snprintf(line, sizeof(line), "curl -s localhost:%d", tour->port);
	say(tour, "The page asks the others by name.", 0, line);
	snprintf(line, sizeof(line),
		"tidyhull launch --settings demo-recipes/harbour.yaml --given "
		"PORT=%d --given WATCH=night",
		tour->port);
	say(tour, "Launched again, only what differs is made anew.", 0, line);
	snprintf(line, sizeof(line), "curl -s localhost:%d", tour->port);
	say(tour, "The night watch has come.", 0, line);
	say(tour, "Take the newest images for the gauges.", 0,
		"tidyhull restart --fetch always gauge-1 gauge-2");
	say(tour, "Remove all of it; what is in the volume stays until then.",
		0, "tidyhull remove --force group:harbour volume:berths");
}

/* Images made here, and carried elsewhere. */
static void walk_images(struct tour *tour)
{
	char line[512];

	say(tour,
		"Make an image from a recipe: computed in a workshop, taken "
		"into a small one.",
		0, "tidyhull build demo-recipes/tables.yaml");
	say(tour, "What has not changed is not run again.", 0,
		"tidyhull build demo-recipes/tables.yaml");
	say(tour, "Run it.", 0,
		"tidyhull run selwick/tables:1 --network none -- north");
	say(tour, "Another recipe: one script on top of base.", 0,
		"tidyhull build demo-recipes/notice.yaml");
	say(tour, "Change a container by hand...", 0,
		"tidyhull run selwick/notice:1 --name board --keep --network "
		"none --entrypoint cp -- -r /usr/share/selwick /srv/notices");
	say(tour, "...look at what has changed...", 0,
		"tidyhull changes board");
	snprintf(line, sizeof(line),
		"tidyhull capture board %s/selwick/notice:2 --entrypoint "
		"notice",
		tour->registry);
	say(tour, "...and make an image of it.", 0, line);
	say(tour, "The container is not needed any more.", 0,
		"tidyhull remove board");
	snprintf(line, sizeof(line), "tidyhull push %s/selwick/notice:2",
		tour->registry);
	say(tour, "Push the image to the registry...", 0, line);
	say(tour, "...and run it elsewhere, in a store that has never seen it.",
		0,
		"tidyhull run --root ./elsewhere --quiet selwick/notice:2 "
		"--network none");
	say(tour,
		"Pack an image into one file that can be executed, to carry "
		"where there is no registry.",
		0,
		"tidyhull pack --runnable selwick/almanac ./almanac --network "
		"none");
	say(tour, "List the images, and how much of each is shared.", 0,
		"tidyhull list images");
	say(tour, "Remove images just like containers.", 0,
		"tidyhull remove selwick/gauge selwick/almanac selwick/ledger");
	say(tour, "Run it by executing the file.", 0, "./almanac --days 1");
}

static void walk(struct tour *tour)
{
	char line[512];

	say(tour, "Which image was it? Part of the name is enough.", 0,
		"tidyhull find gau");
	say(tour, "Look before downloading anything.", 0,
		"tidyhull peek selwick/gauge");
	say(tour,
		"An image comes from a registry: verified, unpacked as it "
		"arrives.",
		0, "tidyhull pull selwick/gauge");
	snprintf(line, sizeof(line),
		"tidyhull launch selwick/gauge --name gauge-north --port 80=%d "
		"--mount /srv/history=./history --env STATION=north",
		tour->port);
	say(tour,
		"Start a service in the background. Settings read: inside = "
		"outside.",
		0, line);
	if (access("/usr/bin/curl", X_OK) == 0) {
		snprintf(line, sizeof(line), "curl -s localhost:%d/tide.json",
			tour->port);
		say(tour, "Fetch its page through the published port.", 0,
			line);
	} else {
		say(tour, "Fetch the same page from inside.", 0,
			"tidyhull exec gauge-north -- wget -qO- "
			"localhost/tide.json");
	}
	say(tour, "See what is running, since when, and where to reach it.", 0,
		"tidyhull list");
	say(tour, "Read what the program has written.", 0,
		"tidyhull logs gauge-north");
	say(tour,
		"Run another command in it: it sees only the container's files "
		"and processes.",
		0, "tidyhull exec gauge-north -- ps");
	snprintf(line, sizeof(line),
		"tidyhull launch selwick/gauge --name gauge-north --port 80=%d "
		"--mount /srv/history=./hist",
		tour->port);
	say(tour,
		"Mistakes are found before anything changes: all at once, with "
		"remedies.",
		EXIT_IN_USE, line);
	say(tour, "Run a program in the foreground; it leaves nothing behind.",
		0, "tidyhull run selwick/almanac -- --days 1");
	say(tour, "Stop it; the answer says how it ended.", 0,
		"tidyhull stop gauge-north");
	say(tour, "Why is it not running? Who did it, and its last output.", 0,
		"tidyhull why gauge-north");
	say(tour, "Remove it: no process, mount, device or rule is left.", 0,
		"tidyhull remove gauge-north");
	say(tour, "Nothing is left.", 0, "tidyhull list --all");
	say(tour,
		"Keep data in a volume, created on first use; two containers "
		"share a network.",
		0,
		"tidyhull launch selwick/ledger --name ledger --mount "
		"/data=volume:berths --network harbour --probe "
		"tcp:7070,every=100ms");
	say(tour, "Wait until its probe says that it is ready.", 0,
		"tidyhull wait --until ready ledger");
	say(tour, "Containers on a network find each other by name.", 0,
		"tidyhull run selwick/ledger --network harbour --entrypoint "
		"booking -- --at ledger:7070 BOOK 7 Heron");
	say(tour, "Remove the container...", 0,
		"tidyhull remove --force ledger");
	say(tour, "...and start another with the same volume.", 0,
		"tidyhull launch selwick/ledger --name ledger --mount "
		"/data=volume:berths --network harbour --probe "
		"tcp:7070,every=100ms");
	say(tour, "Wait until it is ready again.", 0,
		"tidyhull wait --until ready ledger");
	say(tour, "The booking is still there.", 0,
		"tidyhull run selwick/ledger --network harbour --entrypoint "
		"booking -- --at ledger:7070 LIST");
	say(tour, "List the volumes.", 0, "tidyhull list volumes");
	say(tour,
		"What is in use cannot be removed; the message says what uses "
		"it.",
		EXIT_IN_USE, "tidyhull remove network:harbour");
	say(tour, "So remove the container first.", 0,
		"tidyhull remove --force ledger");
	say(tour, "Then the volume and the network.", 0,
		"tidyhull remove volume:berths network:harbour");
	walk_images(tour);
	walk_group(tour);
}

static int run(struct invocation *call)
{
	struct tour tour = {.step = option_given(call, "step")};
	const struct sigaction on_interrupt = {.sa_handler = interrupt};
	struct th_error err = {0};

	sigaction(SIGINT, &on_interrupt, NULL);
	sigaction(SIGTERM, &on_interrupt, NULL);
	puts("Tidy Hull: a tour of Port Selwick. It runs in a temporary "
	     "folder, with a\nregistry of its own, and leaves nothing behind.");
	if (set_up(&tour, &err) == 0)
		walk(&tour);
	tear_down(&tour, call->hull);
	if (err.code)
		return say_error(&err);
	if (cut_short) {
		puts("\nthe tour was interrupted; everything has been cleaned "
		     "up");
		return 128 + SIGINT;
	}
	if (tour.failures)
		return EXIT_FAILED;
	puts("\nThat was the tour; everything has been cleaned up. Where to go "
	     "next:\n  tidyhull doctor       check your host\n  tidyhull help  "
	     "       every verb; help launch for the settings\n  "
	     "docs/tutorial.md      step by step, from the first container\n  "
	     "README.md             the same tour with your own registry");
	return EXIT_DONE;
}

static const struct option_spec options[] = {
	{"step", NULL, "wait for Enter between steps"}, {NULL, NULL, NULL}};

static const char *const text[] = {"Starts a small registry with made-up "
				   "images and a store in a temporary",
	"folder, goes from pull to remove, shows each command with its output,",
	"and cleans up.", NULL};

static const char *const examples[] = {
	"tidyhull demo", "tidyhull demo --step", NULL};

const struct verb verb_demo = {.name = "demo",
	.group = "start here",
	.called = "tour tutorial example examples hello intro",
	.summary = "a guided tour on made-up data, from pull to removal",
	.usage = "[--step]",
	.text = text,
	.examples = examples,
	.options = options,
	.least = 0,
	.most = 0,
	.run = run};
