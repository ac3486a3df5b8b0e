#include "store/replacement_state.h"

#include <stdio.h>
#include <string.h>

#include "store/state_parts.h"

int th_replacement_begin(struct th_db *db, const char *successor,
	const char *container, const char *maker, bool up, struct th_error *err)
{
	struct th_error own = {0};

	if (th_db_run(db, &own,
		    "INSERT INTO replacements(successor, container, maker,"
		    " up, places) SELECT ?1, ?2, ?3, ?4, coalesce((SELECT"
		    " group_concat(network || '=' || address4, ' ')"
		    " FROM addresses WHERE container=?2), '')",
		    "ttti", successor, container, maker, (int64_t)up) == 0)
		/* It belongs to the same group, unless its settings say more.
		 */
		return th_db_run(db, err,
			"INSERT OR IGNORE INTO members(container, grp, member,"
			" after, settings) SELECT ?, grp, member, after,"
			" settings FROM members WHERE container=?",
			"tt", successor, container);
	if (own.code == TH_IN_USE)
		return th_fail(err, TH_IN_USE,
			"another command is making the container anew");
	*err = own;
	return -1;
}

/* One loses the name to the other: under its ID, which nobody else has. */
static int move_name(struct th_db *db, const char *from, const char *to,
	struct th_error *err)
{
	struct th_container_row row;
	int rc = th_state_get(db, from, &row, err);

	if (rc <= 0)
		return rc < 0 ? -1
			      : th_fail(err, TH_NOT_FOUND,
					"the container was removed meanwhile");
	return th_db_run(db, err, "UPDATE containers SET name=id WHERE id=?",
		       "t", from) ||
			th_db_run(db, err,
				"UPDATE containers SET name=? WHERE id=?", "tt",
				row.name, to) ||
			th_db_run(db, err,
				"UPDATE volumes SET own=? WHERE own=?", "tt",
				to, from)
		? -1
		: 0;
}

/* The history of each of the two says what became of it. */
static int tell(struct th_db *db, const char *id, enum th_cause_kind kind,
	const char *other, const char *actor, struct th_error *err)
{
	struct th_cause cause = {.kind = kind};

	snprintf(cause.text, sizeof(cause.text), "%.12s", other);
	return th_state_note(db, id, &cause, actor, NULL, err);
}

int th_replacement_swap(struct th_db *db, const struct th_replacement_row *row,
	bool back, const char *actor, struct th_error *err)
{
	const char *from = back ? row->successor : row->container;
	const char *to = back ? row->container : row->successor;
	int rc;

	if (th_db_begin(db, err))
		return -1;
	rc = move_name(db, from, to, err);
	if (rc == 0)
		rc = th_db_run(db, err,
			"UPDATE replacements SET stage=? WHERE successor=?",
			"it",
			(int64_t)(back ? TH_STAGE_MADE : TH_STAGE_SWAPPED),
			row->successor);
	if (rc == 0)
		rc = tell(db, to,
			back ? TH_CAUSE_PLACE_TAKEN_BACK : TH_CAUSE_PLACE_TAKEN,
			from, actor, err);
	if (rc == 0)
		rc = tell(db, from, TH_CAUSE_PLACE_GIVEN, to, actor, err);
	return th_db_end(db, rc, err);
}

int th_replacement_decide(struct th_db *db,
	const struct th_replacement_row *row, enum th_stage stage,
	const char *failure, const char *actor, struct th_error *err)
{
	struct th_cause cause = {.kind = TH_CAUSE_SUCCESSOR_FAILED};

	int rc;

	if (th_db_begin(db, err))
		return -1;
	rc = th_db_run(db, err,
		"UPDATE replacements SET stage=? WHERE successor=?", "it",
		(int64_t)stage, row->successor);
	if (rc == 0 && stage == TH_STAGE_GIVEN_UP && row->up)
		rc = th_db_run(db, err,
			"UPDATE containers SET wanted=1 WHERE id=?", "t",
			row->container);
	if (rc == 0 && failure) {
		snprintf(cause.text, sizeof(cause.text), "%s", failure);
		rc = th_state_note(
			db, row->container, &cause, actor, NULL, err);
	}
	return th_db_end(db, rc, err);
}

int th_replacement_address(struct th_db *db, const char *successor,
	const char *network, char address[TH_ADDRESS_TEXT],
	struct th_error *err)
{
	struct th_query *query = NULL;
	size_t len = strlen(network);
	int rc;

	if (th_db_query(db, &query, err,
		    "SELECT places FROM replacements WHERE successor=?", "t",
		    successor))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1) {
		const char *at = th_query_text(query, 0);

		while (*at &&
			(strncmp(at, network, len) != 0 || at[len] != '=')) {
			at += strcspn(at, " ");
			at += *at == ' ';
		}
		rc = *at != '\0';
		if (rc)
			snprintf(address, TH_ADDRESS_TEXT, "%.*s",
				(int)strcspn(at + len + 1, " "), at + len + 1);
	}
	th_query_end(query);
	return rc;
}

static void read_row(struct th_query *query, void *item)
{
	struct th_replacement_row *row = item;

	state_copy(row->successor, sizeof(row->successor), query, 0);
	state_copy(row->container, sizeof(row->container), query, 1);
	state_copy(row->maker, sizeof(row->maker), query, 2);
	row->stage = (enum th_stage)th_query_int(query, 3);
	row->up = th_query_int(query, 4) != 0;
}

int th_replacement_list(struct th_db *db, const char *id,
	struct th_replacement_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(db, &query, err,
		    "SELECT successor, container, maker, stage, up"
		    " FROM replacements WHERE ?1 IS NULL OR successor=?1"
		    " OR container=?1",
		    "t", id) ||
		state_rows(query, sizeof(**rows), read_row, &list, count, err))
		return -1;
	*rows = list;
	return 0;
}
