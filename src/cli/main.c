/* tidyhull: the command line. */
#include <errno.h>
#include <locale.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/buffer.h"
#include "cli/each.h"
#include "cli/choose.h"
#include "cli/options.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/progress.h"
#include "cli/runnable.h"
#include "cli/verbs.h"

static atomic_bool interrupted;
static mode_t callers_umask = 022;

static void interrupt(int number)
{
	/* Once is a wish; a second time, the default does its work. */
	atomic_store(&interrupted, true);
	signal(number, SIG_DFL);
}

static const char *from_environment(const char *name)
{
	return getenv(name);
}

static void show_notice(void *owner, const char *text)
{
	const struct invocation *call = owner;

	if (!call->quiet)
		fprintf(stderr, "note: %s\n", text);
}

/* On "none" and "host" a container needs nothing that other containers have. */
static enum th_needs_networks needs_networks(const struct invocation *call)
{
	const char *network = option_value(call, "network");

	if (call->verb->flags & VERB_STARTS_MADE)
		return TH_NEEDS_NETWORKS_OF_STORE;
	if (!(call->verb->flags & VERB_STARTS) ||
		(network &&
			(strcmp(network, "none") == 0 ||
				strcmp(network, "host") == 0)))
		return TH_NEEDS_NO_NETWORKS;
	return TH_NEEDS_NETWORKS;
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
static int begin(struct invocation *call, char keeper[PROGRAM_PATH],
	char pilot[PROGRAM_PATH], struct th_error *err)
{
	const struct th_hull_options options = {.env = from_environment,
		.root = option_value(call, "root"),
		.config = option_value(call, "config"),
		.keeper = keeper,
		.pilot = pilot,
		.notice = show_notice,
		.owner = call,
		.cancel = &interrupted,
		.umask = callers_umask,
		.logins = call->verb->flags & VERB_REGISTRIES ||
			makes_bundle(call),
		.look = call->verb->flags & VERB_LOOK,
		.networks = needs_networks(call),
		.checks = call->verb->flags & VERB_CHECKS,
		.repairs = option_given(call, "repair")};

	program_path("tidyhull-keeper", keeper);
	program_path("tidyhull-pilot", pilot);
	return th_hull_begin(&call->hull, &options, err);
}

static int run_on_store(struct invocation *call, struct th_error *err)
{
	struct th_context *context = &call->hull.context;
	struct progress progress = {.quiet = call->quiet};
	char act[64];
	int code;

	snprintf(act, sizeof(act), "tidyhull %s", call->verb->name);
	if (th_hull_open_store(&call->hull, act, err))
		return -1;
	context->choose = choose_registry;
	context->progress = progress_show;
	context->pulled = progress_pulled;
	context->owner = &progress;
	code = call->verb->flags & VERB_GROUPS && expand_groups(call, err)
		? say_error(err)
		: call->verb->run(call);
	progress_end(&progress);
	if (th_db_is_detached(context->store->db) && !call->quiet)
		fputs("note: the disk of the store cannot be written; what is "
		      "shown is true, but is not recorded yet\n",
			stderr);
	return code;
}

static int run(const struct verb *verb, int argc, char **argv)
{
	struct invocation call = {.verb = verb};
	char keeper[PROGRAM_PATH], pilot[PROGRAM_PATH];
	struct th_error err = {0};
	bool help = false;
	int code = -1;

	if (options_parse(&call, argc, argv, &help, &err))
		goto out;
	if (help) {
		verb_help(verb);
		code = EXIT_DONE;
		goto out;
	}
	if (begin(&call, keeper, pilot, &err))
		goto out;
	if (works_on_store(&call))
		code = run_on_store(&call, &err);
	else if (!(verb->flags & VERB_REGISTRIES) ||
		th_hull_open_registries(&call.hull, &err) == 0)
		code = verb->run(&call);
out:
	if (err.code) {
		code = say_error(&err);
		if (verb->flags & VERB_PASSES_CODE)
			code = EXIT_TOOL;
	}
	th_hull_end(&call.hull);
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
		say_error(&err);
		th_strings_release(&words);
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

int main(int argc, char **argv)
{
	const char *word = argc > 1 ? argv[1] : "help";
	const struct verb *verb;
	struct sigaction on_interrupt = {.sa_handler = interrupt};
	int code;

	setlocale(LC_ALL, "");
	setvbuf(stdout, NULL, _IOFBF, 65536);
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
	if (strcmp(word, "--help") == 0 || strcmp(word, "-h") == 0)
		word = "help";
	if (strcmp(word, "--version") == 0) {
		puts("tidyhull " TH_VERSION);
		return EXIT_DONE;
	}
	verb = verb_lookup(word);
	if (!verb && strchr(word, '/'))
		return run_file(argc - 1, argv + 1);
	if (!verb) {
		verb_unknown(word);
		return EXIT_USAGE;
	}
	/* The verb stands where getopt expects the program's name. */
	code = run(
		verb, argc > 1 ? argc - 1 : argc, argc > 1 ? argv + 1 : argv);
	return end_output(code);
}
