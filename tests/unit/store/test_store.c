#include "store/store.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "store/blob.h"
#include "store/container_state.h"
#include "store/image_state.h"
#include "unit/unit.h"

#define DIGEST(letter)                                                         \
	"sha256:" letter "123456789abcdef0123456789abcdef0123456789abcdef"     \
	"0123456789abcdef"

static struct th_store *open_store(void)
{
	struct th_store *store = NULL;
	struct th_error err = {0};
	char root[96], run[96];

	snprintf(root, sizeof(root), "%s/store", unit_folder);
	snprintf(run, sizeof(run), "%s/run", unit_folder);
	if (th_store_open(root, run, false, &store, &err)) {
		fprintf(stderr, "%s\n", err.msg);
		abort();
	}
	return store;
}

static void add_image(
	struct th_store *store, const char *digest, const char *name)
{
	struct th_image_row image = {.config = DIGEST("c"),
		.platform = "linux/amd64",
		.manifest_bytes = 100,
		.blob_bytes = 1000};
	struct th_image_layer layer = {
		DIGEST("d"), DIGEST("d"), DIGEST("b"), 500, 4096};
	struct th_error err = {0};

	snprintf(image.digest, sizeof(image.digest), "%s", digest);
	CHECK_INT(
		th_image_state_add(store, &image, &layer, 1, name, NULL, &err),
		0);
}

static struct th_container_row container(const char *id, const char *name)
{
	struct th_container_row row = {.keep = true};

	snprintf(row.id, sizeof(row.id), "%s", id);
	snprintf(row.name, sizeof(row.name), "%s", name);
	snprintf(row.image, sizeof(row.image), "%s", DIGEST("a"));
	snprintf(row.network, sizeof(row.network), "none");
	return row;
}

/* ---- database ---- */

static void transactions_are_whole_or_nothing(void)
{
	struct th_store *store = open_store();
	struct th_error err = {0};
	int64_t count = -1;

	CHECK_INT(th_db_begin(store->db, &err), 0);
	CHECK_INT(th_db_run(store->db, &err, "INSERT INTO meta VALUES(?, ?)",
			  "tt", "a", "1"),
		0);
	CHECK_INT(th_db_end(store->db, -1, &err), -1);
	CHECK_INT(th_db_number(store->db, -1, &count, &err,
			  "SELECT count(*) FROM meta WHERE key='a'", ""),
		0);
	CHECK_INT(count, 0);
	th_store_close(store);
}

static int64_t count_meta(struct th_store *store, const char *key)
{
	struct th_error err = {0};
	int64_t count = -1;

	th_db_number(store->db, -1, &count, &err,
		"SELECT count(*) FROM meta WHERE key=?", "t", key);
	return count;
}

/* One inside another: the outermost is what counts. */
static void a_part_that_fails_takes_the_whole_back(void)
{
	struct th_store *store = open_store();
	static const char sql[] = "INSERT INTO meta VALUES(?, '1')";

	for (int fails = 0; fails < 2; fails++) {
		struct th_error err = {0};

		CHECK_INT(th_db_begin(store->db, &err), 0);
		CHECK_INT(th_db_run(store->db, &err, sql, "t", "a"), 0);
		CHECK_INT(th_db_begin(store->db, &err), 0);
		CHECK_INT(th_db_run(store->db, &err, sql, "t", "b"), 0);
		CHECK_INT(th_db_end(store->db, fails ? -1 : 0, &err),
			fails ? -1 : 0);
		/* Also where its caller does not care. */
		CHECK_INT(th_db_end(store->db, 0, &err), fails ? -1 : 0);
		CHECK_INT(count_meta(store, "a"), !fails);
		CHECK_INT(count_meta(store, "b"), !fails);
		CHECK_INT(
			th_db_run(store->db, &err,
				"DELETE FROM meta WHERE key IN ('a', 'b')", ""),
			0);
	}
	th_store_close(store);
}

static void a_newer_schema_is_refused(void)
{
	struct th_store *store = open_store(), *again = NULL;
	struct th_error err = {0};
	char root[96];

	CHECK_INT(th_db_run(store->db, &err, "PRAGMA user_version=999", ""), 0);
	snprintf(root, sizeof(root), "%s", store->root);
	th_store_close(store);
	CHECK_INT(th_store_open(root, unit_folder, false, &again, &err), -1);
	CHECK(strstr(err.msg, "newer tidyhull") != NULL);
}

