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
	if (!keeper->records ||
		(keeper->end_written &&
			th_clock_mono_ms() >= keeper->keep_until_ms))
		keeper->phase = PHASE_END;
}

void keeper_tell_state(struct client *client)
{
	struct keeper *keeper = client->keeper;
	char *text = NULL;

	if (keeper->phase != PHASE_RUN || keeper->ended)
		text = th_end_format(&keeper->end);
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
		keeper_tell_end(client, &client->keeper->ending);
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
		.at_us = keeper->run_us,
		.pid = keeper->sandbox.pid,
		.boot = keeper->store->boot_id,
		.cause = {.kind = TH_CAUSE_TAKEN_UP},
		.actor = "keeper",
		.ports = keeper->port_rows,
		.port_count = keeper->port_row_count,
		.wanted = TH_WANTED,
		.tries = keeper->tries,
		.health = keeper->probing.probe.kind
			? th_health_word(&keeper->probing.health)
			: "",
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
	if (keeper->phase == PHASE_WAIT)
		keeper_record_change(keeper, &keeper->end.change);
	keeper_tell(client, TH_TELL_DONE, NULL, 0);
}
