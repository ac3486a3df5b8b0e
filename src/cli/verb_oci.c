/* oci: the operations of the OCI Runtime Specification on a bundle. */
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/json.h"
#include "base/file.h"
#include "base/path.h"
#include "cli/output.h"
#include "cli/programs.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "runtime/runtime.h"
#include "sandbox/enter.h"

/* What a call is about. */
struct request {
	char *dir; /* owned */
	const char *id;
	const char *log;
	bool entered; /* a user namespace, which the caller does not know */
};

/* A line of JSON for the engine that called. */
static void log_line(const struct request *request, const char *level,
	const struct th_error *err)
{
	char time_text[TH_TIME_TEXT];
	json_t *line;
	char *text;
	int fd;

	if (!request->log)
		return;
	th_clock_format(th_clock_now_us(), time_text);
	line = json_pack("{s:s s:s s:s s:s}", "time", time_text, "level", level,
		"msg", err->msg, "hint", err->hint);
	text = th_json_text(line, JSON_COMPACT);
	fd = open(
		request->log, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0644);
	if (!text || fd < 0 || dprintf(fd, "%s\n", text) < 0)
		fprintf(stderr, "tidyhull: cannot write the log %s: %s\n",
			request->log, strerror(errno));
	th_close(&fd);
	free(text);
	json_decref(line);
}

static int fail(const struct request *request, const struct th_error *err)
{
	log_line(request, "error", err);
	return say_error(err);
}

static void warn(const struct request *request, const struct th_error *warning)
{
	if (!warning->code)
		return;
	log_line(request, "warning", warning);
	say_note(warning->msg);
}

static int create(struct invocation *call, const struct request *request)
{
	const char *bundle = option_value(call, "bundle");
	const char *pid_file = option_value(call, "pid-file");
	const char *console = option_value(call, "console-socket");
	char keeper[PROGRAM_PATH], cwd[PATH_MAX];
	struct th_runtime_options options = {
		.dir = request->dir, .id = request->id};
	struct th_error warning = {0}, err = {0};
	char *paths[3];
	int rc;

	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	paths[0] = th_path_absolute(cwd, bundle ? bundle : ".");
	paths[1] = pid_file ? th_path_absolute(cwd, pid_file) : strdup("");
	paths[2] = console ? th_path_absolute(cwd, console) : strdup("");
	options.bundle = paths[0];
	options.pid_file = paths[1];
	options.console_socket = paths[2];
	options.entered = request->entered;
	program_path("tidyhull-keeper", keeper);
	rc = paths[0] && paths[1] && paths[2]
		? th_runtime_create_by(keeper, &options, &warning, &err)
		: th_fail_memory(&err);
	for (int i = 0; i < 3; i++)
		free(paths[i]);
	if (rc)
		return fail(request, &err);
	warn(request, &warning);
	return EXIT_DONE;
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
	int most; /* objects, with the operation itself */
	int (*run)(struct invocation *call, const struct request *request);
} operations[] = {{"create", 2, create}, {"start", 2, start},
	{"state", 2, state}, {"kill", 3, kill_it}, {"delete", 2, delete},
	{"features", 1, features}};

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

static int run(struct invocation *call)
{
	struct request request = {
		.id = call->object_count > 1 ? call->objects[1] : NULL,
		.log = option_value(call, "log")};
	const char *root = option_value(call, "root");
	struct th_error err = {0};
	char cwd[PATH_MAX];
	int code = -1;

	/* The owner of a user namespace has all rights over it from outside;
	 * another one of his would have none. */
	if (call->hull.caller.unprivileged &&
		strcmp(call->objects[0], "create") == 0) {
		bool single;

		if (th_user_enter(call->hull.caller.name, call->hull.caller.uid,
			    call->hull.caller.gid, &single, &err))
			return fail(&request, &err);
		request.entered = true;
	}
	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	request.dir = root ? th_path_absolute(cwd, root)
			   : th_format("%s/oci", call->hull.run_time);
	if (!request.dir) {
		th_fail_memory(&err);
		return say_error(&err);
	}
	if (!root && request.id && own_run_time(call, &err)) {
		free(request.dir);
		return fail(&request, &err);
	}
	for (size_t i = 0; i < sizeof(operations) / sizeof(*operations); i++) {
		if (strcmp(call->objects[0], operations[i].name) == 0 &&
			call->object_count <= operations[i].most &&
			(call->object_count > 1 || operations[i].most == 1))
			code = operations[i].run(call, &request);
	}
	if (code < 0) {
		th_fail(&err, TH_USAGE, "wrong usage of \"oci %.50s\"",
			call->objects[0]);
		th_hint(&err, "see: tidyhull help oci");
		code = fail(&request, &err);
	}
	free(request.dir);
	return code;
}

static const struct option_spec options[] = {
	{"bundle", "DIR", "create: the bundle; by default the current folder"},
	{"pid-file", "FILE", "create: write the process ID to this file"},
	{"console-socket", "PATH",
		"create: send the terminal to this local socket"},
	{"log", "FILE",
		"append errors and warnings to this file as lines of JSON"},
	{"all", NULL, "kill: send it to all processes"},
	{"force", NULL, "delete: kill it first"}, {NULL, NULL, NULL}};

static const char *const text[] = {
	"For schedulers and engines: the operations of the OCI Runtime",
	"Specification on any bundle, without image, store or keeper.", "",
	"  oci create ID          create it; its process waits for start",
	"  oci start ID           run the program of config.json",
	"  oci state ID           print its state, as the specification "
	"defines it",
	"  oci kill ID [SIGNAL]   send a signal (TERM)",
	"  oci delete ID          remove a stopped container",
	"  oci features           print what this runtime can do", "",
	"--root DIR holds the states; by default they are with the run-time "
	"files.",
	NULL};

static const char *const examples[] = {
	"tidyhull oci create --bundle ./gauge gauge-1",
	"tidyhull oci start gauge-1", "tidyhull oci state gauge-1",
	"tidyhull oci kill gauge-1 KILL", "tidyhull oci delete gauge-1", NULL};

const struct verb verb_oci = {.name = "oci",
	.group = "system",
	.summary = "the OCI Runtime Specification's operations on a bundle",
	.usage = "create|start|state|kill|delete ID | features",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = 0,
	.least = 1,
	.most = 3,
	.run = run};
