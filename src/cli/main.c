/* tidyhull: the command line. */
#include <errno.h>
#include <fcntl.h>
#include <locale.h>
#include <pwd.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "base/path.h"
#include "cli/each.h"
#include "cli/choose.h"
#include "cli/options.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/progress.h"
#include "cli/runnable.h"
#include "cli/verbs.h"
#include "image/reclaim.h"
#include "container/scope.h"
#include "network/pilot.h"
#include "sandbox/enter.h"

static atomic_bool interrupted;
static mode_t callers_umask = 022;

static void interrupt(int number)
{
	/* Once is a wish; a second time, the default does its work. */
	atomic_store(&interrupted, true);
	signal(number, SIG_DFL);
}

static void find_caller(struct caller *caller)
{
	const struct passwd *user = getpwuid(geteuid());
	const char *home = getenv("HOME");

	caller->uid = geteuid();
	caller->gid = getegid();
	caller->unprivileged = caller->uid != 0;
	if (user)
		snprintf(caller->name, sizeof(caller->name), "%.60s",
			user->pw_name);
	else
		snprintf(caller->name, sizeof(caller->name), "%u", caller->uid);
	caller->home = home ? home : "";
	caller->umask = callers_umask;
}

/* Said once: whoever has a single ID should know why some images fail. */
static void tell_single(const struct invocation *call)
{
	char *mark = th_format("%s/single-id", call->root);
	int fd = mark
		? open(mark, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600)
		: -1;

	if (fd >= 0 && !call->quiet)
		fprintf(stderr,
			"note: %s has no subordinate IDs: all files of an "
			"image will appear owned by root\n  tidyhull doctor "
			"explains how the administrator can assign some\n",
			call->caller.name);
	if (fd >= 0)
		close(fd);
	free(mark);
}

/* True where any container of the store is on a network; or is not known. */
static bool has_networks(const struct invocation *call)
{
	char *path = th_format("%s/state.db", call->root);
	struct th_error ignored = {0};
	struct th_db *db = NULL;
	int64_t count = 1;

	if (path && access(path, F_OK) == 0 &&
		th_db_open(path, 1, &db, &ignored) == 0)
		th_db_number(db, 1, &count, &ignored,
			"SELECT count(*) FROM containers"
			" WHERE network NOT IN ('none', 'host')",
			"");
	th_db_close(db);
	free(path);
	return count > 0;
}

/* On "none" and "host" a container needs nothing that other containers have. */
static bool needs_networks(const struct invocation *call)
{
	const char *network = option_value(call, "network");

	if (call->verb->flags & VERB_STARTS_MADE)
		return has_networks(call);
	return call->verb->flags & VERB_STARTS &&
		!(network &&
			(strcmp(network, "none") == 0 ||
				strcmp(network, "host") == 0));
}

static void tell_way_out(
	const struct invocation *call, const struct th_pilot *pilot)
{
	if (!pilot->hello.way_out && !call->quiet)
		fprintf(stderr,
			"note: containers on your networks cannot reach the "
			"outside: %s\n",
			pilot->hello.reason);
}

/* As containers do, where systemd would end what belongs to the login. */
static void outlive_login(const struct th_pilot *pilot)
{
	struct th_error ignored = {0};
	char id[32];

	snprintf(id, sizeof(id), "networks-%d", (int)pilot->pid);
	if (th_scope_wanted(caller_has_bus()))
		th_scope_move(
			pilot->pid, id, "networks of containers", &ignored);
}

/* An unprivileged user's containers all live in one user namespace, as long as
 * any of them is on a network: the pilot's, which is started here where one may
 * be needed. It stays until this program and its keepers are gone. */
static int enter_networks(
	struct invocation *call, bool *single, struct th_error *err)
{
	const struct caller *caller = &call->caller;
	struct th_pilot pilot;
	char program[PROGRAM_PATH];
	int run = -1, lock = -1, rc = -1;

