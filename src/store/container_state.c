#include "store/container_state.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/choice.h"
#include "base/clock.h"
#include "store/machine.h"
#include "store/schema.h"
#include "store/state_parts.h"

#define COLUMNS                                                                \
	"id, name, image, image_name, command, network, state, outcome,"       \
	" code, cause, keep, pid, boot, created_us, started_us, ended_us,"     \
	" restart, tries, restarts, next_us, wanted, probe, health, cgroup,"   \
	" aliases, build"

static const char *const states[] = {
	"created", "running", "paused", "stopped", "waiting"};

const char *th_state_word(enum th_state state)
{
	return states[state];
}

static int word_index(const char *word, const char *const *words, int count)
{
	int index = th_choice(word, words, (size_t)count);

	/* One of a later version is as good as the first. */
	return index < 0 ? 0 : index;
}

void state_copy(char *to, size_t size, struct th_query *query, int column)
{
	const char *text = th_query_text(query, column);
	size_t len = strnlen(text, size - 1);

	memcpy(to, text, len);
	to[len] = '\0';
}

static void read_row(struct th_query *query, struct th_container_row *row)
{
	memset(row, 0, sizeof(*row));
	state_copy(row->id, sizeof(row->id), query, 0);
	state_copy(row->name, sizeof(row->name), query, 1);
	state_copy(row->image, sizeof(row->image), query, 2);
	state_copy(row->image_name, sizeof(row->image_name), query, 3);
	state_copy(row->command, sizeof(row->command), query, 4);
	state_copy(row->network, sizeof(row->network), query, 5);
	row->state =
		(enum th_state)word_index(th_query_text(query, 6), states, 5);
	row->outcome = th_outcome_parse(th_query_text(query, 7));
	row->code = (int)th_query_int(query, 8);
	th_cause_read(th_query_text(query, 9), &row->cause);
	row->keep = th_query_int(query, 10) != 0;
	row->pid = (int)th_query_int(query, 11);
	state_copy(row->boot, sizeof(row->boot), query, 12);
	row->created_us = th_query_int(query, 13);
	row->started_us = th_query_int(query, 14);
	row->ended_us = th_query_int(query, 15);
	state_copy(row->restart, sizeof(row->restart), query, 16);
	row->tries = (int)th_query_int(query, 17);
	row->restarts = (int)th_query_int(query, 18);
	row->next_us = th_query_int(query, 19);
	row->wanted = th_query_int(query, 20) != 0;
	state_copy(row->probe, sizeof(row->probe), query, 21);
	state_copy(row->health, sizeof(row->health), query, 22);
	state_copy(row->cgroup, sizeof(row->cgroup), query, 23);
	state_copy(row->aliases, sizeof(row->aliases), query, 24);
	state_copy(row->build, sizeof(row->build), query, 25);
}

int state_add_event(struct th_db *db, const char *id, int64_t at_us,
	const char *from, const char *to, const struct th_cause *cause,
	const char *actor, const char *outcome, int code, struct th_error *err)
{
	char text[TH_CAUSE_JSON];

	th_cause_write(cause, text);
	if (th_db_run(db, err,
		    "INSERT INTO events(time_us, container, name, from_state,"
		    " to_state, cause, actor, outcome, code) VALUES(?, ?,"
		    " coalesce((SELECT name FROM containers WHERE id=?), ''),"
		    " ?, ?, ?, ?, ?, ?)",
		    "itttttt"
		    "ti",
		    at_us ? at_us : th_clock_now_us(), id, id, from, to, text,
		    actor, outcome, (int64_t)code))
		return -1;
	return state_fold_events(db, id, err);
}

