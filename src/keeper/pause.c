/* Freezing and thawing all processes of the container, by the freezer of its
 * control group. */
#include "base/json.h"
#include "keeper/keeper.h"
#include "sandbox/rights.h"

void keeper_thaw(struct keeper *keeper)
{
	struct th_error ignored = {0};

	if (keeper->paused)
		th_cgroup_freeze(&keeper->cgroup, false, &ignored);
	keeper->paused = false;
}

static int change(struct keeper *keeper, bool pause, const char *actor,
	struct th_error *err)
{
	struct th_change step = {
		.to = pause ? TH_STATE_PAUSED : TH_STATE_RUNNING,
		.pid = keeper->sandbox.pid,
		.cause = {.kind = pause ? TH_CAUSE_PAUSED : TH_CAUSE_RESUMED},
		.actor = actor ? actor : ""};

	if (keeper->ended || keeper->stopping)
		return th_fail(err, TH_FAILED, "the container is ending");
	if (keeper->paused == pause)
		return th_fail(err, TH_FAILED, "the container is %s",
			pause ? "already paused" : "not paused");
	if (th_cgroup_freeze(&keeper->cgroup, pause, err))
		return -1;
	keeper->paused = pause;
	keeper_record_change(keeper, &step);
	return 0;
}

void keeper_pause_request(
	struct client *client, const struct th_message *message)
{
	bool pause = message->type == TH_SAY_PAUSE, hold = false;
	const char *actor = NULL;
	struct th_error err = {0};
	json_t *doc = NULL;

	if (th_json_parse(message->data, message->len, "a request", &doc,
		    &err) == 0 &&
		th_json_string(doc, "actor", "a request", &actor, &err) >= 0 &&
		th_json_bool(doc, "hold", "a request", &hold, &err) >= 0 &&
		change(client->keeper, pause, actor, &err) == 0) {
		client->holds = pause && hold;
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
	} else {
		keeper_tell(client, TH_TELL_FAILED, &err, sizeof(err));
	}
	json_decref(doc);
}

/* Whoever wanted it has gone without a word. */
void keeper_end_hold(struct keeper *keeper)
{
	struct th_error ignored = {0};

	if (!keeper->paused || keeper->ended)
		return;
	th_rights_raise();
	/* It goes on, whether the state can be told or not. */
	if (change(keeper, false, "keeper", &ignored))
		keeper_thaw(keeper);
	th_rights_rest();
}
