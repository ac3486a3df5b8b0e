#include "store/database.h"

#include <errno.h>
#include <sqlite3.h>
#include <stdarg.h>
#include <stdbool.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "store/database_files.h"
#include "store/presence.h"
#include "store/schema.h"

/* How long a command waits while others write, in milliseconds. */
#define BUSY_MS 20000
#define TEXT_OF_(number) #number
#define TEXT_OF(number) TEXT_OF_(number)

/* So many statements are kept ready: what one look at all containers asks for
 * each of them. */
#define KEPT 24

struct th_db {
	char *path;
	bool small;
	sqlite3 *handle; /* NULL: it rests */
	struct th_presence presence; /* while it rests */
	int depth; /* of transactions */
	bool doomed; /* an inner one has failed */
	bool durable; /* the outermost one is to be on the disk at its end */
	bool detached; /* a copy in memory, which nobody else sees */
	bool pretends; /* the copy may be written */
	int patience_ms;
	/* Statements that wait to be run again; none where memory counts more
	 * than time. */
	sqlite3_stmt *kept[KEPT];
};

struct th_query {
	struct th_db *db;
	sqlite3_stmt *statement;
	bool begun; /* it has given a row */
};

/* Before the handle is closed, which they would keep open. */
static void drop_kept(struct th_db *db)
{
	for (size_t i = 0; i < KEPT; i++) {
		sqlite3_finalize(db->kept[i]);
		db->kept[i] = NULL;
	}
}

/* What callers may react to. */
static int sys_of(int rc)
{
	switch (rc) {
	case SQLITE_FULL:
		return ENOSPC;
	case SQLITE_READONLY:
	case SQLITE_CANTOPEN:
		return EROFS;
	case SQLITE_BUSY:
	case SQLITE_LOCKED:
		return EBUSY;
	case SQLITE_IOERR:
		return EIO;
	case SQLITE_CORRUPT:
	case SQLITE_NOTADB:
		return EUCLEAN;
	default:
		return 0;
	}
}

bool th_db_unwritable(const struct th_error *err)
{
	return err->code == TH_FAILED &&
		(err->sys == ENOSPC || err->sys == EROFS || err->sys == EIO);
}

bool th_db_damaged(const struct th_error *err)
{
	return err->code == TH_FAILED && err->sys == EUCLEAN;
}

bool th_db_not_now(const struct th_error *err)
{
	return th_db_unwritable(err) || th_error_busy(err);
}

/* A quota is no full disk to SQLite, but any write that failed: the file that
 * it was knows. */
static bool over_quota(struct th_db *db, int rc)
{
	static const int files[] = {
		SQLITE_FCNTL_FILE_POINTER, SQLITE_FCNTL_JOURNAL_POINTER};

	for (size_t i = 0; rc == SQLITE_IOERR_WRITE && i < 2; i++) {
		sqlite3_file *file = NULL;
		int sys = 0;

		if (sqlite3_file_control(db->handle, NULL, files[i], &file) ==
				SQLITE_OK &&
			file && file->pMethods &&
			file->pMethods->xFileControl(file,
				SQLITE_FCNTL_LAST_ERRNO, &sys) == SQLITE_OK &&
			sys == EDQUOT)
			return true;
	}
	return false;
}

static int fail(struct th_db *db, struct th_error *err)
{
	int rc = sqlite3_extended_errcode(db->handle);

	if (rc == SQLITE_CONSTRAINT_UNIQUE ||
		rc == SQLITE_CONSTRAINT_PRIMARYKEY)
		return th_fail(err, TH_IN_USE, "already in the state: %s",
			sqlite3_errmsg(db->handle));
	if (over_quota(db, rc))
		return th_fail_write(err, EDQUOT, "the state database failed");
	if (err && err->code == TH_OK)
		err->sys = sys_of(rc & 0xff);
	if ((rc & 0xff) == SQLITE_FULL)
		return th_fail(err, TH_FAILED,
			"the disk with the state database is full");
	if ((rc & 0xff) == SQLITE_READONLY)
		return th_fail(err, TH_FAILED,
			"the state database cannot be written: its disk is "
			"read-only");
	if ((rc & 0xff) == SQLITE_BUSY)
		return th_fail(err, TH_FAILED,
			"another program keeps the state database locked");
	if ((rc & 0xff) == SQLITE_CORRUPT || (rc & 0xff) == SQLITE_NOTADB)
		return th_fail(err, TH_FAILED,
			"the state database is damaged: %s",
			sqlite3_errmsg(db->handle));
	return th_fail(err, TH_FAILED, "the state database failed: %s",
		sqlite3_errmsg(db->handle));
}