int th_state_add(struct th_db *db, const struct th_container_row *row,
	const char *actor, struct th_error *err)
{
	int rc;

	if (th_db_begin(db, err))
		return -1;
	rc = th_db_run(db, err,
		"INSERT INTO containers(id, name, image, image_name, command,"
		" network, state, keep, created_us, restart, probe, aliases,"
		" build)"
		" SELECT ?, ?, ?, ?, ?, ?, 'created', ?, ?, ?, ?, ?, ?"
		/* The image cannot be removed between the look and the insert.
		 */
		" WHERE EXISTS(SELECT 1 FROM images WHERE digest=?)",
		"ttttttiittttt", row->id, row->name, row->image,
		row->image_name, row->command, row->network, (int64_t)row->keep,
		row->created_us, row->restart, row->probe, row->aliases,
		row->build, row->image);
	if (rc == 0 && th_db_changed(db) == 0)
		rc = th_fail(err, TH_NOT_FOUND,
			"the image has been removed meanwhile");
	if (rc == 0)
		rc = state_add_event(db, row->id, 0, "", "created",
			&(struct th_cause){.kind = TH_CAUSE_CREATED}, actor, "",
			0, err);
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

int state_rows(struct th_query *query, size_t size,
	void (*read)(struct th_query *query, void *item), void **list,
	size_t *count, struct th_error *err)
{
	void *rows = NULL;
	size_t used = 0;
	int rc;

	while ((rc = th_query_next(query, err)) == 1) {
		void *item = th_grow(&rows, used, size);

		if (!item) {
			rc = th_fail_memory(err);
			break;
		}
		/* What a reader does not set is empty. */
		memset(item, 0, size);
		read(query, item);
		used++;
	}
	th_query_end(query);
	if (rc < 0) {
		free(rows);
		return -1;
	}
	*list = rows;
	*count = used;
	return 0;
}

int state_read_names(
	struct th_query *query, struct th_strings *names, struct th_error *err)
{
	int rc;

	while ((rc = th_query_next(query, err)) == 1) {
		if (th_strings_add(names, th_query_text(query, 0))) {
			rc = th_fail_memory(err);
			break;
		}
	}
	th_query_end(query);
	return rc < 0 ? -1 : 0;
}

int state_names(struct th_db *db, struct th_strings *names,
	struct th_error *err, const char *sql, const char *key)
{
	struct th_query *query = NULL;

	if (th_db_query(db, &query, err, sql, "t", key))
		return -1;
	return state_read_names(query, names, err);
}

static void read_item(struct th_query *query, void *item)
{
	read_row(query, item);
}

int th_state_list(struct th_db *db, const char *text,
	struct th_container_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;
	int rc;

	if (text)
		/* Both by their indexes: no ID has a character behind the last
		 * one of ASCII. */
		rc = th_db_query(db, &query, err,
			"SELECT " COLUMNS " FROM containers WHERE name=?1"
			" OR (id>=?1 AND id<?1||'~') ORDER BY created_us",
			"t", text);
	else
		rc = th_db_query(db, &query, err,
			"SELECT " COLUMNS
			" FROM containers ORDER BY created_us",
			"");
	if (rc)
		return -1;
	if (state_rows(query, sizeof(**rows), read_item, &list, count, err))
		return -1;
	*rows = list;
	return 0;
}

int th_state_list_up(struct th_db *db, struct th_container_row **rows,
	size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(db, &query, err,
		    "SELECT " COLUMNS " FROM containers WHERE " TH_SCHEMA_UP
		    " ORDER BY created_us",
		    "") ||
		state_rows(query, sizeof(**rows), read_item, &list, count, err))
		return -1;
	*rows = list;
	return 0;
}

int th_state_list_having(struct th_db *db, enum th_have what,
	struct th_strings *ids, struct th_error *err)
{
#define HAVING(table)                                                          \
	"SELECT DISTINCT container FROM " table                                \
	" WHERE ?1 IS NULL ORDER BY container"
	static const char *const queries[] = {[TH_HAVE_PORTS] = HAVING("ports"),
		[TH_HAVE_ADDRESSES] = HAVING("addresses"),
		[TH_HAVE_NETWORKS] = HAVING("network_uses"),
		[TH_HAVE_GROUP] = HAVING("members")};

	return state_names(db, ids, err, queries[what], NULL);
}

int th_state_names_like(struct th_db *db, int length, int within,
	struct th_strings *names, struct th_error *err)
{
	struct th_query *query = NULL;

	if (th_db_query(db, &query, err,
		    "SELECT name FROM containers"
		    " WHERE length(name) BETWEEN ?1 - ?2 AND ?1 + ?2"
		    " ORDER BY name",
		    "ii", (int64_t)length, (int64_t)within))
		return -1;
	return state_read_names(query, names, err);
}

