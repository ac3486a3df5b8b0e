/* A database that is closed between its uses, while others have it open. */
#include <stdio.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "store/database.h"
#include "unit/unit.h"

static struct th_db *open_one(const char *name)
{
	struct th_db *db = NULL;
	char path[96];

	snprintf(path, sizeof(path), "%s/%s", unit_folder, name);
	CHECK_INT(th_db_open(path, 1, &db, NULL), 0);
	return db;
}

static int64_t count(struct th_db *db)
{
	int64_t rows = -1;

	th_db_number(db, 0, &rows, NULL,
		"SELECT count(*) FROM meta WHERE key "
		"LIKE 'x%'",
		"");
	return rows;
}

static void put(struct th_db *db, const char *key)
{
	CHECK_INT(
		th_db_run(db, NULL,
			"INSERT INTO meta(key, value) VALUES(?, '')", "t", key),
		0);
}

static off_t log_bytes(const char *name)
{
	struct stat st = {0};
	char path[96];

	snprintf(path, sizeof(path), "%s/%s-wal", unit_folder, name);
	stat(path, &st);
	return st.st_size;
}

/* In a process of its own, as locks are between processes. */
static void in_another(const char *name, const char *key)
{
	pid_t pid = fork();
	int status = -1;

	if (pid == 0) {
		struct th_db *db = open_one(name);

		put(db, key);
		th_db_close(db);
		_exit(0);
	}
	waitpid(pid, &status, 0);
	CHECK_INT(status, 0);
}

static void it_wakes_when_it_is_asked(void)
{
	struct th_db *db = open_one("state.db");

	put(db, "x1");
	th_db_rest(db);
	CHECK(th_db_is_resting(db));
	CHECK_INT(count(db), 1);
	CHECK(!th_db_is_resting(db));
	/* Not inside a transaction. */
	CHECK_INT(th_db_begin_durable(db, true, NULL), 0);
	th_db_rest(db);
	CHECK(!th_db_is_resting(db));
	put(db, "x2");
	CHECK_INT(th_db_end(db, 0, NULL), 0);
	th_db_rest(db);
	th_db_rest(db);
	CHECK_INT(th_db_begin(db, NULL), 0);
	put(db, "x3");
	CHECK_INT(th_db_end(db, -1, NULL), -1);
	CHECK_INT(count(db), 2);
	th_db_rest(db);
	th_db_close(db);
}

/* Whoever comes meanwhile is not the last one: to work up the log takes a sync,
 * and would with each command. */
static void others_do_not_work_up_the_log(void)
{
	struct th_db *db = open_one("state.db");

	put(db, "x1");
	th_db_rest(db);
	in_another("state.db", "x2");
	CHECK(log_bytes("state.db") > 0);
	CHECK_INT(count(db), 2);
	th_db_rest(db);
	in_another("state.db", "x3");
	CHECK(log_bytes("state.db") > 0);
	th_db_close(db);
	/* Now it is. */
	in_another("state.db", "x4");
	CHECK_INT(log_bytes("state.db"), 0);
	db = open_one("state.db");
	CHECK_INT(count(db), 4);
	th_db_close(db);
}

static void the_file_of_that_name_counts(void)
{
	struct th_db *db = open_one("state.db");
	struct th_error err = {0};
	int64_t rows = 0;

	put(db, "x1");
	th_db_rest(db);
	in_another("new.db", "x1");
	in_another("new.db", "x2");
	CHECK_INT(unlinkat(unit_folder_fd, "state.db", 0), 0);
	unlinkat(unit_folder_fd, "state.db-wal", 0);
	unlinkat(unit_folder_fd, "state.db-shm", 0);
	/* One that has gone is not made anew. */
	CHECK_INT(th_db_number(db, 0, &rows, &err, "SELECT 1", ""), -1);
	CHECK(th_db_unwritable(&err));
	CHECK_INT(faccessat(unit_folder_fd, "state.db", F_OK, 0), -1);
	CHECK_INT(
		renameat(unit_folder_fd, "new.db", unit_folder_fd, "state.db"),
		0);
	CHECK_INT(count(db), 2);
	th_db_close(db);
}

static struct th_db *open_large(const char *name)
{
	struct th_db *db = NULL;
	char path[96];

	snprintf(path, sizeof(path), "%s/%s", unit_folder, name);
	CHECK_INT(th_db_open(path, 0, &db, NULL), 0);
	return db;
}

/* Statements are kept ready: what one has bound is not the next one's, and one
 * that is in use is nobody else's. */
static void a_statement_is_asked_again(void)
{
	static const char sql[] = "SELECT key FROM meta WHERE key=?";
	struct th_db *db = open_large("again.db");
	struct th_query *one = NULL, *other = NULL;

	put(db, "x1");
	put(db, "x2");
	for (int i = 0; i < 3; i++) {
		CHECK_INT(th_db_query(db, &one, NULL, sql, "t", "x1"), 0);
		CHECK_INT(th_db_query(db, &other, NULL, sql, "t", "x2"), 0);
		CHECK_INT(th_query_next(one, NULL), 1);
		CHECK_INT(th_query_next(other, NULL), 1);
		CHECK_TEXT(th_query_text(one, 0), "x1");
		CHECK_TEXT(th_query_text(other, 0), "x2");
		CHECK_INT(th_query_next(one, NULL), 0);
		th_query_end(one);
		/* Before its end, which leaves nothing locked. */
		th_query_end(other);
	}
	/* More of them than are kept. */
	for (int i = 0; i < 60; i++) {
		char text[64];
		int64_t number = -1;

		snprintf(text, sizeof(text), "SELECT %d WHERE ?=''", i);
		CHECK_INT(
			th_db_number(db, -1, &number, NULL, text, "t", ""), 0);
		CHECK_INT(number, i);
	}
	put(db, "x3");
	CHECK_INT(count(db), 3);
	/* One that makes no sense is an error each time. */
	for (int i = 0; i < 2; i++)
		CHECK_INT(th_db_query(db, &one, NULL, "SELECT tide FROM berths",
				  ""),
			-1);
	th_db_rest(db);
	CHECK(th_db_is_resting(db));
	CHECK_INT(count(db), 3);
	th_db_close(db);
}

/* What another one writes meanwhile is seen afterwards. */
static void a_look_is_of_one_moment(void)
{
	struct th_db *db = open_large("moment.db");

	put(db, "x1");
	th_db_hold(db);
	CHECK_INT(count(db), 1);
	in_another("moment.db", "x2");
	CHECK_INT(count(db), 1);
	th_db_let_go(db);
	CHECK_INT(count(db), 2);
	/* It can be written again. */
	put(db, "x3");
	/* Once more is as good. */
	th_db_let_go(db);
	CHECK_INT(count(db), 3);
	th_db_close(db);
}

static const CU_TestInfo tests[] = {
	{"a statement is asked again", a_statement_is_asked_again},
	{"a look is of one moment", a_look_is_of_one_moment},
	{"it wakes when it is asked", it_wakes_when_it_is_asked},
	{"others do not work up the log", others_do_not_work_up_the_log},
	{"the file of that name counts", the_file_of_that_name_counts},
	CU_TEST_INFO_NULL};

const struct suite suite_rest = {"rest", tests};
