/* What the state is to know, while it takes nothing. */
#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "keeper/keeper.h"
#include "store/image_state.h"
#include "unit/unit.h"

#define ID "abcdefghjkmn"
#define DIGEST                                                                 \
	"sha256:0123456789abcdef0123456789abcdef0123456789abcdef0123456789ab"  \
	"cdef"

static struct keeper keeper;
static sqlite3 *other;

static void begin(void)
{
	char root[96], run[96], path[128];
	struct th_error err = {0};
	const struct th_image_row image = {.digest = DIGEST,
		.config = DIGEST,
		.platform = "linux/amd64",
		.manifest_bytes = 100,
		.blob_bytes = 1000};
	const struct th_image_layer layer = {DIGEST, DIGEST, DIGEST, 500, 4096};
	struct th_container_row row = {.keep = true,
		.image = DIGEST,
		.state = TH_STATE_CREATED,
		.created_us = th_clock_now_us()};

	memset(&keeper, 0, sizeof(keeper));
	snprintf(root, sizeof(root), "%s/store", unit_folder);
	snprintf(run, sizeof(run), "%s/run", unit_folder);
	snprintf(path, sizeof(path), "%s/state.db", root);
	CHECK_INT(th_store_open(root, run, true, &keeper.store, NULL), 0);
	CHECK_INT(th_image_state_add(keeper.store, &image, &layer, 1,
			  "selwick/base", NULL, &err),
		0);
	snprintf(row.id, sizeof(row.id), ID);
	snprintf(row.name, sizeof(row.name), "gauge");
	snprintf(row.network, sizeof(row.network), "none");
	CHECK_INT(th_state_add(keeper.store->db, &row, "selwick", &err), 0);
	keeper.id = ID;
	keeper.recording.end = &keeper.recording.first;
	keeper_record_init(&keeper);
	CHECK_INT(sqlite3_open(path, &other), SQLITE_OK);
}

static void end(void)
{
	keeper_record_release(&keeper);
	th_store_close(keeper.store);
	sqlite3_close(other);
}

static void lock(bool on)
{
	CHECK_INT(sqlite3_exec(other, on ? "BEGIN IMMEDIATE" : "ROLLBACK", NULL,
			  NULL, NULL),
		SQLITE_OK);
}

/* Those of the kind. */
static size_t count_events(enum th_cause_kind kind)
{
	struct th_event_row *rows = NULL;
	size_t count = 0, of_kind = 0;

	CHECK_INT(th_state_events(keeper.store->db, ID, 0, &rows, &count, NULL),
		0);
	for (size_t i = 0; i < count; i++)
		of_kind += rows[i].cause.kind == kind;
	free(rows);
	return of_kind;
}

static void note(enum th_cause_kind kind)
{
	keeper_note(&keeper, &(struct th_cause){.kind = kind});
}

static void what_waits_keeps_its_order(void)
{
	struct th_change run = {.to = TH_STATE_RUNNING,
				 .cause = {.kind = TH_CAUSE_STARTED},
				 .actor = "selwick",
				 .pid = 4711,
				 .wanted = TH_WANTED},
			 stop = {.to = TH_STATE_STOPPED,
				 .outcome = TH_OUTCOME_EXITED,
				 .code = 3,
				 .cause = {.kind = TH_CAUSE_ENDED},
				 .actor = "keeper",
				 .wanted = TH_NOT_WANTED};
	struct th_container_row row;

	begin();
	lock(true);
	keeper_record_change(&keeper, &run);
	note(TH_CAUSE_LOG_FAILED);
	keeper_record_change(&keeper, &stop);
	CHECK(keeper_record_due(&keeper) > 0);
	CHECK_INT(count_events(TH_CAUSE_STARTED), 0);
	/* Still locked: nothing is lost, and nothing comes out of turn. */
	keeper_record_work(&keeper);
	CHECK(keeper_record_due(&keeper) > 0);
	lock(false);
	keeper_record_work(&keeper);
	CHECK_INT(keeper_record_due(&keeper), 0);
	CHECK_INT(count_events(TH_CAUSE_STARTED), 1);
	CHECK_INT(count_events(TH_CAUSE_LOG_FAILED), 1);
	CHECK_INT(th_state_get(keeper.store->db, ID, &row, NULL), 1);
	CHECK_INT(row.state, TH_STATE_STOPPED);
	CHECK_INT(row.code, 3);
	end();
}

/* A row of notes that nobody can take is counted, not kept. */
static void what_waits_is_bounded(void)
{
	begin();
	lock(true);
	for (int i = 0; i < 300; i++)
		note(TH_CAUSE_RELAY_RESTARTED);
	CHECK(keeper.recording.count <= 200);
	CHECK_INT(keeper.recording.lost, 300 - (long)keeper.recording.count);
	lock(false);
	keeper_record_work(&keeper);
	CHECK(!keeper.recording.first);
	CHECK_INT(keeper.recording.lost, 0);
	/* That some were lost is told. */
	CHECK_INT(count_events(TH_CAUSE_STATE_AGAIN), 1);
	end();
}

/* What the state refuses for good is not asked of it for ever. */
static void what_is_refused_goes(void)
{
	begin();
	CHECK_INT(th_state_remove(keeper.store->db, ID, "selwick", NULL), 0);
	keeper_record_change(&keeper,
		&(struct th_change){.to = TH_STATE_RUNNING,
			.cause = {.kind = TH_CAUSE_STARTED},
			.actor = "selwick"});
	CHECK(!keeper.recording.first);
	CHECK_INT(keeper_record_due(&keeper), 0);
	end();
}

static const CU_TestInfo tests[] = {
	{"what waits keeps its order", what_waits_keeps_its_order},
	{"what waits is bounded", what_waits_is_bounded},
	{"what is refused goes", what_is_refused_goes}, CU_TEST_INFO_NULL};

const struct suite suite_record = {"record", tests};
