/* tidyhull: the command line. */
#include <errno.h>
#include <locale.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "cli/each.h"
#include "cli/choose.h"
#include "cli/doc.h"
#include "cli/line.h"
#include "cli/options.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/progress.h"
#include "cli/runnable.h"
#include "cli/verbs.h"
#include "cli/watch.h"
#include "cli/wrong_object.h"

static atomic_bool is_interrupted;
/* What the signal has to reach; NULL where nothing is open. */
static th_hull *_Atomic open_hull;
mode_t callers_umask = 022;

/* The same wish comes twice where it goes to a process and to its group. */
#define SAME_MS 300

static int64_t now_ms(void)
{
	struct timespec now;

	clock_gettime(CLOCK_MONOTONIC, &now);
	return (int64_t)now.tv_sec * 1000 + now.tv_nsec / 1000000;
}

static void interrupt(int number)
{
	static _Atomic int64_t first_ms;
	th_hull *hull = atomic_load(&open_hull);

	/* Once is a wish, and leaves things clean; a second time, the default
	 * does its work. */
	if (is_interrupted) {
		if (now_ms() - first_ms < SAME_MS)
			return;
		signal(number, SIG_DFL);
		raise(number);
		return;
	}
	first_ms = now_ms();
	is_interrupted = true;
	if (hull)
		th_hull_cancel(hull);
}

bool interrupted(void)
{
	return is_interrupted;
}

int read_input(struct th_buf *buf, struct th_error *err)
{
	const struct th_cancel cancel = {{&is_interrupted}, NULL};

	return th_fd_read_cancellable(0, "standard input", buf, cancel, err);
}

static const char *from_environment(const char *name)
{
	return getenv(name);
}

/* On "none" and "host" a container needs nothing that other containers have. */
static int start_purpose(const struct invocation *call)
{
	const char *network = option_value(call, "network");

	if (call->verb->flags & VERB_STARTS_MADE)
		return TH_TO_START_MADE;
	if (!(call->verb->flags & VERB_STARTS) ||
		(network &&
			(strcmp(network, "none") == 0 ||
				strcmp(network, "host") == 0)))
		return 0;
	return TH_TO_START;
}

static bool makes_bundle(const struct invocation *call)
{
	return call->verb->flags & VERB_BUNDLES && call->object_count &&
		strcmp(call->objects[0], "bundle") == 0;
}

static bool works_on_store(const struct invocation *call)
{
	return call->verb->flags & VERB_STORE || makes_bundle(call) ||
		(call->verb->flags & VERB_CHECKS &&
			(option_given(call, "verify") ||
				option_given(call, "repair")));
}

/* What the verb and its options ask for. */
static int purposes(const struct invocation *call)
{
	int flags = call->verb->flags;

	return (flags & VERB_LOOK ? TH_TO_LOOK : TH_TO_ACT) |
		start_purpose(call) |
		(flags & VERB_REGISTRIES || makes_bundle(call) ? TH_TO_FETCH
							       : 0) |
		(flags & VERB_CHECKS ? TH_TO_CHECK : 0) |
		(option_given(call, "repair") ? TH_TO_REPAIR : 0) |
		(works_on_store(call) ? 0 : TH_WITHOUT_STORE);
}

/* Who only looks makes no store where none is: the folder may be mistyped. */
static int check_root(const struct invocation *call, struct th_error *err)
{
	const char *root = option_value(call, "root");

	if (!root || !(call->verb->flags & VERB_LOOK) ||
		!works_on_store(call) || access(root, F_OK) == 0)
		return 0;
	th_fail(err, TH_NOT_FOUND, "there is no store in %.300s", root);
	return th_hint(err, "what makes or brings something makes it, too");
}

static int begin(struct invocation *call, struct progress *progress,
	struct th_error *err)
{
	char keeper[PROGRAM_PATH], pilot[PROGRAM_PATH], act[64];
	const struct th_opening opening = {.root = option_value(call, "root"),
		.config = option_value(call, "config"),
		.layers_from = option_value(call, "layers-from"),
		.keeper = keeper,
		.pilot = pilot,
		.actor = act,
		.purposes = purposes(call),
		.env = from_environment,
		.notice = progress_notice,
		.progress = progress_show,
		.working = progress_working,
		.pulled = progress_pulled,
		.choose = choose_registry,
		.owner = progress};

	if (check_root(call, err))
		return -1;
	snprintf(act, sizeof(act), "tidyhull %s", call->verb->name);
	program_path("tidyhull-keeper", keeper);
	program_path("tidyhull-pilot", pilot);
	call->hull = th_hull_open(&opening, err);
	if (!call->hull)
		return -1;
	call->progress = progress;
	atomic_store(&open_hull, call->hull);
	/* It may have come before there was anything to reach. */
	if (is_interrupted)
		th_hull_cancel(call->hull);
	return 0;
}

static void end(struct invocation *call)
{
	atomic_store(&open_hull, NULL);
	th_hull_close(call->hull);
	call->hull = NULL;
}

static void note_detached(const struct invocation *call)
{
	json_t *about = NULL;
	struct th_error ignored = {0}; /* nothing to say then */

	if (th_hull_about(call->hull, &about, &ignored) == 0 &&
		doc_flag(about, "detached"))
		fputs("note: the disk of the store cannot be written; what is "
		      "shown is true, but is not recorded yet\n",
			stderr);
	json_decref(about);
}

