#include "store/container_state.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"

#define COLUMNS                                                                \
	"id, name, image, image_name, command, network, state, outcome,"       \
	" code, reason, keep, pid, boot, created_us, started_us, ended_us"

static const char *const states[] = {
	"created", "running", "paused", "stopped", "waiting"};
static const char *const outcomes[] = {"", "exited", "signal", "out-of-memory",
	"could-not-start", "host-restarted", "keeper-lost"};

const char *th_state_word(enum th_state state)
{
	return states[state];
}

const char *th_outcome_word(enum th_outcome outcome)
{
	return outcomes[outcome];
}

static int word_index(const char *word, const char *const *words, int count)
{
	for (int i = 0; i < count; i++) {
		if (strcmp(word, words[i]) == 0)
			return i;
	}
	return 0;
}

static void copy(char *to, size_t size, struct th_query *query, int column)
{
	snprintf(to, size, "%s", th_query_text(query, column));
}

static void read_row(struct th_query *query, struct th_container_row *row)
{
	memset(row, 0, sizeof(*row));
	copy(row->id, sizeof(row->id), query, 0);
	copy(row->name, sizeof(row->name), query, 1);
	copy(row->image, sizeof(row->image), query, 2);
	copy(row->image_name, sizeof(row->image_name), query, 3);
	copy(row->command, sizeof(row->command), query, 4);
	copy(row->network, sizeof(row->network), query, 5);
	row->state =
		(enum th_state)word_index(th_query_text(query, 6), states, 5);
	row->outcome = (enum th_outcome)word_index(
		th_query_text(query, 7), outcomes, 7);
	row->code = (int)th_query_int(query, 8);
	copy(row->reason, sizeof(row->reason), query, 9);
	row->keep = th_query_int(query, 10) != 0;
	row->pid = (int)th_query_int(query, 11);
	copy(row->boot, sizeof(row->boot), query, 12);
	row->created_us = th_query_int(query, 13);
	row->started_us = th_query_int(query, 14);
	row->ended_us = th_query_int(query, 15);
}

static int add_event(struct th_db *db, const char *id, const char *from,
	const char *to, const char *cause, const char *actor,
	struct th_error *err)
{
	return th_db_run(db, err,
		"INSERT INTO events(time_us, container, name, from_state,"
		" to_state, cause, actor) VALUES(?, ?,"
		" coalesce((SELECT name FROM containers WHERE id=?), ''),"
		" ?, ?, ?, ?)",
		"itttttt", th_clock_now_us(), id, id, from, to, cause, actor);
}

int th_state_add(struct th_db *db, const struct th_container_row *row,
	const char *actor, struct th_error *err)
{
	int rc;

	if (th_db_begin(db, err))
		return -1;
	rc = th_db_run(db, err,
		"INSERT INTO containers(id, name, image, image_name, command,"
		" network, state, keep, created_us)"
		" SELECT ?, ?, ?, ?, ?, ?, 'created', ?, ?"
		" WHERE EXISTS(SELECT 1 FROM images WHERE digest=?)",
		"ttttttiit", row->id, row->name, row->image, row->image_name,
		row->command, row->network, (int64_t)row->keep, row->created_us,
		row->image);
	if (rc == 0 && th_db_changed(db) == 0)
		rc = th_fail(
			err, TH_NOT_FOUND, "the image was removed meanwhile");
	if (rc == 0)
		rc = add_event(
			db, row->id, "", "created", "created", actor, err);
	if (rc && err->code == TH_IN_USE) {
		th_error_clear(err);
		th_fail(err, TH_IN_USE,
			"the name \"%s\" is taken by another container",
			row->name);
	}
	return th_db_end(db, rc, err);
}

static int get_one(struct th_db *db, const char *sql, const char *key,
	struct th_container_row *row, struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	if (th_db_query(db, &query, err, sql, "t", key))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1)
		read_row(query, row);
	th_query_end(query);
	return rc;
}

int th_state_get(struct th_db *db, const char *id, struct th_container_row *row,
	struct th_error *err)
{
	return get_one(db, "SELECT " COLUMNS " FROM containers WHERE id=?", id,
		row, err);
}