	if (th_dir_make(call->run, 0700, err))
		return -1;
	run = open(call->run, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	lock = th_pilot_lock(run, err);
	if (lock < 0)
		goto out;
	rc = th_pilot_connect(run, &pilot, err);
	if (rc == 1) {
		rc = th_user_join(pilot.users, err);
		goto out;
	}
	if (rc == 0)
		rc = th_user_enter(
			caller->name, caller->uid, caller->gid, single, err);
	if (rc == 0 && needs_networks(call)) {
		program_path("tidyhull-pilot", program);
		rc = th_pilot_start(program, run, &pilot, err);
		if (rc == 0) {
			tell_way_out(call, &pilot);
			outlive_login(&pilot);
		}
	}
out:
	/* The connection is for the life of this program. */
	th_close(&lock);
	th_close(&run);
	return rc < 0 ? -1 : 0;
}

static int enter(struct invocation *call, struct th_error *err)
{
	bool single = false;

	if (!call->caller.unprivileged || call->verb->flags & VERB_LOOK)
		return 0;
	if (th_dir_make(call->root, 0700, err) ||
		enter_networks(call, &single, err))
		return -1;
	if (single)
		tell_single(call);
	return 0;
}

/* The folders of docs/configuration.md. */
static int choose_folders(
	struct invocation *call, struct th_strings *kept, struct th_error *err)
{
	const char *given = option_value(call, "root");
	const char *data = getenv("XDG_DATA_HOME");
	const char *run = getenv("XDG_RUNTIME_DIR");
	const char *home = getenv("HOME");
	char cwd[4096];
	int rc;

