/* Other limits for the running container. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "keeper/keeper.h"

static int adjust(
	struct keeper *keeper, const json_t *request, struct th_error *err)
{
	struct th_resources resources;
	const char *limit = NULL, *actor = NULL;
	char cause[200];
	struct th_change step = {.to = TH_STATE_RUNNING,
		.pid = keeper->sandbox.pid,
		.cause = cause};
	int rc;

	th_resources_init(&resources);
	if (th_json_string(request, "limit", "a request", &limit, err) < 0 ||
		th_json_string(request, "actor", "a request", &actor, err) <
			0 ||
		th_resources_parse(request, &resources, err) < 0) {
		th_resources_release(&resources);
		return -1;
	}
	if (keeper->ended)
		rc = th_fail(err, TH_FAILED, "the container is ending");
	else
		rc = th_cgroup_limit(&keeper->cgroup, &resources, err);
	th_resources_release(&resources);
	if (rc || keeper->paused)
		return rc;
	snprintf(cause, sizeof(cause), "its limits are now: %.150s",
		limit && *limit ? limit : "none");
	step.actor = actor ? actor : "";
	return th_state_change(keeper->store->db, keeper->id, &step, err);
}

void keeper_adjust(struct client *client, const struct th_message *message)
{
	struct keeper *keeper = client->keeper;
	struct th_error err = {0};
	json_t *doc = NULL;

	if (th_json_parse(message->data, message->len, "a request", &doc,
		    &err) == 0 &&
		adjust(keeper, doc, &err) == 0) {
		/* A limit may have brought a hierarchy that the process is
		 * not in yet. */
		struct th_error ignored = {0};
		pid_t *pids = NULL;
		size_t count = 0;

		if (th_cgroup_processes(
			    &keeper->cgroup, &pids, &count, &ignored) == 1) {
			for (size_t i = 0; i < count; i++)
				th_cgroup_attach(&keeper->cgroup, pids[i],
					false, &ignored);
		}
		free(pids);
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
	} else {
		keeper_tell(client, TH_TELL_FAILED, &err, sizeof(err));
	}
	json_decref(doc);
}