int th_state_get_named(struct th_db *db, const char *name,
	struct th_container_row *row, struct th_error *err)
{
	return get_one(db, "SELECT " COLUMNS " FROM containers WHERE name=?",
		name, row, err);
}

/* Makes room for one more item in a list that doubles; NULL without memory. */
static void *grow(void **list, size_t count, size_t size)
{
	void *bigger;

	if (count >= 8 && (count & (count - 1)) != 0)
		return (char *)*list + count * size;
	if (count > 0 && count < 8)
		return (char *)*list + count * size;
	bigger = realloc(*list, (count ? count * 2 : 8) * size);
	if (!bigger)
		return NULL;
	*list = bigger;
	return (char *)bigger + count * size;
}

int th_state_list(struct th_db *db, const char *text,
	struct th_container_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;
	size_t used = 0;
	int rc;

	if (text)
		rc = th_db_query(db, &query, err,
			"SELECT " COLUMNS " FROM containers WHERE name=?"
			" OR substr(id, 1, length(?))=? ORDER BY created_us",
			"ttt", text, text, text);
	else
		rc = th_db_query(db, &query, err,
			"SELECT " COLUMNS
			" FROM containers ORDER BY created_us",
			"");
	if (rc)
		return -1;
	while ((rc = th_query_next(query, err)) == 1) {
		struct th_container_row *row =
			grow(&list, used, sizeof(**rows));

		if (!row) {
			rc = th_fail_memory(err);
			break;
		}
		read_row(query, row);
		used++;
	}
	th_query_end(query);
	if (rc < 0) {
		free(list);
		return -1;
	}
	*rows = list;
	*count = used;
	return 0;
}

static int hold_ports(struct th_db *db, const char *id,
	const struct th_change *change, struct th_error *err)
{
	for (size_t i = 0; i < change->port_count; i++) {
		const struct th_port_row *port = &change->ports[i];

		if (th_db_run(db, err,
			    "INSERT INTO ports(container, protocol, address,"
			    " host_port, port) VALUES(?, ?, ?, ?, ?)",
			    "tttii", id, port->protocol, port->address,
			    (int64_t)port->host_port, (int64_t)port->port))
			return -1;
	}
	return 0;
}

static int change_rows(struct th_db *db, const char *id,
	const struct th_change *change, struct th_error *err)
{
	struct th_container_row row;
	bool runs =
		change->to == TH_STATE_RUNNING || change->to == TH_STATE_PAUSED;
	int64_t now = th_clock_now_us();
	bool starts;
	int rc;

	rc = th_state_get(db, id, &row, err);
	if (rc == 0)
		return th_fail(err, TH_NOT_FOUND,
			"the container %s is not there any more", id);
	if (rc < 0)
		return -1;
	starts = change->to == TH_STATE_RUNNING &&
		row.state != TH_STATE_PAUSED && row.state != TH_STATE_RUNNING;
	if (th_db_run(db, err,
		    "UPDATE containers SET state=?, outcome=?, code=?,"
		    " reason=?, pid=?, boot=coalesce(?, boot), started_us=?,"
		    " ended_us=? WHERE id=?",
		    "ttititiit", states[change->to], outcomes[change->outcome],
		    (int64_t)change->code, change->reason ? change->reason : "",
		    (int64_t)change->pid, change->boot,
		    starts ? now : row.started_us, runs ? (int64_t)0 : now, id))
		return -1;
	if (!runs &&
		(th_db_run(db, err, "DELETE FROM ports WHERE container=?", "t",
			 id) ||
			th_db_run(db, err,
				"DELETE FROM addresses WHERE container=?", "t",
				id) ||
			th_db_run(db, err,
				"UPDATE sessions SET ended_us=?, code=137"
				" WHERE container=? AND ended_us=0",
				"it", now, id)))
		return -1;
	if (hold_ports(db, id, change, err))
		return -1;
	return add_event(db, id, states[row.state], states[change->to],
		change->cause, change->actor, err);
}

int th_state_change(struct th_db *db, const char *id,
	const struct th_change *change, struct th_error *err)
{
	if (th_db_begin(db, err))
		return -1;
	return th_db_end(db, change_rows(db, id, change, err), err);
}

