/* oci: the operations of the OCI Runtime Specification on a bundle. */
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/json.h"
#include "base/file.h"
#include "base/path.h"
#include "cli/oci_bundle.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "model/settings.h"
#include "runtime/runtime.h"
#include "sandbox/enter.h"

/* What a call is about. */
struct request {
	char *dir; /* owned */
	const char *id;
	const char *log;
	bool entered; /* a user namespace, which the caller does not know */
};

static int fail(const struct request *request, const struct th_error *err)
{
	th_runtime_log(request->log, "error", err);
	return say_error(err);
}

static void warn(const struct request *request, const struct th_error *warning)
{
	if (!warning->code)
		return;
	th_runtime_log(request->log, "warning", warning);
	say_note(warning->msg);
}

/* What create and run have in common. */
struct bundle_call {
	struct th_runtime_options options;
	char keeper[PROGRAM_PATH];
	char *bundle, *pid_file, *console, *output; /* owned */
	struct th_strings env;
};

/* "" stays "". */
static char *whole_path(const char *cwd, const char *path)
{
	return path && *path ? th_path_absolute(cwd, path) : strdup("");
}

/* KEY=VALUE; or variables of the caller: one by its name, or all that begin so
 * ("TASK_*"). */
static int take_env(void *owner, const char *pattern, struct th_error *err)
{
	size_t len = strlen(pattern);
	bool all = len && pattern[len - 1] == '*', found = false;

	if (strchr(pattern, '='))
		return *pattern == '='
			? th_fail(err, TH_USAGE,
				  "\"%.100s\" is not an environment "
				  "setting",
				  pattern)
			: th_strings_add(owner, pattern) ? th_fail_memory(err)
							 : 0;
	len -= all;
	for (char **pair = environ; *pair; pair++) {
		if (strncmp(*pair, pattern, len) != 0 ||
			(!all && (*pair)[len] != '='))
			continue;
		found = true;
		if (th_strings_add(owner, *pair))
			return th_fail_memory(err);
	}
	return found || all
		? 0
		: th_fail(err, TH_USAGE,
			  "%.100s is not set in your environment", pattern);
}

static int read_call(const struct invocation *call,
	const struct request *request, struct bundle_call *made,
	struct th_error *err)
{
	const char *bundle = option_value(call, "bundle");
	const char *output = option_value(call, "output");
	static char *const none[] = {NULL};
	char cwd[PATH_MAX];

	memset(made, 0, sizeof(*made));
	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	made->bundle = th_path_absolute(cwd, bundle ? bundle : ".");
	made->pid_file = whole_path(cwd, option_value(call, "pid-file"));
	made->console = whole_path(cwd, option_value(call, "console-socket"));
	made->output = output && strcmp(output, "none") == 0
		? strdup(output)
		: whole_path(cwd, output);
	made->options = (struct th_runtime_options){.dir = request->dir,
		.id = request->id,
		.bundle = made->bundle,
		.pid_file = made->pid_file,
		.console_socket = made->console,
		.output = made->output,
		.entered = request->entered};
	program_path("tidyhull-keeper", made->keeper);
	if (each_option(call, "env", take_env, &made->env, err))
		return -1;
	/* Ended by NULL once there is one. */
	made->options.env = made->env.count ? made->env.items : none;
	return made->bundle && made->pid_file && made->console && made->output
		? 0
		: th_fail_memory(err);
}

static void call_release(struct bundle_call *made)
{
	free(made->bundle);
	free(made->pid_file);
	free(made->console);
	free(made->output);
	th_strings_release(&made->env);
}

static int create(struct invocation *call, const struct request *request)
{
	struct th_error warning = {0}, err = {0};
	struct bundle_call made;
	int rc = read_call(call, request, &made, &err);

	if (rc == 0)
		rc = th_runtime_create_by(
			made.keeper, &made.options, &warning, &err);
	call_release(&made);
	if (rc)
		return fail(request, &err);
	warn(request, &warning);
	return EXIT_DONE;
}

/* The program that goes on in the place of this one is small, and cannot be
 * changed by a container. */
