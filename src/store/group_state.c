#include "store/group_state.h"

#include "store/state_parts.h"

/* A container that is made anew is there twice for a while. */
#define IN_PLACE                                                               \
	" m.container NOT IN (SELECT successor FROM replacements"              \
	" WHERE stage IN (0, 3) UNION ALL SELECT container FROM replacements"  \
	" WHERE stage IN (1, 2))"

int th_member_set(struct th_db *db, const char *container,
	const struct th_member *member, struct th_error *err)
{
	return th_db_run(db, err,
		"INSERT OR REPLACE INTO members(container, grp, member, after,"
		" settings) VALUES(?, ?, ?, ?, ?)",
		"ttttt", container, member->group, member->member,
		member->after, member->settings);
}

static void read_member(struct th_query *query, void *item)
{
	struct th_member *member = item;

	state_copy(member->container, sizeof(member->container), query, 0);
	state_copy(member->group, sizeof(member->group), query, 1);
	state_copy(member->member, sizeof(member->member), query, 2);
	state_copy(member->after, sizeof(member->after), query, 3);
	state_copy(member->settings, sizeof(member->settings), query, 4);
}

int th_member_get(struct th_db *db, const char *container,
	struct th_member *member, struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	if (th_db_query(db, &query, err,
		    "SELECT container, grp, member, after, settings"
		    " FROM members WHERE container=?",
		    "t", container))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1)
		read_member(query, member);
	th_query_end(query);
	return rc;
}

/* One condition or the other: an index is used for no "or" of both. */
#define MEMBERS(condition)                                                     \
	"SELECT m.container, m.grp, m.member, m.after, m.settings"             \
	" FROM members m JOIN containers c ON c.id=m.container"                \
	" WHERE " condition " AND" IN_PLACE " ORDER BY m.grp, c.created_us"
#define GROUPS(condition)                                                      \
	"SELECT m.grp, count(*), sum(c.state IN ('running', 'paused'))"        \
	" FROM members m JOIN containers c ON c.id=m.container"                \
	" WHERE " condition " AND" IN_PLACE " GROUP BY m.grp ORDER BY m.grp"

int th_member_list(struct th_db *db, const char *group,
	struct th_member **members, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(db, &query, err,
		    group ? MEMBERS("m.grp=?1") : MEMBERS("?1 IS NULL"), "t",
		    group) ||
		state_rows(query, sizeof(**members), read_member, &list, count,
			err))
		return -1;
	*members = list;
	return 0;
}

static void read_group(struct th_query *query, void *item)
{
	struct th_group_row *row = item;

	state_copy(row->name, sizeof(row->name), query, 0);
	row->containers = th_query_int(query, 1);
	row->running = th_query_int(query, 2);
}

int th_group_list(struct th_db *db, const char *name,
	struct th_group_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(db, &query, err,
		    name ? GROUPS("m.grp=?1") : GROUPS("?1 IS NULL"), "t",
		    name) ||
		state_rows(
			query, sizeof(**rows), read_group, &list, count, err))
		return -1;
	*rows = list;
	return 0;
}
