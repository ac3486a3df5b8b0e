/* Events and sessions, and what of a container changes beside its state. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "store/container_state.h"
#include "store/state_parts.h"

static int note(struct th_db *db, const char *id, int64_t at_us,
	const struct th_cause *cause, const char *actor, struct th_error *err)
{
	struct th_container_row row;
	int rc = th_state_get(db, id, &row, err);

	if (rc == 0)
		return th_fail(err, TH_NOT_FOUND,
			"the container %s no longer exists", id);
	if (rc < 0)
		return -1;
	return state_add_event(db, id, at_us, th_state_word(row.state),
		th_state_word(row.state), cause, actor, "", 0, err);
}

int th_state_note_at(struct th_db *db, const char *id, int64_t at_us,
	const struct th_cause *cause, const char *actor, const char *health,
	struct th_error *err)
{
	int rc = 0;

	if (th_db_begin(db, err))
		return -1;
	if (health)
		rc = th_db_run(db, err,
			"UPDATE containers SET health=? WHERE id=?", "tt",
			health, id);
	if (rc == 0)
		rc = note(db, id, at_us, cause, actor, err);
	return th_db_end(db, rc, err);
}

int th_state_note(struct th_db *db, const char *id,
	const struct th_cause *cause, const char *actor, const char *health,
	struct th_error *err)
{
	return th_state_note_at(db, id, 0, cause, actor, health, err);
}

int th_state_rename(struct th_db *db, const char *id, const char *name,
	const char *actor, struct th_error *err)
{
	struct th_container_row row;
	struct th_cause cause = {.kind = TH_CAUSE_RENAMED};
	int rc;

	if (th_db_begin(db, err))
		return -1;
	rc = th_state_get(db, id, &row, err);
	if (rc == 0)
		rc = th_fail(err, TH_NOT_FOUND,
			"the container %s no longer exists", id);
	if (rc == 1) {
		snprintf(cause.text, sizeof(cause.text), "%s", row.name);
		snprintf(cause.more, sizeof(cause.more), "%s", name);
		rc = th_db_run(db, err,
			"UPDATE containers SET name=? WHERE id=?", "tt", name,
			id);
		if (rc && err->code == TH_IN_USE) {
			th_error_clear(err);
			th_fail(err, TH_IN_USE,
				"the name \"%s\" is taken by another container",
				name);
		}
		if (rc == 0)
			rc = note(db, id, 0, &cause, actor, err);
	}
	return th_db_end(db, rc, err);
}

int th_state_adjust(struct th_db *db, const char *id, const char *restart,
	const char *probe, struct th_error *err)
{
	return th_db_run(db, err,
		"UPDATE containers SET restart=coalesce(?, restart),"
		" probe=coalesce(?, probe) WHERE id=?",
		"ttt", restart, probe, id);
}

static void read_event(struct th_query *query, void *item)
{
	struct th_event_row *row = item;

	row->number = th_query_int(query, 0);
	row->time_us = th_query_int(query, 1);
	state_copy(row->container, sizeof(row->container), query, 2);
	state_copy(row->name, sizeof(row->name), query, 3);
	state_copy(row->from, sizeof(row->from), query, 4);
	state_copy(row->to, sizeof(row->to), query, 5);
	th_cause_read(th_query_text(query, 6), &row->cause);
	state_copy(row->actor, sizeof(row->actor), query, 7);
	state_copy(row->outcome, sizeof(row->outcome), query, 8);
	row->code = (int)th_query_int(query, 9);
}

/* One condition or the other: an index is used for no "or" of both. */
#define EVENTS(condition)                                                      \
	"SELECT number, time_us, container, name, from_state, to_state,"       \
	" cause, actor, outcome, code FROM events"                             \
	" WHERE " condition " AND number>?2 ORDER BY number"
#define SESSIONS(condition)                                                    \
	"SELECT s.id, s.container, c.name, s.command, s.user, s.actor,"        \
	" s.background, s.pid, s.code, s.started_us, s.ended_us"               \
	" FROM sessions s JOIN containers c ON c.id=s.container"               \
	" WHERE " condition                                                    \
	" AND (?2 IS NULL OR substr(s.id, 1, length(?2))=?2)"                  \
	" ORDER BY s.started_us"

int th_state_events(struct th_db *db, const char *id, int64_t behind,
	struct th_event_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(db, &query, err,
		    id ? EVENTS("container=?1") : EVENTS("?1 IS NULL"), "ti",
		    id, behind))
		return -1;
	if (state_rows(query, sizeof(**rows), read_event, &list, count, err))
		return -1;
	*rows = list;
	return 0;
}

int th_state_last_named(struct th_db *db, const char *name,
	char id[TH_ID_LENGTH + 1], struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	if (th_db_query(db, &query, err,
		    "SELECT container FROM events WHERE name=?1"
		    " OR container=?1 ORDER BY number DESC LIMIT 1",
		    "t", name))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1)
		state_copy(id, TH_ID_LENGTH + 1, query, 0);
	th_query_end(query);
	return rc;
}

int th_state_session_add(struct th_db *db, const struct th_session_row *row,
	struct th_error *err)
{
	return th_db_run(db, err,
		"INSERT INTO sessions(id, container, command, user, pid,"
		" started_us, actor, background)"
		" VALUES(?, ?, ?, ?, ?, ?, ?, ?)",
		"ttttiiti", row->id, row->container, row->command, row->user,
		(int64_t)row->pid, th_clock_now_us(), row->actor,
		(int64_t)row->background);
}

int th_state_session_end(
	struct th_db *db, const char *session, int code, struct th_error *err)
{
	return th_db_run(db, err,
		"UPDATE sessions SET ended_us=?, code=? WHERE id=?", "iit",
		th_clock_now_us(), (int64_t)code, session);
}

static void read_session(struct th_query *query, void *item)
{
	struct th_session_row *row = item;

	state_copy(row->id, sizeof(row->id), query, 0);
	state_copy(row->container, sizeof(row->container), query, 1);
	state_copy(row->container_name, sizeof(row->container_name), query, 2);
	state_copy(row->command, sizeof(row->command), query, 3);
	state_copy(row->user, sizeof(row->user), query, 4);
	state_copy(row->actor, sizeof(row->actor), query, 5);
	row->background = th_query_int(query, 6) != 0;
	row->pid = (int)th_query_int(query, 7);
	row->code = (int)th_query_int(query, 8);
	row->started_us = th_query_int(query, 9);
	row->ended_us = th_query_int(query, 10);
}

int th_state_sessions(struct th_db *db, const char *container, const char *text,
	struct th_session_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(db, &query, err,
		    container ? SESSIONS("s.container=?1")
			      : SESSIONS("?1 IS NULL"),
		    "tt", container, text))
		return -1;
	if (state_rows(query, sizeof(**rows), read_session, &list, count, err))
		return -1;
	*rows = list;
	return 0;
}