/* Some locks are refused without the busy handler being asked: the change to
 * WAL, and whatever meets another's recovery or last close. Outside a
 * transaction it is safe to try again. */
static bool try_again(struct th_db *db, int rc, int64_t *until_ms)
{
	int64_t now = th_clock_mono_ms();

	if ((rc & 0xff) != SQLITE_BUSY || !sqlite3_get_autocommit(db->handle))
		return false;
	if (!*until_ms)
		*until_ms = now + db->patience_ms;
	sqlite3_sleep(2);
	return now < *until_ms;
}

static int exec(struct th_db *db, const char *sql, struct th_error *err)
{
	int64_t until_ms = 0;
	int rc;

	do
		rc = sqlite3_exec(db->handle, sql, NULL, NULL, NULL);
	while (try_again(db, rc, &until_ms));
	return rc == SQLITE_OK ? 0 : fail(db, err);
}

static int check_version(int64_t version, struct th_error *err)
{
	if (version <= TH_SCHEMA_VERSION)
		return 0;
	return th_fail(err, TH_FAILED,
		"the state was written by a newer tidyhull (schema %d; this "
		"one supports %d)",
		(int)version, TH_SCHEMA_VERSION);
}

static int upgrade(struct th_db *db, const char *path, struct th_error *err)
{
	char sql[48];
	int64_t version = 0;
	int rc = 0;

	if (th_db_number(db, 0, &version, err, "PRAGMA user_version", ""))
		return -1;
	if (version >= TH_SCHEMA_VERSION)
		return check_version(version, err);
	/* The journal mode cannot be changed inside a transaction. */
	if (exec(db, "PRAGMA journal_mode=WAL", err) || th_db_begin(db, err))
		return -1;
	database_reserve_log(path);
	/* Somebody else may have done it while this waited for the lock. */
	rc = th_db_number(db, 0, &version, err, "PRAGMA user_version", "");
	if (rc == 0 && version >= TH_SCHEMA_VERSION)
		return th_db_end(db, check_version(version, err), err);
	for (; rc == 0 && version < TH_SCHEMA_VERSION; version++) {
		for (const char *const *step = th_schema_steps[version]; *step;
			step++) {
			rc = exec(db, *step, err);
			if (rc)
				break;
		}
	}
	sqlite3_snprintf(
		sizeof(sql), sql, "PRAGMA user_version=%d", TH_SCHEMA_VERSION);
	if (rc == 0)
		rc = exec(db, sql, err);
	return th_db_end(db, rc, err);
}

/* On a disk that cannot be written a database without a log is read as it
 * lies there. */
static int open_unwritable(
	const char *path, struct th_db *db, struct th_error *err)
{
	char *uri = sqlite3_mprintf("file:%s?immutable=1", path);
	struct th_error why = *err;
	int rc = SQLITE_NOMEM;

	drop_kept(db);
	sqlite3_close(db->handle);
	db->handle = NULL;
	if (uri)
		rc = sqlite3_open_v2(uri, &db->handle,
			SQLITE_OPEN_READONLY | SQLITE_OPEN_URI |
				SQLITE_OPEN_NOMUTEX,
			NULL);
	sqlite3_free(uri);
	th_error_clear(err);
	if (rc == SQLITE_OK && th_db_detach(db, err) == 0)
		return 0;
	*err = why;
	return -1;
}

static int awake(struct th_db *db, struct th_error *err);

int th_db_detach(struct th_db *db, struct th_error *err)
{
	sqlite3 *copy = NULL;
	sqlite3_backup *backup;
	int rc;

	if (db->detached || db->depth)
		return th_fail(
			err, TH_FAILED, "the state database cannot be copied");
	if (awake(db, err))
		return -1;
	rc = sqlite3_open_v2(":memory:", &copy,
		SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE |
			SQLITE_OPEN_NOMUTEX,
		NULL);
	if (rc == SQLITE_OK) {
		backup = sqlite3_backup_init(copy, "main", db->handle, "main");
		rc = SQLITE_ERROR;
		if (backup) {
			sqlite3_backup_step(backup, -1);
			rc = sqlite3_backup_finish(backup);
		}
	}
	if (rc != SQLITE_OK) {
		sqlite3_close(copy);
		return th_fail(err, TH_FAILED,
			"the state database cannot be read: %s",
			sqlite3_errstr(rc));
	}
	drop_kept(db);
	sqlite3_close(db->handle);
	db->handle = copy;
	db->detached = true;
	sqlite3_extended_result_codes(copy, 1);
	return exec(db, "PRAGMA foreign_keys=ON", err);
}