static int run_it(struct invocation *call, const struct request *request)
{
	struct th_error err = {0};
	struct bundle_call made;
	int rc = read_call(call, request, &made, &err);

	if (option_given(call, "console-socket") ||
		option_given(call, "output"))
		rc = th_fail(&err, TH_USAGE,
			"\"oci run\" has the terminal and the streams of its "
			"caller");
	fflush(stdout);
	if (rc == 0)
		th_runtime_run_by(made.keeper, &made.options,
			request->log ? request->log : "", &err);
	call_release(&made);
	fail(request, &err);
	return EXIT_TOOL;
}

static int start(struct invocation *call, const struct request *request)
{
	struct th_error err = {0}, warning = {0};

	(void)call;
	if (th_runtime_start(request->dir, request->id, &warning, &err))
		return fail(request, &err);
	warn(request, &warning);
	return EXIT_DONE;
}

static int state(struct invocation *call, const struct request *request)
{
	struct th_error err = {0};
	char *text = NULL;

	(void)call;
	if (th_runtime_state(request->dir, request->id, &text, &err))
		return fail(request, &err);
	print_json(json_loads(text, 0, NULL));
	free(text);
	return EXIT_DONE;
}

static int kill_it(struct invocation *call, const struct request *request)
{
	const char *text = call->object_count > 2 ? call->objects[2] : "TERM";
	int number = th_signal_parse(text);
	struct th_error err = {0};

	if (number < 0) {
		th_fail(&err, TH_USAGE, "\"%.50s\" is not a signal", text);
		return fail(request, &err);
	}
	return th_runtime_kill(request->dir, request->id, number,
		       option_given(call, "all"), &err)
		? fail(request, &err)
		: EXIT_DONE;
}

static int delete (struct invocation *call, const struct request *request)
{
	struct th_error err = {0}, warning = {0};

	if (th_runtime_delete(request->dir, request->id,
		    option_given(call, "force"), &warning, &err))
		return fail(request, &err);
	warn(request, &warning);
	return EXIT_DONE;
}

static int features(struct invocation *call, const struct request *request)
{
	(void)call;
	(void)request;
	return print_json(th_runtime_features());
}

static const struct {
	const char *name;
	int least, most; /* objects, with the operation itself */
	int (*run)(struct invocation *call, const struct request *request);
} operations[] = {{"create", 2, 2, create}, {"run", 2, 2, run_it},
	{"start", 2, 2, start}, {"state", 2, 2, state}, {"kill", 2, 3, kill_it},
	{"delete", 2, 2, delete}, {"features", 1, 1, features}};

/* Where everybody may make folders, another user can have made it first, to
 * have a say in which processes are signalled. */
static int own_run_time(const struct invocation *call, struct th_error *err)
{
	int fd;

	if (th_dir_make(call->hull.run_time, 0700, err))
		return -1;
	fd = th_dir_open_private(call->hull.run_time, err);
	if (fd < 0)
		return -1;
	close(fd);
	return 0;
}

/* The owner of a user namespace has all rights over it from outside; another
 * one of his would have none. */
static int enter_users(const struct invocation *call, struct request *request,
	struct th_error *err)
{
	const struct th_caller *caller = &call->hull.caller;
	const char *name = call->objects[0];
	bool single;

	if (!caller->unprivileged ||
		(strcmp(name, "create") != 0 && strcmp(name, "run") != 0))
		return 0;
	request->entered = true;
	return th_user_enter(
		caller->name, caller->uid, caller->gid, &single, err);
}

static int find_states(const struct invocation *call, struct request *request,
	struct th_error *err)
{
	const char *root = option_value(call, "root");
	char cwd[PATH_MAX];

	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	request->dir = root ? th_path_absolute(cwd, root)
			    : th_format("%s/oci", call->hull.run_time);
	if (!request->dir)
		return th_fail_memory(err);
	return root || !request->id ? 0 : own_run_time(call, err);
}