static void a_damaged_database_is_told(void)
{
	struct th_store *store = open_store(), *again = NULL;
	struct th_error err = {0};
	char root[96], junk[8192];

	snprintf(root, sizeof(root), "%s", store->root);
	th_store_close(store);
	memset(junk, 'x', sizeof(junk));
	th_file_replace(unit_folder_fd, "store/state.db", junk, sizeof(junk),
		0600, false, &err);
	CHECK_INT(th_store_open(root, unit_folder, false, &again, &err), -1);
	CHECK(strstr(err.msg, "state") != NULL);
}

static const CU_TestInfo database_tests[] = {
	{"transactions are whole or nothing",
		transactions_are_whole_or_nothing},
	{"a part that fails takes the whole back",
		a_part_that_fails_takes_the_whole_back},
	{"a newer schema is refused", a_newer_schema_is_refused},
	{"a damaged database is told", a_damaged_database_is_told},
	CU_TEST_INFO_NULL};

const struct suite suite_database = {"database", database_tests};

/* ---- blobs, and what the dead leave ---- */

static bool there(const char *path)
{
	struct stat st;

	return fstatat(unit_folder_fd, path, &st, 0) == 0;
}

static int write_blob(struct th_store *store, const char *content,
	const char *digest, uint64_t size, struct th_error *err)
{
	struct th_blob_writer writer;
	int rc;

	CHECK_INT(th_store_hold(store, err), 0);
	CHECK_INT(th_blob_begin(store, &writer, NULL, err), 0);
	CHECK_INT(th_blob_add(&writer, content, strlen(content), err), 0);
	rc = th_blob_commit(store, &writer, digest, size, "it", err);
	th_blob_discard(store, &writer);
	th_store_let_go(store);
	return rc;
}

static void only_what_it_says_becomes_a_blob(void)
{
	struct th_store *store = open_store();
	struct th_error err = {0};
	char digest[TH_DIGEST_TEXT];
	struct th_buf buf;

	CHECK_INT(th_hash_once("tide", 4, digest), 0);
	CHECK_INT(write_blob(store, "ebb!", digest, 4, &err), -1);
	CHECK_INT(err.code, TH_NETWORK);
	CHECK(strstr(err.msg, digest) != NULL);
	th_error_clear(&err);
	CHECK_INT(write_blob(store, "tide", digest, 5, &err), -1);
	CHECK(!th_blob_there(store, digest, 4));
	th_error_clear(&err);
	CHECK_INT(write_blob(store, "tide", digest, 4, &err), 0);
	CHECK(th_blob_there(store, digest, 4));
	th_buf_init(&buf, 100);
	CHECK_INT(th_blob_read(store, digest, &buf, &err), 0);
	CHECK_TEXT(buf.data, "tide");
	th_buf_release(&buf);
	CHECK_INT(rmdir("/nonexistent"), -1);
	th_store_close(store);
}

static void a_damaged_blob_is_found_when_read(void)
{
	struct th_store *store = open_store();
	struct th_error err = {0};
	char digest[TH_DIGEST_TEXT], path[160];
	struct th_buf buf;

	th_hash_once("tide", 4, digest);
	CHECK_INT(write_blob(store, "tide", digest, 4, &err), 0);
	snprintf(path, sizeof(path), "store/images/blobs/sha256/%s",
		th_digest_hex(digest));
	th_file_replace(unit_folder_fd, path, "edit", 4, 0644, false, &err);
	th_buf_init(&buf, 100);
	CHECK_INT(th_blob_read(store, digest, &buf, &err), -1);
	CHECK(strstr(err.msg, "damaged") != NULL);
	th_buf_release(&buf);
	th_store_close(store);
}

static void what_the_dead_left_is_cleaned(void)
{
	struct th_store *store = open_store(), *other;
	struct th_error err = {0};
	struct th_container_row row = container("g23456789bcd", "known");

	add_image(store, DIGEST("a"), NULL);
	CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
	mkdirat(store->root_fd, "containers/g23456789bcd", 0700);
	mkdirat(store->root_fd, "containers/h23456789bcd", 0700);
	mkdirat(store->root_fd, "tmp/half.tree", 0700);
	CHECK_INT(th_store_hold(store, &err), 0);
	CHECK_INT(th_store_unsettled(store, "g23456789bcd", &err), 0);
	CHECK_INT(th_store_unsettled(store, "h23456789bcd", &err), 0);
	/* While somebody works, nothing is touched. */
	other = open_store();
	CHECK(there("store/tmp/half.tree"));
	th_store_close(other);
	th_store_let_go(store);
	other = open_store();
	CHECK(!there("store/tmp/half.tree"));
	CHECK(there("store/containers/g23456789bcd"));
	CHECK(!there("store/containers/h23456789bcd"));
	CHECK(!there("store/tmp/g23456789bcd.unsettled"));
	th_store_close(other);
	th_store_close(store);
}