void th_db_set_pretending(struct th_db *db, bool pretends)
{
	db->pretends = pretends;
}

int th_db_check_writable(const struct th_db *db, struct th_error *err)
{
	if (!db->detached || db->pretends)
		return 0;
	if (err && err->code == TH_OK)
		err->sys = EROFS;
	th_fail(err, TH_FAILED,
		"the state database cannot be written: its disk is full or "
		"read-only, or another program keeps it locked");
	return -1;
}

bool th_db_is_detached(const struct th_db *db)
{
	return db->detached;
}

void th_db_set_patience(struct th_db *db, int patience_ms)
{
	db->patience_ms = patience_ms ? patience_ms : BUSY_MS;
	if (db->handle)
		sqlite3_busy_timeout(db->handle, db->patience_ms);
}

static int open_handle(struct th_db *db, int create, struct th_error *err)
{
	int keep = 1;

	if (database_check_files(db->path, err))
		return -1;
	/* Pages one by one as they are needed: twenty at once, most of them
	 * never used, cost more than all that is asked. Of no effect where the
	 * library has begun already. */
	sqlite3_config(SQLITE_CONFIG_PAGECACHE, NULL, 0, 0);
	if (sqlite3_open_v2(db->path, &db->handle,
		    SQLITE_OPEN_READWRITE | SQLITE_OPEN_NOMUTEX | create,
		    NULL) != SQLITE_OK) {
		if (err && err->code == TH_OK)
			err->sys = sys_of(sqlite3_errcode(db->handle));
		return th_fail(err, TH_FAILED,
			"cannot open the state database %s: %s", db->path,
			sqlite3_errmsg(db->handle));
	}
	sqlite3_extended_result_codes(db->handle, 1);
	/* The log stays when the last one closes the database: nothing has to
	 * be made, for which there may be no room, when it is opened again. */
	sqlite3_file_control(
		db->handle, "main", SQLITE_FCNTL_PERSIST_WAL, &keep);
	sqlite3_busy_timeout(db->handle, db->patience_ms);
	if (db->small)
		sqlite3_db_config(
			db->handle, SQLITE_DBCONFIG_LOOKASIDE, NULL, 0, 0);
	/* NORMAL with WAL: a power cut may take the last transactions, never
	 * the database; what a reboot leaves is settled anyway. */
	if (exec(db,
		    "PRAGMA synchronous=NORMAL; PRAGMA foreign_keys=ON;"
		    " PRAGMA journal_size_limit=" TEXT_OF(LOG_BYTES),
		    err) ||
		(db->small && exec(db, "PRAGMA cache_size=4", err)))
		return -1;
	return upgrade(db, db->path, err);
}

int th_db_open(
	const char *path, int small, struct th_db **db, struct th_error *err)
{
	struct th_db *made = calloc(1, sizeof(*made));

	if (!made)
		return th_fail_memory(err);
	th_presence_init(&made->presence);
	made->small = small;
	made->patience_ms = BUSY_MS;
	made->path = strdup(path);
	if (!made->path) {
		th_fail_memory(err);
		goto fail;
	}
	if (open_handle(made, SQLITE_OPEN_CREATE, err)) {
		if (!th_db_unwritable(err) || small ||
			open_unwritable(path, made, err))
			goto fail;
	} else if (!small && sqlite3_db_readonly(made->handle, "main") == 1 &&
		th_db_detach(made, err)) {
		goto fail;
	}
	*db = made;
	return 0;
fail:
	th_db_close(made);
	return -1;
}

/* ---- resting ---- */

/* Before SQLite has it open: closing the file would end SQLite's locks. */
static int awake(struct th_db *db, struct th_error *err)
{
	if (db->handle)
		return 0;
	th_presence_renew(&db->presence, db->path);
	/* One that is not there any more is not made anew. */
	if (open_handle(db, 0, err) == 0)
		return 0;
	drop_kept(db);
	sqlite3_close(db->handle);
	db->handle = NULL;
	return -1;
}

