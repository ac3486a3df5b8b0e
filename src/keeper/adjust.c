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
	struct th_cause cause = {.kind = TH_CAUSE_LIMITS};
	int rc;

	th_resources_init(&resources);
	if (th_json_string(request, "limit", "a request", &limit, err) < 0 ||
		th_json_string(request, "actor", "a request", &actor, err) <
			0 ||
		th_resources_parse(request, &resources, err) < 0) {
		th_resources_release(&resources);
		return -1;
	}
	if (!keeper_runs(keeper))
		rc = th_fail(err, TH_FAILED, "the container is ending");
	else
		rc = th_cgroup_limit(&keeper->cgroup, &resources, err);
	th_resources_release(&resources);
	if (rc)
		return rc;
	snprintf(cause.text, sizeof(cause.text), "%s", limit ? limit : "");
	keeper_note_by(keeper, &cause, actor ? actor : "");
	return 0;
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
		struct th_error ignored = {0}; /* the group holds it */
		pid_t *pids = NULL;
		size_t count = 0;

		if (th_cgroup_processes(
			    &keeper->cgroup, &pids, &count, &ignored) == 1) {
			for (size_t i = 0; i < count; i++)
				th_cgroup_attach_old(
					&keeper->cgroup, pids[i], &ignored);
		}
		free(pids);
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
	} else {
		keeper_tell_error(client, &err);
	}
	json_decref(doc);
}

/* Policy and probe as the state has them from now on. */
static int reload(struct keeper *keeper, struct th_error *err)
{
	struct th_container_row row;
	struct th_plan plan = {0};
	int rc = th_state_get(keeper->store->db, keeper->id, &row, err);

	if (rc == 0)
		return th_fail(err, TH_NOT_FOUND, "the container is gone");
	if (rc < 0 || th_plan_read_whole(keeper->folder_fd, &row, &plan, err))
		return -1;
	keeper->policy = plan.policy;
	if (strcmp(row.probe, keeper->row.probe) != 0) {
		bool any = plan.probe.kind != TH_PROBE_NONE;

		keeper_probe_end(keeper);
		keeper_probe_take(keeper, &plan.probe);
		if (keeper_runs(keeper))
			keeper_probe_begin(keeper);
		keeper_note_health(keeper,
			&(struct th_cause){.kind = any
					? TH_CAUSE_PROBE_CHANGED
					: TH_CAUSE_PROBE_DROPPED},
			any ? "warming" : "");
	}
	th_plan_release(&plan);
	keeper->row = row;
	return 0;
}

void keeper_reload(struct client *client)
{
	struct keeper *keeper = client->keeper;
	struct th_error err = {0};

	if (reload(keeper, &err)) {
		keeper_tell_error(client, &err);
		return;
	}
	keeper_tell(client, TH_TELL_DONE, NULL, 0);
	/* One that is never to be restarted has nothing to wait for. */
	if (keeper->state == STATE_WAITING && keeper->policy.kind == TH_NEVER)
		keeper_end_wait(keeper, TH_CAUSE_POLICY_NEVER, "keeper", true);
}