/* Somebody has put it there; it must not be waited for. */
static void a_fifo_is_no_blob(void)
{
	struct th_store *store = open_store();
	char path[160], byte;
	int fd;

	snprintf(path, sizeof(path), "images/blobs/sha256/%s",
		strchr(DIGEST("a"), ':') + 1);
	CHECK_INT(mkfifoat(store->root_fd, path, 0600), 0);
	fd = th_blob_open(store, DIGEST("a"), NULL);
	CHECK(fd >= 0 && read(fd, &byte, 1) == 0);
	th_close(&fd);
	th_store_close(store);
}

static const CU_TestInfo blob_tests[] = {
	{"a FIFO is no blob", a_fifo_is_no_blob},
	{"only what it says becomes a blob", only_what_it_says_becomes_a_blob},
	{"a damaged blob is found when read",
		a_damaged_blob_is_found_when_read},
	{"what the dead left is cleaned", what_the_dead_left_is_cleaned},
	CU_TEST_INFO_NULL};

const struct suite suite_blob = {"blob", blob_tests};

/* ---- containers ---- */

static void names_are_unique(void)
{
	struct th_store *store = open_store();
	struct th_container_row one = container("g23456789bcd", "gauge");
	struct th_container_row two = container("h23456789bcd", "gauge");
	struct th_error err = {0};

	CHECK_INT(th_state_add(store->db, &one, "test", &err), -1);
	CHECK_INT(err.code, TH_NOT_FOUND); /* its image is not there */
	th_error_clear(&err);
	add_image(store, DIGEST("a"), NULL);
	CHECK_INT(th_state_add(store->db, &one, "test", &err), 0);
	CHECK_INT(th_state_add(store->db, &two, "test", &err), -1);
	CHECK_INT(err.code, TH_IN_USE);
	CHECK(strstr(err.msg, "\"gauge\"") != NULL);
	CHECK_INT(th_state_get(store->db, two.id, &two, NULL), 0);
	th_store_close(store);
}

static void every_step_is_an_event(void)
{
	struct th_store *store = open_store();
	struct th_container_row row = container("g23456789bcd", "gauge");
	struct th_port_row port = {.protocol = "tcp",
		.address = "0.0.0.0",
		.host_port = 8080,
		.port = 80};
	struct th_change start = {.to = TH_STATE_RUNNING,
		.pid = 7,
		.boot = "b",
		.cause = {.kind = TH_CAUSE_STARTED},
		.actor = "root: tidyhull start",
		.ports = &port,
		.port_count = 1};
	struct th_change end = {.to = TH_STATE_STOPPED,
		.outcome = TH_OUTCOME_EXITED,
		.code = 3,
		.cause = {.kind = TH_CAUSE_ENDED},
		.actor = "keeper"};
	struct th_event_row *events = NULL;
	struct th_port_row *ports = NULL;
	struct th_error err = {0};
	size_t count = 0;

	add_image(store, DIGEST("a"), NULL);
	CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
	CHECK_INT(th_state_change(store->db, row.id, &start, &err), 0);
	CHECK_INT(th_state_ports(store->db, row.id, &ports, &count, &err), 0);
	CHECK_INT(count, 1);
	free(ports);
	CHECK_INT(th_state_get(store->db, row.id, &row, &err), 1);
	CHECK(row.started_us > 0 && row.ended_us == 0 && row.pid == 7);
	CHECK_INT(th_state_change(store->db, row.id, &end, &err), 0);
	CHECK_INT(th_state_get(store->db, row.id, &row, &err), 1);
	CHECK_INT(row.outcome, TH_OUTCOME_EXITED);
	CHECK_INT(row.code, 3);
	CHECK(row.ended_us >= row.started_us && row.started_us > 0);
	CHECK_INT(th_state_ports(store->db, NULL, &ports, &count, &err), 0);
	CHECK_INT(count, 0);
	free(ports);
	CHECK_INT(th_state_remove(store->db, row.id, "test", &err), 0);
	CHECK_INT(th_state_events(store->db, row.id, 0, &events, &count, &err),
		0);
	CHECK_INT(count, 4);
	CHECK_TEXT(events[1].from, "created");
	CHECK_TEXT(events[1].to, "running");
	CHECK_INT(events[2].cause.kind, TH_CAUSE_ENDED);
	CHECK_TEXT(events[3].to, "removed");
	free(events);
	/* A step of what is gone is an error, and no event. */
	CHECK_INT(th_state_change(store->db, row.id, &end, &err), -1);
	th_store_close(store);
}