void th_db_rest(struct th_db *db)
{
	if (!db->handle || db->depth || db->detached)
		return;
	th_presence_begin(&db->presence, db->path);
	drop_kept(db);
	if (sqlite3_close(db->handle) == SQLITE_OK)
		db->handle = NULL;
}

bool th_db_is_resting(const struct th_db *db)
{
	return !db->handle;
}

void th_db_close(struct th_db *db)
{
	bool writable;

	if (!db)
		return;
	th_presence_end(&db->presence);
	writable = db->handle && !db->detached && db->path;
	/* The last one leaves an empty log, as nothing may be in it that a copy
	 * put in the database's place would be mixed up with. */
	if (writable)
		sqlite3_exec(db->handle, "PRAGMA journal_size_limit=0", NULL,
			NULL, NULL);
	drop_kept(db);
	sqlite3_close(db->handle);
	if (writable)
		database_reserve_log(db->path);
	th_presence_release(&db->presence);
	free(db->path);
	free(db);
}

/* ---- statements ---- */

/* One of the same text that is not in use, or NULL. */
static sqlite3_stmt *take_kept(struct th_db *db, const char *sql)
{
	for (size_t i = 0; i < KEPT && db->kept[i]; i++) {
		sqlite3_stmt *statement = db->kept[i];

		if (strcmp(sqlite3_sql(statement), sql) != 0)
			continue;
		/* The others close up: the oldest are first. */
		memmove(&db->kept[i], &db->kept[i + 1],
			(KEPT - 1 - i) * sizeof(*db->kept));
		db->kept[KEPT - 1] = NULL;
		return statement;
	}
	return NULL;
}

static void keep(struct th_db *db, sqlite3_stmt *statement)
{
	size_t at = 0;

	/* Whether it failed has been told already. */
	sqlite3_reset(statement);
	sqlite3_clear_bindings(statement);
	while (at < KEPT && db->kept[at])
		at++;
	if (at == KEPT) {
		sqlite3_finalize(db->kept[0]);
		memmove(&db->kept[0], &db->kept[1],
			(KEPT - 1) * sizeof(*db->kept));
		at = KEPT - 1;
	}
	db->kept[at] = statement;
}

static int bind(sqlite3_stmt *statement, const char *types, va_list args)
{
	int rc = SQLITE_OK;

	for (int i = 0; types[i] && rc == SQLITE_OK; i++) {
		if (types[i] == 't')
			rc = sqlite3_bind_text(statement, i + 1,
				va_arg(args, const char *), -1,
				SQLITE_TRANSIENT);
		else
			rc = sqlite3_bind_int64(
				statement, i + 1, va_arg(args, int64_t));
	}
	return rc;
}

static int prepare(struct th_db *db, struct th_query **query,
	struct th_error *err, const char *sql, const char *types, va_list args)
{
	struct th_query *made;

	if (awake(db, err))
		return -1;
	made = calloc(1, sizeof(*made));
	if (!made)
		return th_fail_memory(err);
	made->db = db;
	made->statement = take_kept(db, sql);
	if ((!made->statement &&
		    sqlite3_prepare_v2(db->handle, sql, -1, &made->statement,
			    NULL) != SQLITE_OK) ||
		bind(made->statement, types, args) != SQLITE_OK) {
		fail(db, err);
		th_query_end(made);
		return -1;
	}
	*query = made;
	return 0;
}

int th_db_run(struct th_db *db, struct th_error *err, const char *sql,
	const char *types, ...)
{
	struct th_query *query = NULL;
	va_list args;
	int rc;

	if (th_db_check_writable(db, err))
		return -1;
	va_start(args, types);
	rc = prepare(db, &query, err, sql, types, args);
	va_end(args);
	if (rc)
		return -1;
	rc = th_query_next(query, err);
	th_query_end(query);
	return rc < 0 ? -1 : 0;
}

int th_db_changed(struct th_db *db)
{
	return sqlite3_changes(db->handle);
}

int th_db_query(struct th_db *db, struct th_query **query, struct th_error *err,
	const char *sql, const char *types, ...)
{
	va_list args;
	int rc;

	va_start(args, types);
	rc = prepare(db, query, err, sql, types, args);
	va_end(args);
	return rc;
}

