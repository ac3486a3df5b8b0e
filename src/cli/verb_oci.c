/* oci: the operations of the OCI Runtime Specification on a bundle. */
#include <errno.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/path.h"
#include "cli/doc.h"
#include "cli/oci_bundle.h"
#include "cli/oci_user.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "cli/words.h"

/* What a call is about. */
struct request {
	th_hull *hull;
	char *states; /* owned; NULL: the usual folder */
	const char *id;
	const char *log;
};

static int fail(const struct request *request, const struct th_error *err)
{
	th_oci_log(request->log, "error", err);
	return say_error(err);
}

/* Where it went well, with a warning or without. */
static int done(const struct request *request, const struct th_error *warning)
{
	if (warning->code) {
		th_oci_log(request->log, "warning", warning);
		say_note(warning->msg);
	}
	return EXIT_DONE;
}

/* ---- what create and run have in common ---- */

/* "" stays "". */
static void set_path(
	json_t *doc, const char *key, const char *cwd, const char *path)
{
	char *whole = path && *path ? th_path_absolute(cwd, path) : NULL;

	doc_set(doc, key, whole);
	free(whole);
}

static int add_pair(json_t *list, const char *pair)
{
	return json_array_append_new(list, json_string_nocheck(pair));
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
			: add_pair(owner, pattern);
	len -= all;
	for (char **pair = environ; *pair; pair++) {
		if (strncmp(*pair, pattern, len) != 0 ||
			(!all && (*pair)[len] != '='))
			continue;
		found = true;
		add_pair(owner, *pair);
	}
	return found || all
		? 0
		: th_fail(err, TH_USAGE,
			  "%.100s is not set in your environment", pattern);
}

static int read_call(const struct invocation *call,
	const struct request *request, json_t **made, struct th_error *err)
{
	const char *bundle = option_value(call, "bundle");
	const char *output = option_value(call, "output");
	json_t *doc = json_object(), *env = json_array();
	char cwd[PATH_MAX];

	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	doc_set(doc, "id", request->id);
	doc_set(doc, "log", request->log);
	set_path(doc, "bundle", cwd, bundle ? bundle : ".");
	set_path(doc, "pid-file", cwd, option_value(call, "pid-file"));
	set_path(doc, "console-socket", cwd,
		option_value(call, "console-socket"));
	if (output && strcmp(output, "none") == 0)
		doc_set(doc, "output", output);
	else
		set_path(doc, "output", cwd, output);
	json_object_set_new(doc, "env", env);
	*made = doc;
	return each_option(call, "env", take_env, env, err);
}

static int create(struct invocation *call, const struct request *request)
{
	struct th_error warning = {0}, err = {0};
	json_t *made;
	int rc = read_call(call, request, &made, &err);

	if (rc == 0)
		rc = th_oci_create(
			request->hull, request->states, made, &warning, &err);
	json_decref(made);
	return rc ? fail(request, &err) : done(request, &warning);
}

/* The program that goes on in the place of this one is small, and cannot be
 * changed by a container. */
static int run_it(struct invocation *call, const struct request *request)
{
	struct th_error err = {0};
	json_t *made;
	int rc = read_call(call, request, &made, &err);

	if (option_given(call, "console-socket") ||
		option_given(call, "output"))
		rc = th_fail(&err, TH_USAGE,
			"\"oci run\" has the terminal and the streams of its "
			"caller");
	fflush(stdout);
	if (rc == 0)
		th_oci_run(request->hull, request->states, made, &err);
	json_decref(made);
	fail(request, &err);
	return EXIT_TOOL;
}

/* ---- the others ---- */

static int start(struct invocation *call, const struct request *request)
{
	struct th_error err = {0}, warning = {0};

	(void)call;
	return th_oci_start(request->hull, request->states, request->id,
		       &warning, &err)
		? fail(request, &err)
		: done(request, &warning);
}

static int state(struct invocation *call, const struct request *request)
{
	struct th_error err = {0};
	json_t *doc = NULL;

	(void)call;
	return th_oci_state(
		       request->hull, request->states, request->id, &doc, &err)
		? fail(request, &err)
		: print_json(doc);
}

static int kill_it(struct invocation *call, const struct request *request)
{
	struct th_error err = {0};

	return th_oci_kill(request->hull, request->states, request->id,
		       call->object_count > 2 ? call->objects[2] : "TERM",
		       option_given(call, "all"), &err)
		? fail(request, &err)
		: EXIT_DONE;
}

static int delete (struct invocation *call, const struct request *request)
{
	struct th_error err = {0}, warning = {0};

	return th_oci_delete(request->hull, request->states, request->id,
		       option_given(call, "force"), &warning, &err)
		? fail(request, &err)
		: done(request, &warning);
}

static int features(struct invocation *call, const struct request *request)
{
	struct th_error err = {0};
	json_t *doc = NULL;

	(void)call;
	return th_oci_features(&doc, &err) ? fail(request, &err)
					   : print_json(doc);
}

static const struct {
	const char *name;
	int least, most; /* objects, with the operation itself */
	int (*run)(struct invocation *call, const struct request *request);
} operations[] = {{"create", 2, 2, create}, {"run", 2, 2, run_it},
	{"start", 2, 2, start}, {"state", 2, 2, state}, {"kill", 2, 3, kill_it},
	{"delete", 2, 2, delete}, {"features", 1, 1, features}};

static int find_states(const struct invocation *call, struct request *request,
	struct th_error *err)
{
	const char *root = option_value(call, "root");
	const char *user = option_value(call, "of");
	char cwd[PATH_MAX];

	if (user && oci_act_for(user, err))
		return -1;

	if (!root)
		return 0;
	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	request->states = th_path_absolute(cwd, root);
	return request->states ? 0 : th_fail_memory(err);
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

		if (strcmp(name, "log") == 0 || strcmp(name, "of") == 0 ||
			(makes && strcmp(name, "env") == 0))
			continue;
		if (setting_word(name) || strcmp(name, "fetch") == 0) {
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

	if (check_options(call, &err) || find_states(call, request, &err))
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
	struct request request = {.hull = call->hull,
		.id = call->object_count > 1 ? call->objects[1] : NULL,
		.log = option_value(call, "log")};
	int code = strcmp(call->objects[0], "bundle") == 0
		? oci_bundle(call)
		: operate(call, &request);

	free(request.states);
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
	{"of", "USER", "act as this user; the states are the user's own"},
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
	.called = "runtime spec",
	.takes = "operation",
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