static int run_verb(struct invocation *call, struct th_error *err)
{
	int code = objects_refuse(call);

	code = code ? code
		: call->verb->flags & VERB_GROUPS && expand_groups(call, err)
		? say_error(err)
		: call->verb->flags & (VERB_TABLE | VERB_WATCH)
		? run_table(call)
		: call->verb->run(call);

	progress_end(call->progress);
	if (works_on_store(call) && !call->quiet)
		note_detached(call);
	return code;
}

static int run(const struct verb *verb, int argc, char **argv)
{
	struct invocation call = {.verb = verb};
	struct progress progress = {.quiet = false};
	struct th_error err = {0};
	bool help = false;
	int code = -1, rc;

	rc = options_parse(&call, argc, argv, &help, &err);
	/* Before what is wrong is told. */
	if (call.json)
		say_errors_as_json();
	if (rc)
		goto out;
	if (help) {
		verb_help(verb);
		code = EXIT_DONE;
		goto out;
	}
	progress.quiet = call.quiet;
	progress.verb = verb->name;
	if (verb->flags & VERB_ALONE) {
		code = verb->run(&call);
		goto out;
	}
	if (begin(&call, &progress, &err))
		goto out;
	code = run_verb(&call, &err);
	th_error_clear(&err);
out:
	if (err.code) {
		code = say_error(&err);
		if (verb->flags & VERB_PASSES_CODE)
			code = EXIT_TOOL;
	}
	end(&call);
	options_release(&call);
	return code;
}

static int end_output(int code)
{
	if (fflush(stdout) == 0 && !ferror(stdout))
		return code;
	fprintf(stderr, "tidyhull: cannot write the output: %s\n",
		strerror(errno));
	return code ? code : EXIT_FAILED;
}

/* A file that can be executed: its image with its settings, and what stands
 * behind it are the program's arguments. */
static int run_file(int argc, char **argv)
{
	struct th_strings words = {0};
	struct th_error err = {0};
	char **list;
	int code;

	if (runnable_words(argv[0], argc - 1, argv + 1, &words, &err)) {
		th_strings_release(&words);
		/* "./site copy web:/srv" */
		if (argc > 1 && verb_lookup(argv[1])) {
			verb_unknown(argv[0], false);
			return EXIT_USAGE;
		}
		say_error(&err);
		return EXIT_TOOL;
	}
	/* The parser moves them about. */
	list = calloc(words.count + 1, sizeof(*list));
	if (!list) {
		th_strings_release(&words);
		th_fail_memory(&err);
		say_error(&err);
		return EXIT_TOOL;
	}
	memcpy(list, words.items, words.count * sizeof(*list));
	code = end_output(run(verb_lookup("run"), (int)words.count, list));
	free(list);
	th_strings_release(&words);
	return code;
}

/* Options that all verbs have may stand before the verb: they go behind it. */
static void verb_first(int argc, char **argv)
{
	int at = 1;

	while (at < argc && argv[at][0] == '-' && argv[at][1] &&
		strcmp(argv[at], "--") != 0) {
		int words = common_option_words(argv[at]);

		if (words == 0 || at + words >= argc)
			return;
		at += words;
	}
	if (at > 1 && at < argc) {
		char *verb = argv[at];

		memmove(argv + 2, argv + 1, (size_t)(at - 1) * sizeof(*argv));
		argv[1] = verb;
	}
}

int main(int argc, char **argv)
{
	/* As much as a pipe holds. */
	static char output[65536];
	const char *word;
	const struct verb *verb;
	struct sigaction on_interrupt = {.sa_handler = interrupt};
	int code;

	/* Texts only: numbers and times look the same everywhere. */
	setlocale(LC_CTYPE, "");
	setvbuf(stdout, output, _IOFBF, sizeof(output));
	sigaction(SIGINT, &on_interrupt, NULL);
	sigaction(SIGTERM, &on_interrupt, NULL);
	signal(SIGPIPE, SIG_DFL);
	/* A limit of the caller's is an error that can be told. */
	signal(SIGXFSZ, SIG_IGN);
	/* How children end would be lost otherwise. */
	signal(SIGCHLD, SIG_DFL);
	/* What is made in the store is the containers', whatever the caller
	 * grants others on own files. */
	callers_umask = umask(022);
	verb_first(argc, argv);
	line_keep(argc, argv);
	word = argc > 1 ? argv[1] : "help";
	if (strcmp(word, "--help") == 0 || strcmp(word, "-h") == 0)
		word = "help";
	if (strcmp(word, "--version") == 0) {
		puts("tidyhull " TH_VERSION);
		return EXIT_DONE;
	}
	verb = verb_lookup(word);
	if (!verb && strchr(word, '/') && access(word, F_OK) != 0 &&
		(strchr(word, ' ') || (argc > 2 && verb_lookup(argv[2])))) {
		verb_unknown(word, false);
		return EXIT_USAGE;
	}
	if (!verb && strchr(word, '/'))
		return run_file(argc - 1, argv + 1);
	if (!verb) {
		bool json = false;

		for (int i = 2; i < argc && strcmp(argv[i], "--") != 0; i++)
			json = json || strcmp(argv[i], "--json") == 0 ||
				strcmp(argv[i], "-j") == 0;
		verb_unknown(word, json);
		return EXIT_USAGE;
	}
	/* The verb stands where getopt expects the program's name. */
	code = run(
		verb, argc > 1 ? argc - 1 : argc, argc > 1 ? argv + 1 : argv);
	return end_output(code);
}