int th_query_next(struct th_query *query, struct th_error *err)
{
	int64_t until_ms = 0;
	int rc = sqlite3_step(query->statement);

	while (!query->begun && try_again(query->db, rc, &until_ms)) {
		sqlite3_reset(query->statement);
		rc = sqlite3_step(query->statement);
	}
	query->begun = true;
	if (rc == SQLITE_ROW)
		return 1;
	return rc == SQLITE_DONE ? 0 : fail(query->db, err);
}

const char *th_query_text(struct th_query *query, int column)
{
	const char *text =
		(const char *)sqlite3_column_text(query->statement, column);

	return text ? text : "";
}

int64_t th_query_int(struct th_query *query, int column)
{
	return sqlite3_column_int64(query->statement, column);
}

void th_query_end(struct th_query *query)
{
	if (!query)
		return;
	/* One of a handle that was closed meanwhile is of no use. */
	if (query->statement && !query->db->small &&
		sqlite3_db_handle(query->statement) == query->db->handle)
		keep(query->db, query->statement);
	else
		sqlite3_finalize(query->statement);
	free(query);
}

int th_db_number(struct th_db *db, int64_t fallback, int64_t *number,
	struct th_error *err, const char *sql, const char *types, ...)
{
	struct th_query *query = NULL;
	va_list args;
	int rc;

	va_start(args, types);
	rc = prepare(db, &query, err, sql, types, args);
	va_end(args);
	if (rc)
		return -1;
	rc = th_query_next(query, err);
	if (rc >= 0)
		*number = rc == 1 ? th_query_int(query, 0) : fallback;
	th_query_end(query);
	return rc < 0 ? -1 : 0;
}

void th_db_hold(struct th_db *db)
{
	struct th_error ignored = {0}; /* each query stands for itself */

	if (db->depth == 0 && awake(db, &ignored) == 0)
		sqlite3_exec(db->handle, "BEGIN", NULL, NULL, NULL);
}

void th_db_let_go(struct th_db *db)
{
	if (db->depth == 0 && db->handle && !sqlite3_get_autocommit(db->handle))
		sqlite3_exec(db->handle, "COMMIT", NULL, NULL, NULL);
}

int th_db_begin(struct th_db *db, struct th_error *err)
{
	/* Immediate: a transaction that reads first and writes later could not
	 * wait for another writer, and would fail at once
	 * (SQLITE_BUSY_SNAPSHOT). */
	if (th_db_check_writable(db, err) || awake(db, err) ||
		(db->depth == 0 && exec(db, "BEGIN IMMEDIATE", err)))
		return -1;
	db->depth++;
	return 0;
}

static void set_durable(struct th_db *db, bool durable)
{
	db->durable = durable;
	sqlite3_exec(db->handle,
		durable ? "PRAGMA synchronous=FULL"
			: "PRAGMA synchronous=NORMAL",
		NULL, NULL, NULL);
}

int th_db_begin_durable(struct th_db *db, bool durable, struct th_error *err)
{
	/* Not within a transaction: its end would not know of it. */
	if (awake(db, err))
		return -1;
	if (durable && db->depth == 0)
		set_durable(db, true);
	if (th_db_begin(db, err) == 0)
		return 0;
	if (db->durable && db->depth == 0)
		set_durable(db, false);
	return -1;
}

static int end_outermost(struct th_db *db, int rc, struct th_error *err)
{
	if (rc == 0 && db->doomed)
		rc = th_fail(err, TH_FAILED,
			"a part of a change of the state has failed");
	db->doomed = false;
	if (rc == 0 && exec(db, "COMMIT", err) == 0)
		return 0;
	sqlite3_exec(db->handle, "ROLLBACK", NULL, NULL, NULL);
	/* What the log holds goes to the database: the next one finds room at
	 * its beginning. */
	if (err && err->sys == ENOSPC)
		sqlite3_wal_checkpoint_v2(db->handle, NULL,
			SQLITE_CHECKPOINT_RESTART, NULL, NULL);
	return rc ? rc : -1;
}

int th_db_end(struct th_db *db, int rc, struct th_error *err)
{
	if (--db->depth > 0) {
		db->doomed |= rc != 0;
		return rc;
	}
	rc = end_outermost(db, rc, err);
	if (db->durable)
		set_durable(db, false);
	return rc;
}
