/* launch: create and start in the background. */
#include <stdio.h>

#include "cli/doc.h"
#include "cli/group_launch.h"
#include "cli/making.h"
#include "cli/output.h"
#include "cli/replacing.h"
#include "cli/settings_text.h"
#include "cli/verbs.h"

static int start(struct invocation *call, const json_t *container)
{
	const char *id = doc_text(container, "id");
	struct th_error err = {0}, ignored = {0}; /* swept later */
	char reach[512];
	json_t *now = NULL;

	if (th_container_begin(call->hull, id, &now, &err)) {
		/* Half a launch is none. */
		th_remove(call->hull, id, TH_KIND_CONTAINER, true, NULL,
			&ignored);
		return say_error(&err);
	}
	if (call->json)
		return print_json(now);
	if (call->quiet) {
		printf("%s\n", id);
	} else {
		printf("launched %s (%s)\n", doc_text(now, "name"), id);
		reach_text(now, reach, sizeof(reach));
		if (reach[0])
			printf("  port %s\n", reach);
	}
	json_decref(now);
	return EXIT_DONE;
}

/* 1 where --settings names a file of a group, which has been launched. */
static int launch_group(
	struct invocation *call, int *code, struct th_error *err)
{
	json_t *file = NULL;
	int rc = 0;

	if (!option_given(call, "settings"))
		return 0;
	if (settings_file_load(call, &file, err)) {
		rc = -1;
	} else if (*doc_text(file, "group")) {
		*code = group_launch(call, file);
		rc = 1;
	}
	json_decref(file);
	return rc;
}

static int run(struct invocation *call)
{
	json_t *container = NULL;
	struct th_error err = {0};
	struct making making;
	int code, rc = launch_group(call, &code, &err);

	if (rc)
		return rc < 0 ? say_error(&err) : code;
	if (making_read(call, &making, false, &err)) {
		making_release(&making);
		return say_error(&err);
	}
	code = making_create(call, &making, &container);
	if (code == EXIT_DONE)
		code = start(call, container);
	making_release(&making);
	json_decref(container);
	return code < 0 ? EXIT_DONE : code;
}

static const struct option_spec options[] = {MAKING_OPTIONS,
	{"on-failure", "WHAT",
		"of a group: keep what is up (the default), or undo all"},
	REPLACING_OPTIONS, {NULL, NULL, NULL}};

static const char *const text[] = {
	"The container is kept when it ends, for logs, why and start.", "",
	"A settings file that describes a group brings up what is missing, "
	"makes",
	"anew what is described differently, and leaves the rest alone. What "
	"the",
	"file no longer has is removed, after a question or with --yes.", NULL};

static const char *const examples[] = {
	"tidyhull launch selwick/gauge --name gauge-north --port 80=8080 \\",
	"    --mount /srv/history=./history --env STATION=north",
	"curl localhost:8080",
	"tidyhull launch --settings harbour.yaml --given EDITION=4", NULL};

const struct verb verb_launch = {.name = "launch",
	.group = "containers",
	.called = "up background spawn daemon deploy serve detach",
	.takes = "image file",
	.summary =
		"create and start in the background: a container, or a group",
	.usage = "IMAGE [OPTIONS] [-- COMMAND...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS | VERB_REGISTRIES | VERB_COMMAND |
		VERB_JSON,
	.least = 0,
	.most = 1,
	.run = run};
