/* restart: stop where it runs, and start. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "cli/each.h"
#include "cli/group_acts.h"
#include "cli/output.h"
#include "cli/remaking.h"
#include "cli/replacing.h"
#include "cli/verbs.h"

static int restart(struct invocation *call, const json_t *container)
{
	const char *id = doc_text(container, "id");
	const char *name = doc_text(container, "name");
	struct th_error err = {0}, ignored = {0}; /* a port is not told then */
	char reach[512];
	json_t *now = NULL;
	int grace_ms;

	if (read_grace(call, &grace_ms, &err) ||
		th_container_again(call->hull, id, grace_ms, &err)) {
		char reason[sizeof(err.msg)];

		snprintf(reason, sizeof(reason), "%s", err.msg);
		snprintf(err.msg, sizeof(err.msg),
			"cannot restart \"%.60s\": %.400s", name, reason);
		return say_error(&err);
	}
	if (call->quiet) {
		printf("%s\n", id);
		return EXIT_DONE;
	}
	th_object(call->hull, id, TH_KIND_CONTAINER, TH_BRIEF, &now, &ignored);
	reach_text(now, reach, sizeof(reach));
	printf("restarted %s%s%s\n", name, reach[0] ? ", port " : "", reach);
	json_decref(now);
	return EXIT_DONE;
}

/* Of a group: all down, and up again in its order. */
static int restart_in_order(
	struct invocation *call, const json_t *ids, int grace_ms)
{
	int code = stop_all(call, ids, grace_ms, false);

	return code ? code : start_in_order(call, ids);
}

/* The newest image of its name, and everything else as it was. */
static int update(struct invocation *call, const json_t *container)
{
	struct invocation merged;
	struct making making;
	struct th_error err = {0};
	int code;

	if (remaking_read(
		    call, doc_text(container, "id"), &making, &merged, &err))
		code = say_error(&err);
	else
		code = replacing_run(call, container, &making, true, false);
	free(merged.options == call->options ? NULL : merged.options);
	making_release(&making);
	return code;
}

static int check_fetch(const struct invocation *call, struct th_error *err)
{
	const char *fetch = option_value(call, "fetch");

	if (fetch && strcmp(fetch, "always") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --fetch here; use always",
			fetch);
	if (!fetch && option_given(call, "ready-within"))
		return th_fail(
			err, TH_USAGE, "--ready-within needs --fetch always");
	return 0;
}

static int restart_found(
	struct invocation *call, const json_t *ids, int grace_ms)
{
	bool fetch = option_given(call, "fetch");
	json_t *order = NULL, *one;
	struct th_error err = {0};
	int code = EXIT_DONE;
	size_t i;

	if (th_containers_order(call->hull, ids, &order, &err)) {
		code = say_error(&err);
	} else if (!fetch && doc_flag(order, "ordered")) {
		code = restart_in_order(call, ids, grace_ms);
	} else {
		json_array_foreach(doc_part(order, "containers"), i, one)
		{
			int rc = fetch ? update(call, one) : restart(call, one);

			code = code ? code : rc;
		}
	}
	json_decref(order);
	return code;
}

static int run(struct invocation *call)
{
	struct th_error err = {0};
	json_t *list, *ids;
	int grace_ms, code, rc;

	if (read_grace(call, &grace_ms, &err) || check_fetch(call, &err))
		return say_error(&err);
	code = find_containers(call, is_up, &list);
	ids = ids_of(list);
	rc = restart_found(call, ids, grace_ms);
	json_decref(ids);
	json_decref(list);
	return code ? code : rc;
}

static const struct option_spec options[] = {
	{"all", NULL, "all that are running or waiting"},
	{"fetch", "WHEN", "always: with the newest image of its name"},
	REPLACING_OPTIONS, {NULL, NULL, NULL}};

static const char *const text[] = {
	"Its ports stay bound in between. A stopped container is started.", "",
	"With --fetch always, the image is pulled anew, and a container of it",
	"takes the place: settings, volumes, name and ports stay, and what was",
	"written to its files goes. If it is not ready in time, the former one",
	"runs again.", NULL};

static const char *const examples[] = {"tidyhull restart gauge-north",
	"tidyhull restart --all --grace 2s",
	"tidyhull restart --fetch always group:harbour", NULL};

const struct verb verb_restart = {.name = "restart",
	.group = "containers",
	.called = "reboot reload bounce",
	.takes = "container group",
	.summary = "stop a container and start it again",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS_MADE | VERB_REGISTRIES,
	.least = 0,
	.most = -1,
	.run = run};
