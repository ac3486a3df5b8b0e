#include "store/network_state.h"

#include <stdio.h>
#include <unistd.h>
#include <string.h>

#include "base/clock.h"
#include "store/state_parts.h"

int th_network_make(struct th_store *store, const struct th_network_row *row,
	struct th_error *err)
{
	if (th_db_run(store->db, err,
		    "INSERT OR IGNORE INTO networks(name, number, subnet4,"
		    " subnet6, given4, given6, internal, loopback, by_hand,"
		    " created_us)"
		    " SELECT ?, coalesce(max(number), -1) + 1,"
		    " ?, ?, ?, ?, ?, ?, ?, ? FROM networks",
		    "tttiiiiii", row->name, row->subnet4, row->subnet6,
		    (int64_t)row->given4, (int64_t)row->given6,
		    (int64_t)row->internal, (int64_t)row->loopback,
		    (int64_t)row->by_hand, th_clock_now_us()))
		return -1;
	return th_db_changed(store->db) > 0;
}

static void read_network(struct th_query *query, void *item)
{
	struct th_network_row *row = item;

	state_copy(row->name, sizeof(row->name), query, 0);
	row->number = th_query_int(query, 1);
	state_copy(row->subnet4, sizeof(row->subnet4), query, 2);
	state_copy(row->subnet6, sizeof(row->subnet6), query, 3);
	row->given4 = th_query_int(query, 4) != 0;
	row->given6 = th_query_int(query, 5) != 0;
	row->internal = th_query_int(query, 6) != 0;
	row->by_hand = th_query_int(query, 7) != 0;
	row->created_us = th_query_int(query, 8);
	row->users = th_query_int(query, 9);
	row->running = th_query_int(query, 10);
	row->loopback = th_query_int(query, 11) != 0;
}

/* One condition or the other: an index is used for no "or" of both. */
#define NETWORKS(condition)                                                    \
	"SELECT name, number, subnet4, subnet6, given4, given6, internal,"     \
	" by_hand, created_us,"                                                \
	" (SELECT count(DISTINCT container) FROM network_uses u"               \
	" WHERE u.network=n.name),"                                            \
	" (SELECT count(*) FROM addresses a WHERE a.network=n.name),"          \
	" loopback FROM networks n WHERE " condition                           \
	" ORDER BY created_us, number"

int th_network_list(struct th_store *store, const char *name,
	struct th_network_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(store->db, &query, err,
		    name ? NETWORKS("name=?1") : NETWORKS("?1 IS NULL"), "t",
		    name))
		return -1;
	if (state_rows(query, sizeof(**rows), read_network, &list, count, err))
		return -1;
	*rows = list;
	return 0;
}

int th_network_users(struct th_store *store, const char *name,
	struct th_strings *names, struct th_error *err)
{
	return state_names(store->db, names, err,
		"SELECT DISTINCT c.name FROM network_uses u"
		" JOIN containers c ON c.id=u.container WHERE u.network=?"
		" ORDER BY c.created_us",
		name);
}

static int forget(
	struct th_store *store, const char *name, struct th_error *err)
{
	int64_t users = 0;

	if (th_db_number(store->db, 0, &users, err,
		    "SELECT (SELECT count(*) FROM network_uses WHERE "
		    "network=?1)"
		    " + (SELECT count(*) FROM addresses WHERE network=?1)",
		    "t", name))
		return -1;
	if (users)
		return th_fail(
			err, TH_IN_USE, "the network \"%s\" is in use", name);
	return th_db_run(
		store->db, err, "DELETE FROM networks WHERE name=?", "t", name);
}

int th_network_forget(
	struct th_store *store, const char *name, struct th_error *err)
{
	char note[TH_NAME_MAX + 16];

	if (th_db_begin(store->db, err) ||
		th_db_end(store->db, forget(store, name, err), err))
		return -1;
	/* network/names.c: when its hosts files were written. */
	snprintf(note, sizeof(note), "names-%.63s", name);
	unlinkat(store->run_fd, note, 0);
	return 0;
}

int th_network_set_subnets(struct th_store *store, const char *name,
	const char *subnet4, const char *subnet6, struct th_error *err)
{
	return th_db_run(store->db, err,
		"UPDATE networks SET subnet4=?, subnet6=? WHERE name=?", "ttt",
		subnet4, subnet6, name);
}

int th_network_use(struct th_store *store, const char *container,
	const struct th_network_use *uses, size_t count, struct th_error *err)
{
	for (size_t i = 0; i < count; i++) {
		if (th_db_run(store->db, err,
			    "INSERT INTO network_uses(container, position,"
			    " network, address4, address6)"
			    " SELECT ?1, ?2, ?3, ?4, ?5 WHERE EXISTS"
			    "(SELECT 1 FROM networks WHERE name=?3)",
			    "titt"
			    "t",
			    container, (int64_t)i, uses[i].network,
			    uses[i].address4, uses[i].address6))
			return -1;
		if (th_db_changed(store->db) == 0)
			return th_fail(err, TH_NOT_FOUND,
				"the network \"%s\" has been removed meanwhile",
				uses[i].network);
		/* Who counts on an address counts on the subnet. */
		if (th_db_run(store->db, err,
			    "UPDATE networks SET given4=max(given4, ?1<>''),"
			    " given6=max(given6, ?2<>'') WHERE name=?3",
			    "ttt", uses[i].address4, uses[i].address6,
			    uses[i].network))
			return -1;
	}
	return 0;
}

static int read_uses(struct th_store *store, const char *sql,
	const char *container, struct th_network_use uses[TH_NETWORKS_MAX],
	size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	*count = 0;
	if (th_db_query(store->db, &query, err, sql, "t", container))
		return -1;
	while ((rc = th_query_next(query, err)) == 1 &&
		*count < TH_NETWORKS_MAX) {
		struct th_network_use *use = &uses[(*count)++];

		state_copy(use->network, sizeof(use->network), query, 0);
		state_copy(use->address4, sizeof(use->address4), query, 1);
		state_copy(use->address6, sizeof(use->address6), query, 2);
	}
	th_query_end(query);
	return rc < 0 ? -1 : 0;
}

int th_network_uses(struct th_store *store, const char *container,
	struct th_network_use uses[TH_NETWORKS_MAX], size_t *count,
	struct th_error *err)
{
	return read_uses(store,
		"SELECT network, address4, address6 FROM network_uses"
		" WHERE container=? ORDER BY position",
		container, uses, count, err);
}

int th_network_places(struct th_store *store, const char *container,
	struct th_network_use uses[TH_NETWORKS_MAX], size_t *count,
	struct th_error *err)
{
	return read_uses(store,
		"SELECT u.network, coalesce(a.address4, ''),"
		" coalesce(a.address6, '') FROM network_uses u"
		" LEFT JOIN addresses a ON a.network=u.network"
		" AND a.container=u.container WHERE u.container=?"
		" ORDER BY u.position",
		container, uses, count, err);
}

int th_network_address_holder(struct th_store *store, const char *network,
	const char *address, const char *except, char holder[TH_NAME_MAX],
	struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	if (th_db_query(store->db, &query, err,
		    "SELECT c.name FROM containers c JOIN"
		    " (SELECT container, network, address4, address6"
		    " FROM network_uses UNION ALL"
		    " SELECT container, network, address4, address6"
		    " FROM addresses) AS u ON u.container=c.id"
		    " WHERE u.network=?1 AND (u.address4=?2 OR u.address6=?2)"
		    " AND c.id<>?3",
		    "ttt", network, address, except))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1)
		state_copy(holder, TH_NAME_MAX, query, 0);
	th_query_end(query);
	return rc;
}