int th_state_count(struct th_db *db, int64_t *count, struct th_error *err)
{
	return th_db_number(
		db, 0, count, err, "SELECT count(*) FROM containers", "");
}

int th_state_hold_ports(struct th_db *db, const char *id,
	const struct th_port_row *ports, size_t count, struct th_error *err)
{
	for (size_t i = 0; i < count; i++) {
		const struct th_port_row *port = &ports[i];

		if (th_db_run(db, err,
			    "INSERT OR REPLACE INTO ports(container, protocol,"
			    " address,"
			    " host_port, port) VALUES(?, ?, ?, ?, ?)",
			    "tttii", id, port->protocol, port->address,
			    (int64_t)port->host_port, (int64_t)port->port))
			return -1;
	}
	return 0;
}

int th_state_forget_start(
	struct th_db *db, const char *id, struct th_error *err)
{
	int rc;

	if (th_db_begin(db, err))
		return -1;
	rc = th_db_run(db, err, "DELETE FROM ports WHERE container=?", "t", id);
	if (rc == 0)
		rc = th_db_run(db, err,
			"DELETE FROM addresses WHERE container=?", "t", id);
	return th_db_end(db, rc, err);
}

int th_state_began(struct th_db *db, const char *id, struct th_error *err)
{
	int64_t began = 0;

	if (th_db_number(db, 0, &began, err,
		    "SELECT EXISTS(SELECT 1 FROM addresses WHERE container=?1)"
		    " OR EXISTS(SELECT 1 FROM ports WHERE container=?1)",
		    "t", id))
		return -1;
	return began != 0;
}

bool th_state_has_networks(struct th_db *db)
{
	struct th_error ignored = {0}; /* then it is not known */
	int64_t count = 1;

	th_db_number(db, 1, &count, &ignored,
		"SELECT EXISTS(SELECT 1 FROM containers"
		" WHERE network NOT IN ('none', 'host'))",
		"");
	return count > 0;
}

int th_state_list_began(
	struct th_db *db, struct th_strings *ids, struct th_error *err)
{
	return state_names(db, ids, err,
		"SELECT id FROM containers WHERE state IN ('created',"
		" 'stopped') AND (?1 IS NULL) AND (id IN"
		" (SELECT container FROM addresses) OR id IN"
		" (SELECT container FROM ports))",
		NULL);
}

static int change_rows(struct th_db *db, const char *id,
	const struct th_change *change, struct th_error *err)
{
	struct th_container_row row;
	char cause[TH_CAUSE_JSON] = "";
	bool runs =
		change->to == TH_STATE_RUNNING || change->to == TH_STATE_PAUSED;
	int64_t now = change->at_us ? change->at_us : th_clock_now_us();
	int rc, restarts;
	bool starts;

	rc = th_state_get(db, id, &row, err);
	if (rc == 0)
		return th_fail(err, TH_NOT_FOUND,
			"the container %s no longer exists", id);
	if (rc < 0)
		return -1;
	starts = change->to == TH_STATE_RUNNING &&
		row.state != TH_STATE_PAUSED && row.state != TH_STATE_RUNNING;
	if (!th_state_may_follow(row.state, change->to))
		return th_fail(err, TH_FAILED,
			"container \"%s\" is %s and cannot become %s", row.name,
			states[row.state], states[change->to]);
	restarts = change->to != TH_STATE_RUNNING || !starts ? row.restarts
		: row.state == TH_STATE_WAITING		     ? row.restarts + 1
							     : 0;
	/* One that runs has not ended. */
	if (!runs)
		th_cause_write(&change->cause, cause);
	if (change->wanted)
		row.wanted = change->wanted == TH_WANTED;
	if (th_db_run(db, err,
		    "UPDATE containers SET state=?, outcome=?, code=?,"
		    " cause=?, pid=?, boot=coalesce(?, boot), started_us=?,"
		    " ended_us=?, tries=?, restarts=?, next_us=?, wanted=?,"
		    " health=?, cgroup=coalesce(?, cgroup) WHERE id=?",
		    "ttititiiiiiittt", states[change->to],
		    th_outcome_word(change->outcome), (int64_t)change->code,
		    cause, (int64_t)change->pid, change->boot,
		    starts ? now : row.started_us,
		    runs ? (int64_t)0
			    : row.state == TH_STATE_WAITING &&
				    change->to == TH_STATE_STOPPED
			    ? row.ended_us
			    : now,
		    (int64_t)(starts || !runs ? change->tries : row.tries),
		    (int64_t)restarts, change->next_us, (int64_t)row.wanted,
		    runs && !starts && !change->health ? row.health
			    : change->health	       ? change->health
						       : "",
		    change->cgroup, id))
		return -1;
	/* One that waits keeps its ports for the next time. */
	if (change->to != TH_STATE_WAITING && !runs &&
		th_db_run(db, err, "DELETE FROM ports WHERE container=?", "t",
			id))
		return -1;
	if (!runs &&
		(th_db_run(db, err, "DELETE FROM addresses WHERE container=?",
			 "t", id) ||
			th_db_run(db, err,
				"UPDATE sessions SET ended_us=?, code=137"
				" WHERE container=? AND ended_us=0",
				"it", now, id)))
		return -1;
	if (th_state_hold_ports(db, id, change->ports, change->port_count, err))
		return -1;
	return state_add_event(db, id, now, states[row.state],
		states[change->to], &change->cause, change->actor,
		th_outcome_word(change->outcome), change->code, err);
}

