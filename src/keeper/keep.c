/* An end that the state cannot take: a full, locked or read-only disk. Whoever
 * asks hears of it from here. */
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "keeper/keeper.h"

void keeper_keep(struct keeper *keeper)
{
	keeper_release_run(keeper);
	/* From the file the next command takes it. */
	if (!keeper_record_waits(keeper) ||
		(keeper->last.written &&
			th_clock_mono_ms() >= keeper->last.keep_until_ms))
		keeper_enter(keeper, STATE_DONE);
}

void keeper_tell_state(struct client *client)
{
	struct keeper *keeper = client->keeper;
	char *text = NULL;

	if (!keeper_runs(keeper))
		text = th_end_format(&keeper->last.end);
	keeper_tell(client, TH_TELL_STATE, text ? text : "{}",
		text ? strlen(text) : 2);
	free(text);
}

void keeper_handle_kept(struct client *client, const struct th_message *message)
{
	struct th_error err = {0};

	switch (message->type) {
	case TH_SAY_STATE:
		keeper_tell_state(client);
		return;
	case TH_SAY_STOP:
	case TH_SAY_WAIT:
		keeper_tell_end(client, &client->keeper->last.ending);
		return;
	default:
		th_fail(&err, TH_FAILED,
			"container \"%s\" has ended, which cannot be recorded "
			"yet: the disk of the store does not take it",
			client->keeper->row.name);
		keeper_tell_error(client, &err);
	}
}

/* ---- a state that was lost ---- */

static int open_again(struct th_store *store, struct th_error *err)
{
	struct th_db *db = NULL;
	char *path = th_format("%s/state.db", store->root);
	int rc = path ? th_db_open(path, true, &db, err) : th_fail_memory(err);

	free(path);
	if (rc)
		return -1;
	th_db_close(store->db);
	store->db = db;
	return 0;
}

static int tell_run(struct keeper *keeper, struct th_error *err)
{
	char place[TH_CGROUP_PATH];
	const struct th_change change = {.to = TH_STATE_RUNNING,
		.at_us = keeper->last.run_us,
		.pid = keeper->sandbox.pid,
		.boot = keeper->store->boot_id,
		.cause = {.kind = TH_CAUSE_TAKEN_UP},
		.actor = "keeper",
		.ports = keeper->ports.rows,
		.port_count = keeper->ports.row_count,
		.wanted = TH_WANTED,
		.tries = keeper->next.tries,
		.health = keeper_health_word(keeper),
		.cgroup = place};

	th_cgroup_place(keeper->group_path, place);
	return th_state_change(keeper->store->db, keeper->id, &change, err);
}

void keeper_take_up(struct client *client)
{
	struct keeper *keeper = client->keeper;
	struct th_error err = {0};

	if (open_again(keeper->store, &err) || tell_run(keeper, &err)) {
		keeper_tell_error(client, &err);
		return;
	}
	keeper_record_init(keeper);
	if (keeper->state == STATE_WAITING)
		keeper_record_change(keeper, &keeper->last.end.change);
	keeper_tell(client, TH_TELL_DONE, NULL, 0);
}