	if (!given)
		given = getenv("TIDYHULL_ROOT");
	if (given && *given) {
		if (!getcwd(cwd, sizeof(cwd)))
			snprintf(cwd, sizeof(cwd), "/");
		rc = th_strings_take(kept, th_path_absolute(cwd, given));
		rc |= th_strings_take(
			kept, rc ? NULL : th_format("%s/run", kept->items[0]));
	} else if (!call->caller.unprivileged) {
		rc = th_strings_add(kept, "/var/lib/tidyhull");
		rc |= th_strings_add(kept, "/run/tidyhull");
	} else {
		rc = th_strings_take(kept,
			data && *data ? th_format("%s/tidyhull", data)
				      : th_format("%s/.local/share/tidyhull",
						home ? home : ""));
		rc |= th_strings_take(kept,
			run && *run ? th_format("%s/tidyhull", run)
				    : th_format("/tmp/tidyhull-%d",
					      (int)call->caller.uid));
	}
	/* The sockets and locks of running containers lie in the store: what an
	 * environment says, or a cleaner of temporary folders takes, does not
	 * part a container from those who look for it. */
	rc |= th_strings_take(
		kept, rc ? NULL : th_format("%s/run", kept->items[0]));
	if (rc)
		return th_fail_memory(err);
	call->root = kept->items[0];
	call->run_time = kept->items[1];
	call->run = kept->items[2];
	return 0;
}

static int read_config(struct invocation *call, struct th_error *err)
{
	const char *given = option_value(call, "config");
	const char *own = getenv("XDG_CONFIG_HOME");
	const char *home = getenv("HOME");
	char *path;
	int rc;

	if (!given)
		given = getenv("TIDYHULL_CONFIG");
	call->config_path = given && *given ? given : NULL;
	if (call->config_path) {
		rc = th_config_read(call->config_path, &call->config, err);
		if (rc == 0)
			return th_fail(err, TH_NOT_FOUND,
				"the configuration file %s does not exist",
				call->config_path);
		return rc < 0 ? -1 : 0;
	}
	if (th_config_read("/etc/tidyhull/config.yaml", &call->config, err) < 0)
		return -1;
	path = own && *own ? th_format("%s/tidyhull/config.yaml", own)
			   : th_format("%s/.config/tidyhull/config.yaml",
				     home ? home : "");
	if (!path)
		return th_fail_memory(err);
	rc = th_config_read(path, &call->config, err);
	free(path);
	return rc < 0 ? -1 : 0;
}

/* Where the logins lie (docs/configuration.md). */
static int read_logins(struct invocation *call, struct th_error *err)
{
	const char *given = getenv("TIDYHULL_LOGINS");
	const char *own = getenv("XDG_CONFIG_HOME");
	const char *home = getenv("HOME");

	if (given && *given)
		call->logins_path = strdup(given);
	else if (own && *own)
		call->logins_path = th_format("%s/tidyhull/logins.json", own);
	else
		call->logins_path = th_format(
			"%s/.config/tidyhull/logins.json", home ? home : "");
	if (!call->logins_path)
		return th_fail_memory(err);
	return th_logins_read(call->logins_path, &call->logins, err);
}

/* The configuration, and the logins for all that may speak to a registry. */
static int open_registries(struct invocation *call, struct th_error *err)
{
	if (read_config(call, err) ||
		(call->verb->flags & VERB_REGISTRIES && read_logins(call, err)))
		return -1;
	call->registries.config = &call->config;
	call->registries.cancel.flags[0] = &interrupted;
	call->registries.access = th_access_new(&call->logins);
	return call->registries.access ? 0 : th_fail_memory(err);
}

static void describe_actor(const struct invocation *call, char actor[128])
{
	const struct verb *verb = call->verb;
	const char *sudo = getenv("SUDO_USER");
	const char *service = getenv("SYSTEMD_EXEC_PID");

	/* systemd.exec(5): it has executed this very process. */
	if (service && atoi(service) == (int)getpid()) {
		snprintf(actor, 128, "systemd: tidyhull %s", verb->name);
		return;
	}
	if (sudo && *sudo && !call->caller.unprivileged)
		snprintf(actor, 128, "%.40s (as root): tidyhull %s", sudo,
			verb->name);
	else
		snprintf(actor, 128, "%s: tidyhull %s", call->caller.name,
			verb->name);
}

bool caller_has_bus(void)
{
	const char *address = getenv("DBUS_SESSION_BUS_ADDRESS");
	const char *run = getenv("XDG_RUNTIME_DIR");
	char path[512];

	snprintf(path, sizeof(path), "%.500s/bus", run ? run : "");
	return (address && *address) || (run && access(path, F_OK) == 0);
}

static bool works_on_store(const struct invocation *call)
{
	return call->verb->flags & VERB_STORE ||
		(call->verb->flags & VERB_CHECKS &&
			(option_given(call, "verify") ||
				option_given(call, "repair")));
}

static int open_store(struct invocation *call, struct th_error *err)
{
	struct th_store **store = &call->context.store;

	if (call->verb->flags & VERB_CHECKS)
		return th_check_open(call->root, call->run,
			option_given(call, "repair"), store, &call->findings,
			err);
	return th_store_open(call->root, call->run, false, store, err);
}

static int run_on_store(struct invocation *call, struct th_error *err)
{
	struct th_context *context = &call->context;
	char actor[128], keeper[PROGRAM_PATH];
	struct progress progress = {0};
	struct th_error ignored = {0};
	int code;

	if (open_registries(call, err) || enter(call, err) ||
		open_store(call, err))
		return -1;
	context->store->unprivileged = call->caller.unprivileged;
	if (context->store->state_lost && !(call->verb->flags & VERB_CHECKS))
		fputs("note: the store's state.db was gone; tidyhull doctor "
		      "--repair takes up again what is on the disk\n",
			stderr);
	/* A state that cannot be written keeps what it has. */
	th_state_keep_events(context->store->db,
		call->config.keep_events ? call->config.keep_events
					 : TH_KEEP_EVENTS,
		&ignored);
	th_image_repair(context->store);
	describe_actor(call, actor);
	program_path("tidyhull-keeper", keeper);
	progress.quiet = call->quiet;
	context->actor = actor;
	context->user_bus = caller_has_bus();
	context->notify = getenv("NOTIFY_SOCKET");
	context->keeper = keeper;
	context->registries = &call->registries;
	context->choose = choose_registry;
	context->progress = progress_show;
	context->pulled = progress_pulled;
	context->owner = &progress;
	context->cancel = &interrupted;
	code = call->verb->flags & VERB_GROUPS && expand_groups(call, err)
		? say_error(err)
		: call->verb->run(call);
	progress_end(&progress);
	if (th_db_is_detached(context->store->db) && !call->quiet)
		fputs("note: the disk of the store cannot be written; what is "
		      "shown is true, but is not recorded yet\n",
			stderr);
	th_store_close(context->store);
	context->store = NULL;
	return code;
}

static int run(const struct verb *verb, int argc, char **argv)
{
	struct invocation call = {.verb = verb};
	struct th_strings folders = {0};
	struct th_error err = {0};
	bool help = false;
	int code = -1;

	find_caller(&call.caller);
	if (options_parse(&call, argc, argv, &help, &err))
		goto out;
	if (help) {
		verb_help(verb);
		code = EXIT_DONE;
		goto out;
	}
	if (choose_folders(&call, &folders, &err))
		goto out;
	if (works_on_store(&call))
		code = run_on_store(&call, &err);
	else if (!(verb->flags & VERB_REGISTRIES) ||
		open_registries(&call, &err) == 0)
		code = verb->run(&call);
out:
	if (err.code) {
		code = say_error(&err);
		if (verb->flags & VERB_PASSES_CODE)
			code = EXIT_TOOL;
	}
	th_access_free(call.registries.access);
	th_findings_release(&call.findings);
	th_logins_release(&call.logins);
	free(call.logins_path);
	th_config_release(&call.config);
	th_strings_release(&folders);
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