int th_state_change(struct th_db *db, const char *id,
	const struct th_change *change, struct th_error *err)
{
	if (th_db_begin(db, err))
		return -1;
	return th_db_end(db, change_rows(db, id, change, err), err);
}

static int remove_row(struct th_db *db, const char *id, int64_t at_us,
	const struct th_cause *cause, const char *actor,
	enum th_outcome outcome, int code, struct th_error *err)
{
	struct th_container_row row;
	int rc;

	if (th_db_begin(db, err))
		return -1;
	rc = th_state_get(db, id, &row, err);
	if (rc == 1)
		rc = state_add_event(db, id, at_us, states[row.state],
			     "removed", cause, actor, th_outcome_word(outcome),
			     code, err) ||
				th_db_run(db, err,
					"DELETE FROM containers WHERE id=?",
					"t", id)
			? -1
			: 0;
	return th_db_end(db, rc, err);
}

int th_state_remove(struct th_db *db, const char *id, const char *actor,
	struct th_error *err)
{
	return remove_row(db, id, 0,
		&(struct th_cause){.kind = TH_CAUSE_REMOVED}, actor,
		TH_OUTCOME_NONE, 0, err);
}

int th_state_discard(struct th_db *db, const char *id,
	const struct th_change *end, struct th_error *err)
{
	struct th_cause cause = end->cause;

	cause.discarded = true;
	return remove_row(db, id, end->at_us, &cause, end->actor, end->outcome,
		end->code, err);
}

static void read_port(struct th_query *query, void *item)
{
	struct th_port_row *row = item;

	state_copy(row->container, sizeof(row->container), query, 0);
	state_copy(row->protocol, sizeof(row->protocol), query, 1);
	state_copy(row->address, sizeof(row->address), query, 2);
	row->host_port = (int)th_query_int(query, 3);
	row->port = (int)th_query_int(query, 4);
}

/* One condition or the other: an index is used for no "or" of both. */
#define PORTS(condition)                                                       \
	"SELECT container, protocol, address, host_port, port FROM ports"      \
	" WHERE " condition                                                    \
	" ORDER BY container, port, protocol, host_port, address"

int th_state_ports(struct th_db *db, const char *id, struct th_port_row **rows,
	size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(db, &query, err,
		    id ? PORTS("container=?1") : PORTS("?1 IS NULL"), "t", id))
		return -1;
	if (state_rows(query, sizeof(**rows), read_port, &list, count, err))
		return -1;
	*rows = list;
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
		state_copy(address4, TH_ADDRESS_TEXT, query, 0);
		state_copy(address6, TH_ADDRESS_TEXT, query, 1);
	}
	th_query_end(query);
	return rc < 0 ? -1 : 0;
}
