/* A store of a former version, read by this one. */
#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "store/container_state.h"
#include "store/store.h"
#include "unit/store/state_9.h"
#include "unit/unit.h"

static void make_former(char root[96])
{
	sqlite3 *handle = NULL;
	char path[128];
	snprintf(root, 96, "%s/former", unit_folder);
	CHECK_INT(mkdir(root, 0700), 0);
	snprintf(path, sizeof(path), "%s/state.db", root);
	CHECK_INT(sqlite3_open(path, &handle), SQLITE_OK);
	for (size_t i = 0; state_9[i]; i++)
		CHECK_INT(sqlite3_exec(handle, state_9[i], NULL, NULL, NULL),
			SQLITE_OK);
	sqlite3_close(handle);
}

static const struct th_container_row *named(
	const struct th_container_row *rows, size_t count, const char *name)
{
	for (size_t i = 0; i < count; i++) {
		if (strcmp(rows[i].name, name) == 0)
			return &rows[i];
	}
	CU_FAIL("a container is missing");
	return &rows[0];
}

static void check_causes(const struct th_container_row *rows, size_t count)
{
	const struct th_container_row *row;

	CHECK_INT(named(rows, count, "renamed")->cause.kind, TH_CAUSE_NONE);
	row = named(rows, count, "ended");
	CHECK_INT(row->cause.kind, TH_CAUSE_ENDED);
	CHECK_INT(row->code, 3);
	CHECK_INT(named(rows, count, "stopped")->cause.kind, TH_CAUSE_STOPPED);
	row = named(rows, count, "forced");
	CHECK(row->cause.kind == TH_CAUSE_STOPPED && row->cause.by_force);
	row = named(rows, count, "killed");
	CHECK_INT(row->cause.kind, TH_CAUSE_SENT_SIGNAL);
	CHECK_INT(row->cause.number, 9);
	CHECK_INT(named(rows, count, "lost")->cause.kind, TH_CAUSE_KEEPER_LOST);
	row = named(rows, count, "tries");
	CHECK(row->cause.kind == TH_CAUSE_STOPPED && row->cause.while_waiting);
}

static void check_events(struct th_store *store, const char *id)
{
	static const enum th_cause_kind kinds[] = {TH_CAUSE_CREATED,
		TH_CAUSE_STARTED, TH_CAUSE_PAUSED, TH_CAUSE_RESUMED,
		TH_CAUSE_TOLD, TH_CAUSE_STOPPED};
	struct th_event_row *events = NULL;
	struct th_error err = {0};
	size_t count = 0;

	CHECK_INT(th_state_events(store->db, id, 0, &events, &count, &err), 0);
	CHECK_INT(count, COUNT_OF(kinds));
	for (size_t i = 0; i < count && i < COUNT_OF(kinds); i++)
		CHECK_INT(events[i].cause.kind, kinds[i]);
	if (count > 4)
		CHECK_TEXT(events[4].cause.text,
			"its restart policy is now always");
	free(events);
}

static void a_former_store_is_read(void)
{
	struct th_container_row *rows = NULL;
	struct th_store *store = NULL;
	struct th_error err = {0};
	size_t count = 0;
	char root[96], run[128];

	make_former(root);
	snprintf(run, sizeof(run), "%s/run", root);
	CHECK_INT(th_store_open(root, run, false, &store, &err), 0);
	CHECK_TEXT(err.msg, "");
	if (!store)
		return;
	CHECK_INT(th_state_list(store->db, NULL, &rows, &count, &err), 0);
	CHECK_INT(count, 9);
	if (count) {
		check_causes(rows, count);
		check_events(store, named(rows, count, "paused")->id);
	}
	free(rows);
	th_store_close(store);
}

static const CU_TestInfo tests[] = {
	{"a former store is read", a_former_store_is_read}, CU_TEST_INFO_NULL};

const struct suite suite_upgrade = {"upgrade", tests};