/* Those of a bundle mean nothing to the others. */
static int check_options(const struct invocation *call, struct th_error *err)
{
	const char *wrong = call->has_command ? "a command" : NULL;
	bool makes = strcmp(call->objects[0], "create") == 0 ||
		strcmp(call->objects[0], "run") == 0;
	char text[60];

	for (int i = 0; i < call->option_count; i++) {
		const char *name = call->options[i].name;

		if (strcmp(name, "log") == 0 ||
			(makes && strcmp(name, "env") == 0))
			continue;
		if (th_setting_find(name) || strcmp(name, "fetch") == 0) {
			snprintf(text, sizeof(text), "--%.50s", name);
			wrong = text;
		}
	}
	return wrong
		? th_fail(err, TH_USAGE,
			  "\"oci %.30s\" does not take %s: config.json says "
			  "what runs, and how",
			  call->objects[0], wrong)
		: 0;
}

static int operate(struct invocation *call, struct request *request)
{
	const char *name = call->objects[0];
	int count = call->object_count;
	struct th_error err = {0};

	if (check_options(call, &err) || enter_users(call, request, &err) ||
		find_states(call, request, &err))
		return fail(request, &err);
	for (size_t i = 0; i < sizeof(operations) / sizeof(*operations); i++) {
		if (strcmp(name, operations[i].name) == 0 &&
			count >= operations[i].least &&
			count <= operations[i].most)
			return operations[i].run(call, request);
	}
	th_fail(&err, TH_USAGE, "wrong usage of \"oci %.50s\"", name);
	th_hint(&err, "see: tidyhull help oci");
	return fail(request, &err);
}

static int run(struct invocation *call)
{
	struct request request = {
		.id = call->object_count > 1 ? call->objects[1] : NULL,
		.log = option_value(call, "log")};
	int code = call->hull.context.store ? oci_bundle(call)
					    : operate(call, &request);

	free(request.dir);
	return code;
}

static const struct option_spec options[] = {
	{"bundle", "DIR",
		"create, run: the bundle; by default the current folder"},
	{"pid-file", "FILE", "create, run: write the process ID to this file"},
	{"console-socket", "PATH",
		"create: send the terminal to this local socket"},
	{"output", "FILE",
		"create: the program's output goes to FILE, or nowhere "
		"(none)"},
	{"log", "FILE",
		"append errors and warnings to this file as lines of JSON"},
	{"all", NULL, "kill: send it to all processes"},
	{"force", NULL, "delete: kill it first"}, OCI_BUNDLE_OPTIONS,
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"For schedulers and engines: the operations of the OCI Runtime",
	"Specification on any bundle, without image, store or keeper.", "",
	"  oci create ID          create it; its process waits for start",
	"  oci run ID             all in one, in the foreground: create, "
	"start, "
	"wait, delete;",
	"                         signals are passed on, and the exit code is "
	"the program's",
	"  oci start ID           run the program of config.json",
	"  oci state ID           print its state, as the specification "
	"defines it",
	"  oci kill ID [SIGNAL]   send a signal (TERM)",
	"  oci delete ID          remove a stopped container",
	"  oci features           print what this runtime can do",
	"  oci bundle IMAGE DIR   write a bundle that any OCI runtime takes: "
	"config.json",
	"                         and the unpacked root, of an image with "
	"settings",
	"",
	"A created container has the streams of \"oci create\": who reads them "
	"to "
	"their",
	"end waits for it. With --output it does not, and its input is empty.",
	"",
	"--root DIR holds the states; by default they are with the run-time "
	"files. Of",
	"\"oci bundle\" it is the store that the image is taken from.", "",
	"A bundle is on the host's network and has its host name, unless it is "
	"told",
	"otherwise. An unprivileged user's belongs to that user, who is the "
	"program's",
	"user inside: it can lie on a file system that several hosts share.",
	NULL};

static const char *const examples[] = {
	"tidyhull oci bundle selwick/gauge ./gauge --env STATION=north",
	"tidyhull oci run --bundle ./gauge gauge-1",
	"tidyhull oci create --bundle ./gauge gauge-1 --output gauge.log",
	"tidyhull oci start gauge-1", "tidyhull oci state gauge-1",
	"tidyhull oci kill gauge-1 KILL", "tidyhull oci delete gauge-1", NULL};

const struct verb verb_oci = {.name = "oci",
	.group = "system",
	.summary = "the OCI Runtime Specification's operations on a bundle",
	.usage = "run|create|start|state|kill|delete ID | features | bundle "
		 "IMAGE DIR",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_COMMAND | VERB_BUNDLES,
	.least = 1,
	.most = 3,
	.run = run};