static void old_events_become_one(void)
{
	struct th_store *store = open_store();
	struct th_container_row row = container("g23456789bcd", "gauge");
	const struct th_cause cause = {.kind = TH_CAUSE_PROBE_SUCCEEDED};
	struct th_event_row *events = NULL;
	struct th_error err = {0};
	size_t count = 0;
	int64_t all = 0;

	add_image(store, DIGEST("a"), NULL);
	CHECK_INT(th_state_keep_events(store->db, 60, &err), 0);
	CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
	for (int i = 0; i < 1000; i++)
		CHECK_INT(th_state_note(store->db, row.id, &cause, "test", NULL,
				  &err),
			0);
	CHECK_INT(th_state_events(store->db, row.id, 0, &events, &count, &err),
		0);
	CHECK(count >= 60 && count <= 60 + 60 / 4 + 2);
	/* None is lost: those that are there and those that were counted. */
	CHECK_INT(events[0].cause.kind, TH_CAUSE_FOLDED);
	CHECK_INT(events[0].cause.number + (int64_t)count - 1, 1001);
	for (size_t i = 1; i < count; i++)
		CHECK_INT(events[i].cause.kind, TH_CAUSE_PROBE_SUCCEEDED);
	free(events);
	/* Those of containers that come and go are bounded together. */
	for (int i = 0; i < 2500; i++) {
		snprintf(row.id, sizeof(row.id), "t%04d", i);
		snprintf(row.name, sizeof(row.name), "t%04d", i);
		CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
		CHECK_INT(th_state_remove(store->db, row.id, "test", &err), 0);
	}
	CHECK_INT(th_db_number(store->db, 0, &all, &err,
			  "SELECT count(*) FROM events", ""),
		0);
	CHECK(all >= 3000 && all < 3000 + 500);
	CHECK_INT(th_state_get_named(store->db, "gauge", &row, &err), 1);
	th_store_close(store);
}

static void old_sessions_are_forgotten(void)
{
	struct th_store *store = open_store();
	struct th_container_row row = container("g23456789bcd", "gauge");
	struct th_session_row session = {.command = "true"}, *rows = NULL;
	struct th_strings old = {0};
	struct th_error err = {0};
	size_t count = 0, gone = 0;

	add_image(store, DIGEST("a"), NULL);
	CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
	snprintf(session.container, sizeof(session.container), "%s", row.id);
	for (int i = 0; i < 260; i++) {
		snprintf(session.id, sizeof(session.id), "s%04d", i);
		CHECK_INT(th_state_session_add(store->db, &session, &err), 0);
		/* The first one goes on. */
		if (i)
			CHECK_INT(th_state_session_end(
					  store->db, session.id, 0, &err),
				0);
		CHECK_INT(th_state_fold_sessions(store->db, row.id, &old, &err),
			0);
		gone += old.count;
		th_strings_release(&old);
	}
	CHECK_INT(
		th_state_sessions(store->db, row.id, NULL, &rows, &count, &err),
		0);
	CHECK_INT(count, 201);
	CHECK_INT(gone, 59);
	CHECK_TEXT(rows[0].id, "s0000");
	free(rows);
	th_store_close(store);
}

static void found_by_name_or_the_beginning_of_an_id(void)
{
	struct th_store *store = open_store();
	struct th_container_row *rows = NULL;
	struct th_container_row one = container("g23456789bcd", "gauge");
	struct th_container_row two = container("g29956789bcd", "ledger");
	static const struct {
		const char *text;
		size_t count;
	} cases[] = {{"gauge", 1}, {"g2", 2}, {"g23", 1}, {"g23456789bcd", 1},
		{"x", 0}, {"gau", 0}, {"%", 0}, {NULL, 2}};

	add_image(store, DIGEST("a"), NULL);
	th_state_add(store->db, &one, "test", NULL);
	th_state_add(store->db, &two, "test", NULL);
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		size_t count = 0;

		CHECK_INT(th_state_list(store->db, cases[i].text, &rows, &count,
				  NULL),
			0);
		CHECK_INT(count, cases[i].count);
		free(rows);
	}
	th_store_close(store);
}

static void ids_cannot_be_taken_for_digests(void)
{
	for (int i = 0; i < 1000; i++) {
		char id[TH_ID_LENGTH + 1];

		th_id_new(id);
		CHECK_INT(strlen(id), TH_ID_LENGTH);
		CHECK(strspn(id, "0123456789abcdef") == 0);
	}
}