int th_state_remove(struct th_db *db, const char *id, const char *actor,
	struct th_error *err)
{
	struct th_container_row row;
	int rc;

	if (th_db_begin(db, err))
		return -1;
	rc = th_state_get(db, id, &row, err);
	if (rc == 1)
		rc = add_event(db, id, states[row.state], "removed", "removed",
			     actor, err) ||
				th_db_run(db, err,
					"DELETE FROM containers WHERE id=?",
					"t", id)
			? -1
			: 0;
	return th_db_end(db, rc, err);
}

int th_state_ports(struct th_db *db, const char *id, struct th_port_row **rows,
	size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;
	size_t used = 0;
	int rc;

	if (th_db_query(db, &query, err,
		    "SELECT container, protocol, address, host_port, port"
		    " FROM ports WHERE ?1 IS NULL OR container=?1"
		    " ORDER BY container, port, protocol, host_port, address",
		    "t", id))
		return -1;
	while ((rc = th_query_next(query, err)) == 1) {
		struct th_port_row *row = grow(&list, used, sizeof(**rows));

		if (!row) {
			rc = th_fail_memory(err);
			break;
		}
		copy(row->container, sizeof(row->container), query, 0);
		copy(row->protocol, sizeof(row->protocol), query, 1);
		copy(row->address, sizeof(row->address), query, 2);
		row->host_port = (int)th_query_int(query, 3);
		row->port = (int)th_query_int(query, 4);
		used++;
	}
	th_query_end(query);
	if (rc < 0) {
		free(list);
		return -1;
	}
	*rows = list;
	*count = used;
	return 0;
}

int th_state_addresses(struct th_db *db, const char *id,
	char address4[TH_ADDRESS_TEXT], char address6[TH_ADDRESS_TEXT],
	struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	address4[0] = address6[0] = '\0';
	if (th_db_query(db, &query, err,
		    "SELECT address4, address6 FROM addresses"
		    " WHERE container=?",
		    "t", id))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1) {
		copy(address4, TH_ADDRESS_TEXT, query, 0);
		copy(address6, TH_ADDRESS_TEXT, query, 1);
	}
	th_query_end(query);
	return rc < 0 ? -1 : 0;
}

int th_state_events(struct th_db *db, const char *id,
	struct th_event_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;
	size_t used = 0;
	int rc;

	if (th_db_query(db, &query, err,
		    "SELECT time_us, container, name, from_state, to_state,"
		    " cause, actor FROM events WHERE container=?"
		    " ORDER BY number",
		    "t", id))
		return -1;
	while ((rc = th_query_next(query, err)) == 1) {
		struct th_event_row *row = grow(&list, used, sizeof(**rows));

		if (!row) {
			rc = th_fail_memory(err);
			break;
		}
		row->time_us = th_query_int(query, 0);
		copy(row->container, sizeof(row->container), query, 1);
		copy(row->name, sizeof(row->name), query, 2);
		copy(row->from, sizeof(row->from), query, 3);
		copy(row->to, sizeof(row->to), query, 4);
		copy(row->cause, sizeof(row->cause), query, 5);
		copy(row->actor, sizeof(row->actor), query, 6);
		used++;
	}
	th_query_end(query);
	if (rc < 0) {
		free(list);
		return -1;
	}
	*rows = list;
	*count = used;
	return 0;
}

int th_state_session_add(struct th_db *db, const char *session,
	const char *container, const char *command, const char *user, int pid,
	struct th_error *err)
{
	return th_db_run(db, err,
		"INSERT INTO sessions(id, container, command, user, pid,"
		" started_us) VALUES(?, ?, ?, ?, ?, ?)",
		"ttttii", session, container, command, user, (int64_t)pid,
		th_clock_now_us());
}

int th_state_session_end(
	struct th_db *db, const char *session, int code, struct th_error *err)
{
	return th_db_run(db, err,
		"UPDATE sessions SET ended_us=?, code=? WHERE id=?", "iit",
		th_clock_now_us(), (int64_t)code, session);
}
