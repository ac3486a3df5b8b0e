#include "store/volume_state.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "store/state_parts.h"

char *th_volume_path(const struct th_store *store, const char *name)
{
	return th_format("%s/volumes/%s/data", store->root, name);
}

/* An empty folder is not worth more care: whoever is killed half-way leaves
 * one that the next one finds. */
static int make_folder(
	struct th_store *store, const char *name, struct th_error *err)
{
	char path[TH_NAME_MAX + 32];

	snprintf(path, sizeof(path), "volumes/%s", name);
	if ((mkdirat(store->root_fd, "volumes", 0755) && errno != EEXIST) ||
		(mkdirat(store->root_fd, path, 0755) && errno != EEXIST))
		goto fail;
	snprintf(path, sizeof(path), "volumes/%s/data", name);
	if (mkdirat(store->root_fd, path, 0755) == 0 || errno == EEXIST)
		return 0;
fail:
	return th_fail_sys(err, TH_FAILED, errno, "cannot create %s/%s",
		store->root, path);
}

int th_volume_make(struct th_store *store, const char *name, const char *own,
	struct th_error *err)
{
	/* The folder before the row: a row without a folder would be mounted.
	 */
	if (make_folder(store, name, err) ||
		th_db_run(store->db, err,
			"INSERT OR IGNORE INTO volumes(name, own, created_us)"
			" VALUES(?, ?, ?)",
			"tti", name, own, th_clock_now_us()))
		return -1;
	return th_db_changed(store->db) > 0;
}

static void read_volume(struct th_query *query, void *item)
{
	struct th_volume_row *row = item;

	state_copy(row->name, sizeof(row->name), query, 0);
	state_copy(row->own, sizeof(row->own), query, 1);
	row->created_us = th_query_int(query, 2);
	row->used_us = th_query_int(query, 3);
	row->users = th_query_int(query, 4);
}

int th_volume_list(struct th_store *store, const char *text,
	struct th_volume_row **rows, size_t *count, struct th_error *err)
{
	struct th_query *query = NULL;
	void *list = NULL;

	if (th_db_query(store->db, &query, err,
		    "SELECT name, own, created_us, max(used_us, coalesce("
		    "(SELECT max(CASE WHEN c.state IN ('running', 'paused')"
		    " THEN ?2 ELSE max(c.started_us, c.ended_us) END)"
		    " FROM volume_uses u JOIN containers c ON c.id=u.container"
		    " WHERE u.volume=v.name), 0)),"
		    " (SELECT count(DISTINCT container) FROM volume_uses u"
		    " WHERE u.volume=v.name) FROM volumes v"
		    " WHERE ?1 IS NULL OR name=?1"
		    " OR (own<>'' AND substr(name, 1, length(?1))=?1)"
		    " ORDER BY created_us",
		    "ti", text, th_clock_now_us()))
		return -1;
	if (state_rows(query, sizeof(**rows), read_volume, &list, count, err))
		return -1;
	*rows = list;
	return 0;
}

int th_volume_use(struct th_store *store, const char *name,
	const char *container, const char *target, struct th_error *err)
{
	/* One statement looks and inserts: the volume cannot be removed between
	 * the two. */
	if (th_db_run(store->db, err,
		    "INSERT INTO volume_uses(container, target, volume)"
		    " SELECT ?1, ?2, ?3 WHERE EXISTS"
		    "(SELECT 1 FROM volumes WHERE name=?3)",
		    "ttt", container, target, name))
		return -1;
	if (th_db_changed(store->db) > 0)
		return 0;
	return th_fail(err, TH_NOT_FOUND,
		"the volume \"%s\" has been removed meanwhile", name);
}

int th_volume_users(struct th_store *store, const char *name,
	struct th_strings *names, struct th_error *err)
{
	return state_names(store->db, names, err,
		"SELECT DISTINCT c.name FROM volume_uses u"
		" JOIN containers c ON c.id=u.container WHERE u.volume=?"
		" ORDER BY c.created_us",
		name);
}

/* Moved away first: what the state still knows then is an empty volume, and
 * never one with another one's files. */
static int remove_folder(
	struct th_store *store, const char *name, struct th_error *err)
{
	char from[TH_NAME_MAX + 32], to[64], id[TH_ID_LENGTH + 1];

	th_id_new(id);
	snprintf(from, sizeof(from), "volumes/%s", name);
	snprintf(to, sizeof(to), "tmp/%s.gone", id);
	if (renameat(store->root_fd, from, store->root_fd, to))
		return errno == ENOENT
			? 0
			: th_fail_sys(err, TH_FAILED, errno,
				  "cannot remove %s/%s", store->root, from);
	return th_tree_remove(store->root_fd, to, err);
}

static int remove_row(
	struct th_store *store, const char *name, struct th_error *err)
{
	int64_t users = 0;

	if (th_db_number(store->db, 0, &users, err,
		    "SELECT count(*) FROM volume_uses WHERE volume=?", "t",
		    name))
		return -1;
	if (users)
		return th_fail(
			err, TH_IN_USE, "the volume \"%s\" is in use", name);
	return th_db_run(
		store->db, err, "DELETE FROM volumes WHERE name=?", "t", name);
}

/* With the store held, or locked as a whole. */
static int remove_held(
	struct th_store *store, const char *name, struct th_error *err)
{
	int rc = th_db_begin(store->db, err);

	if (rc)
		return -1;
	rc = remove_row(store, name, err);
	if (rc == 0)
		rc = remove_folder(store, name, err);
	return th_db_end(store->db, rc, err);
}

int th_volume_remove(
	struct th_store *store, const char *name, struct th_error *err)
{
	int rc;

	if (th_store_hold(store, err))
		return -1;
	rc = remove_held(store, name, err);
	th_store_let_go(store);
	return rc;
}

void th_volume_drop_own(struct th_store *store, const char *container)
{
	struct th_query *query = NULL;
	struct th_strings names = {0};
	struct th_error ignored = {0};

	if (th_db_query(store->db, &query, &ignored,
		    "SELECT name FROM volumes WHERE own=?", "t", container))
		return;
	while (th_query_next(query, &ignored) == 1)
		th_strings_add(&names, th_query_text(query, 0));
	th_query_end(query);
	for (size_t i = 0; i < names.count; i++) {
		th_error_clear(&ignored);
		remove_held(store, names.items[i], &ignored);
	}
	th_strings_release(&names);
}