static const CU_TestInfo state_tests[] = {
	{"names are unique", names_are_unique},
	{"every step is an event", every_step_is_an_event},
	{"old events become one", old_events_become_one},
	{"old sessions are forgotten", old_sessions_are_forgotten},
	{"found by name or ID", found_by_name_or_the_beginning_of_an_id},
	{"IDs cannot be taken for digests", ids_cannot_be_taken_for_digests},
	CU_TEST_INFO_NULL};

const struct suite suite_container_state = {"container state", state_tests};

/* ---- images ---- */

static size_t find(struct th_store *store, const char *text)
{
	struct th_image_row *rows = NULL;
	size_t count = 99;

	CHECK_INT(th_image_state_find(store, text, &rows, &count, NULL), 0);
	th_image_rows_free(rows, count);
	return count;
}

static void images_are_found_by_what_people_type(void)
{
	struct th_store *store = open_store();

	add_image(store, DIGEST("a"), "localhost:5000/selwick/gauge:latest");
	add_image(store, DIGEST("e"), "charts.example/selwick/gauge:2");
	CHECK_INT(find(store, "selwick/gauge"), 1);
	CHECK_INT(find(store, "selwick/gauge:2"), 1);
	CHECK_INT(find(store, "selwick/gauge:3"), 0);
	CHECK_INT(find(store, "charts.example/selwick/gauge:2"), 1);
	CHECK_INT(find(store, "other.example/selwick/gauge:2"), 0);
	CHECK_INT(find(store, "gauge"), 0);
	CHECK_INT(find(store, DIGEST("a")), 1);
	CHECK_INT(find(store, "a123"), 1);
	CHECK_INT(find(store, "a12"), 0);
	CHECK_INT(find(store, "sha256:e1234"), 1);
	CHECK_INT(find(store, "' OR 1=1"), 0);
	CHECK_INT(find(store, NULL), 2);
	/* The same path from two registries is two images. */
	add_image(store, DIGEST("e"), "charts.example/selwick/gauge:latest");
	CHECK_INT(find(store, "selwick/gauge"), 2);
	th_store_close(store);
}

static void the_last_name_takes_the_image_along(void)
{
	struct th_store *store = open_store();
	struct th_container_row row = container("g23456789bcd", "gauge");
	struct th_error err = {0};
	struct th_buf index;

	add_image(store, DIGEST("a"), "a.example/g:1");
	add_image(store, DIGEST("a"), "a.example/g:2");
	CHECK_INT(find(store, NULL), 1);
	CHECK_INT(th_image_state_untag(store, "a.example/g:1", &err), 0);
	CHECK_INT(th_state_add(store->db, &row, "test", &err), 0);
	CHECK_INT(th_image_state_untag(store, "a.example/g:2", &err), -1);
	CHECK_INT(err.code, TH_IN_USE);
	CHECK_INT(th_state_remove(store->db, row.id, "test", NULL), 0);
	th_buf_init(&index, 65536);
	th_file_read(store->root_fd, "images/index.json", &index, NULL);
	CHECK(strstr(index.data, "a.example/g:2") != NULL);
	CHECK(strstr(index.data, "a.example/g:1") == NULL);
	th_buf_release(&index);
	th_error_clear(&err);
	CHECK_INT(th_image_state_untag(store, "a.example/g:2", &err), 1);
	CHECK_INT(find(store, NULL), 0);
	CHECK_INT(th_image_state_untag(store, "a.example/g:2", &err), -1);
	CHECK_INT(err.code, TH_NOT_FOUND);
	th_store_close(store);
}

static void a_name_moves_to_the_newer_image(void)
{
	struct th_store *store = open_store();
	struct th_image_row *rows = NULL;
	size_t count = 0;

	add_image(store, DIGEST("a"), "a.example/g:1");
	add_image(store, DIGEST("e"), "a.example/g:1");
	CHECK_INT(th_image_state_find(
			  store, "a.example/g:1", &rows, &count, NULL),
		0);
	CHECK_INT(count, 1);
	CHECK_TEXT(rows[0].digest, DIGEST("e"));
	th_image_rows_free(rows, count);
	CHECK_INT(find(store, NULL), 2);
	th_store_close(store);
}

static const CU_TestInfo image_tests[] = {
	{"found by what people type", images_are_found_by_what_people_type},
	{"the last name takes the image along",
		the_last_name_takes_the_image_along},
	{"a name moves to the newer image", a_name_moves_to_the_newer_image},
	CU_TEST_INFO_NULL};

const struct suite suite_image_state = {"image state", image_tests};
