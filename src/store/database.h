/* The state database: the only part that knows SQLite. */
#ifndef TH_STORE_DATABASE_H
#define TH_STORE_DATABASE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"

struct th_db;
struct th_query;

/* Opens or makes the database at path and brings its schema up to date.
 * A database of a newer schema is refused. small keeps the page cache at a
 * few pages, for programs that live long and look rarely. Where the disk
 * cannot be written, one that is not small is opened detached. */
int th_db_open(
	const char *path, int small, struct th_db **db, struct th_error *err);
void th_db_close(struct th_db *db);

/* Goes on with a copy in memory, from which nothing comes back to the disk, as
 * long as that is full or read-only. It is only read, but for what has to be
 * right now and will be found again by the next command: while
 * th_db_set_pretending says so. Not inside a transaction. */
int th_db_detach(struct th_db *db, struct th_error *err);
bool th_db_is_detached(const struct th_db *db);
void th_db_set_pretending(struct th_db *db, bool pretends);
/* An error where it is only read. */
int th_db_check_writable(const struct th_db *db, struct th_error *err);
/* True where err says that the disk does not take what is written. */
bool th_db_unwritable(const struct th_error *err);
/* True where err says that the file is damaged, or no database at all. */
bool th_db_damaged(const struct th_error *err);
/* Either: nothing is wrong with what was to be written, but it cannot be now.
 */
bool th_db_not_now(const struct th_error *err);
/* How long others are waited for, in milliseconds; 0: 20,000, as at first.
 * Whoever waited in vain gets an error with the errno EBUSY. */
void th_db_set_patience(struct th_db *db, int patience_ms);

/* For programs that live long and look rarely: gives back all of its memory.
 * The next call opens it again. Outside a transaction. */
void th_db_rest(struct th_db *db);
bool th_db_is_resting(const struct th_db *db);

/* Runs one statement that returns no rows. types has a letter for each "?":
 * t text (NULL allowed), i int64_t. A broken UNIQUE rule is TH_IN_USE. */
int th_db_run(struct th_db *db, struct th_error *err, const char *sql,
	const char *types, ...);
/* Rows changed by the last statement. */
int th_db_changed(struct th_db *db);

/* Starts a query; arguments as th_db_run. */
int th_db_query(struct th_db *db, struct th_query **query, struct th_error *err,
	const char *sql, const char *types, ...);
/* The next row: 1, 0 at the end, -1. */
int th_query_next(struct th_query *query, struct th_error *err);
/* A column of the current row: "" for null; valid until the next call. */
const char *th_query_text(struct th_query *query, int column);
int64_t th_query_int(struct th_query *query, int column);
void th_query_end(struct th_query *query);

/* One number, the first column of the first row; fallback without a row. */
int th_db_number(struct th_db *db, int64_t fallback, int64_t *number,
	struct th_error *err, const char *sql, const char *types, ...);

/* Transactions take the write lock at once. th_db_end commits where rc is 0
 * and takes all back otherwise; it returns rc, or -1 where the commit fails.
 * One inside another is a part of it: all or nothing holds for the outermost.
 */
/* From here to the end all that is read is of one moment, and each query costs
 * less, as it takes no locks of its own. Nothing may be written in between. A
 * failure is none: then each query stands for itself. */
void th_db_hold(struct th_db *db);
void th_db_let_go(struct th_db *db);

int th_db_begin(struct th_db *db, struct th_error *err);
/* The same; durable: what it changes is on the disk when th_db_end returns. A
 * power cut may take other changes back, and never a part of one. */
int th_db_begin_durable(struct th_db *db, bool durable, struct th_error *err);
int th_db_end(struct th_db *db, int rc, struct th_error *err);

#endif
