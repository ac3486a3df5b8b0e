/* What looks at some containers reads no others: SQLite's own count of its
 * steps stays the same while the store grows. */
#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "store/container_state.h"
#include "store/image_state.h"
#include "store/store.h"
#include "unit/unit.h"

#define IMAGE                                                                  \
	"sha256:a123456789abcdef0123456789abcdef0123456789abcdef0123456789"    \
	"abcdef"
#define UP "h0000000000p"
#define FEW 10
#define MANY 400

static long steps;

static int take_steps(unsigned int what, void *owner, void *statement, void *ns)
{
	(void)what;
	(void)owner;
	(void)ns;
	steps += sqlite3_stmt_status(statement, SQLITE_STMTSTATUS_VM_STEP, 1);
	return 0;
}

/* For each connection that is opened from now on. */
static int count_steps(
	sqlite3 *handle, char **message, const struct sqlite3_api_routines *api)
{
	(void)message;
	(void)api;
	return sqlite3_trace_v2(handle, SQLITE_TRACE_PROFILE, take_steps, NULL);
}

static void add(struct th_store *store, int number)
{
	struct th_container_row row = {.keep = true};
	struct th_error err = {0};

	snprintf(row.id, sizeof(row.id), "b%011d", number);
	snprintf(row.name, sizeof(row.name), "kept-%d", number);
	snprintf(row.image, sizeof(row.image), "%s", IMAGE);
	snprintf(row.network, sizeof(row.network), "none");
	CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
}

static void add_image(struct th_store *store)
{
	struct th_image_row image = {.config = IMAGE, .digest = IMAGE};
	struct th_image_layer layer = {IMAGE, IMAGE, "", 1, 1};
	struct th_error err = {0};

	CHECK_INT(th_image_state_add(
			  store, &image, &layer, 1, "selwick/a", NULL, &err),
		0);
}

static void add_up(struct th_store *store)
{
	struct th_container_row row = {.keep = true};
	struct th_error err = {0};

	snprintf(row.id, sizeof(row.id), "%s", UP);
	snprintf(row.name, sizeof(row.name), "beacon");
	snprintf(row.image, sizeof(row.image), "%s", IMAGE);
	snprintf(row.network, sizeof(row.network), "none");
	CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
	CHECK_INT(th_db_run(store->db, &err,
			  "UPDATE containers SET state='running' WHERE id=?",
			  "t", UP),
		0);
}

static void look_up(struct th_store *store)
{
	struct th_container_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 0;

	CHECK_INT(th_state_list_up(store->db, &rows, &count, &err), 0);
	CHECK_INT(count, 1);
	if (count)
		CHECK_TEXT(rows[0].id, UP);
	free(rows);
}

static void find_one(struct th_store *store, const char *text)
{
	struct th_container_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 0;

	CHECK_INT(th_state_list(store->db, text, &rows, &count, &err), 0);
	CHECK_INT(count, 1);
	free(rows);
}

static void look_for_name(struct th_store *store)
{
	find_one(store, "beacon");
}

static void look_for_id(struct th_store *store)
{
	find_one(store, "h000");
}

static void look_at_events(struct th_store *store)
{
	struct th_event_row *events = NULL;
	struct th_error err = {0};
	size_t count = 0;

	CHECK_INT(th_state_events(store->db, UP, 0, &events, &count, &err), 0);
	CHECK_INT(count, 1);
	free(events);
}

static void add_and_remove(struct th_store *store)
{
	struct th_error err = {0};

	add(store, 999999);
	CHECK_INT(th_state_remove(store->db, "b00000999999", "test", &err), 0);
}

static void one_is_found_among_many_as_among_few(void)
{
	static void (*const looks[])(struct th_store * store) = {look_up,
		look_for_name, look_for_id, look_at_events, add_and_remove};
	long before[sizeof(looks) / sizeof(*looks)] = {0};
	struct th_store *store = NULL;
	struct th_error err = {0};
	char root[96], run[96];
	int number = 0;

	snprintf(root, sizeof(root), "%s/growth", unit_folder);
	snprintf(run, sizeof(run), "%s/growth-run", unit_folder);
	sqlite3_auto_extension((void (*)(void))count_steps);
	CHECK_INT(th_store_open(root, run, false, &store, &err), 0);
	sqlite3_reset_auto_extension();
	if (!store)
		return;
	add_image(store);
	add_up(store);
	for (; number < FEW; number++)
		add(store, number);
	for (size_t i = 0; i < COUNT_OF(looks); i++) {
		steps = 0;
		looks[i](store);
		before[i] = steps;
		CHECK(steps > 0);
	}
	for (; number < MANY; number++)
		add(store, number);
	for (size_t i = 0; i < COUNT_OF(looks); i++) {
		steps = 0;
		looks[i](store);
		/* A few for the pages of a deeper tree. */
		CHECK(steps < before[i] + (MANY - FEW) / 4);
	}
	th_store_close(store);
}

static const CU_TestInfo tests[] = {
	{"one is found among many as among few",
		one_is_found_among_many_as_among_few},
	CU_TEST_INFO_NULL};

const struct suite suite_growth = {"growth", tests};
