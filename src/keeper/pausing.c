/* Freezing and thawing all processes of the container, by the freezer of its
 * control group. Processes freeze when they next leave the kernel: the group is
 * looked at in steps, and who asks is answered when the last one has. */
#include <stdio.h>

#include "base/clock.h"
#include "base/json.h"
#include "keeper/keeper.h"
#include "sandbox/rights.h"

/* A process that is deep in the kernel freezes when it comes out of it. */
#define PATIENCE_MS 2000
#define STEP_MS 1

void keeper_thaw(struct keeper *keeper)
{
	struct client *asker = keeper->pausing.client;
	struct th_error err = {0};

	if (keeper->pausing.paused || asker)
		th_cgroup_freeze(&keeper->cgroup, false, &err);
	keeper->pausing.paused = false;
	keeper->pausing.client = NULL;
	if (!asker)
		return;
	th_error_clear(&err);
	th_fail(&err, TH_FAILED, "the container is ending");
	keeper_tell_error(asker, &err);
}

bool keeper_is_pausing(const struct keeper *keeper)
{
	return keeper->pausing.paused || keeper->pausing.client;
}

static void record(struct keeper *keeper, bool pause, const char *actor)
{
	struct th_change step = {
		.to = pause ? TH_STATE_PAUSED : TH_STATE_RUNNING,
		.pid = keeper->sandbox.pid,
		.cause = {.kind = pause ? TH_CAUSE_PAUSED : TH_CAUSE_RESUMED},
		.actor = actor ? actor : ""};

	keeper->pausing.paused = pause;
	keeper_record_change(keeper, &step);
}

static int check(struct keeper *keeper, bool pause, struct th_error *err)
{
	if (!keeper_runs(keeper) || keeper->stopping.asked)
		return th_fail(err, TH_FAILED, "the container is ending");
	if (keeper->pausing.client)
		return th_fail(
			err, TH_FAILED, "the container is just being paused");
	if (keeper->pausing.paused == pause)
		return th_fail(err, TH_FAILED, "the container is %s",
			pause ? "already paused" : "not paused");
	return 0;
}

int64_t keeper_pause_due(const struct keeper *keeper)
{
	return keeper->pausing.client ? keeper->pausing.next_ms : 0;
}

void keeper_pause_work(struct keeper *keeper)
{
	struct pausing *pausing = &keeper->pausing;
	struct client *client = pausing->client;
	struct th_error err = {0};

	if (!client || th_clock_mono_ms() < pausing->next_ms)
		return;
	if (th_cgroup_is_frozen(&keeper->cgroup)) {
		pausing->client = NULL;
		record(keeper, true, pausing->actor);
		client->holds = pausing->hold;
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
		return;
	}
	pausing->next_ms = th_clock_mono_ms() + STEP_MS;
	if (pausing->next_ms <= pausing->until_ms)
		return;
	/* Half frozen is worse than not at all. */
	pausing->client = NULL;
	th_rights_raise();
	th_cgroup_freeze(&keeper->cgroup, false, &err);
	th_rights_rest();
	th_error_clear(&err);
	th_fail(&err, TH_FAILED, "not all of its processes could be frozen");
	keeper_tell_error(client, &err);
}

static int begin(struct client *client, bool pause, bool hold,
	const char *actor, struct th_error *err)
{
	struct keeper *keeper = client->keeper;
	struct pausing *pausing = &keeper->pausing;

	if (check(keeper, pause, err) ||
		th_cgroup_freeze(&keeper->cgroup, pause, err))
		return -1;
	if (!pause) {
		record(keeper, false, actor);
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
		return 0;
	}
	pausing->client = client;
	pausing->hold = hold;
	pausing->next_ms = th_clock_mono_ms();
	pausing->until_ms = pausing->next_ms + PATIENCE_MS;
	snprintf(pausing->actor, sizeof(pausing->actor), "%s",
		actor ? actor : "");
	keeper_pause_work(keeper);
	return 0;
}

void keeper_pause_request(
	struct client *client, const struct th_message *message)
{
	bool pause = message->type == TH_SAY_PAUSE, hold = false;
	const char *actor = NULL;
	struct th_error err = {0};
	json_t *doc = NULL;

	if (th_json_parse(
		    message->data, message->len, "a request", &doc, &err) ||
		th_json_string(doc, "actor", "a request", &actor, &err) < 0 ||
		th_json_bool(doc, "hold", "a request", &hold, &err) < 0 ||
		begin(client, pause, hold, actor, &err))
		keeper_tell_error(client, &err);
	json_decref(doc);
}

void keeper_end_hold(struct keeper *keeper)
{
	if (!keeper->pausing.paused || !keeper_runs(keeper))
		return;
	th_rights_raise();
	/* It goes on, whether the state can be told or not. */
	keeper_thaw(keeper);
	if (!keeper->stopping.asked)
		record(keeper, false, "keeper");
	th_rights_rest();
}

void keeper_forget_pause(struct client *client)
{
	struct keeper *keeper = client->keeper;
	struct th_error ignored = {0}; /* then it ends with its group */

	if (keeper->pausing.client != client)
		return;
	keeper->pausing.client = NULL;
	if (!keeper_runs(keeper))
		return;
	th_rights_raise();
	th_cgroup_freeze(&keeper->cgroup, false, &ignored);
	th_rights_rest();
}
