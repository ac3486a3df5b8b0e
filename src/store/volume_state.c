#include "store/volume_state.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/random.h"
#include "store/state_parts.h"

/* Room for a path of a volume below the store's root. */
#define STAGE_PATH (TH_NAME_MAX + 96)

char *th_volume_path(const struct th_store *store, const char *name)
{
	return th_format("%s/volumes/%s/data", store->root, name);
}

/* Where a volume lies while it is made or removed, and after its removal. Its
 * name is there for as long as whoever does it has not come to the end: where
 * he dies, the next one knows which volumes to look at. */
static void stage_path(char path[STAGE_PATH], const char *stage,
	const char *name, const char *part)
{
	snprintf(path, STAGE_PATH, "tmp/%.60s" TH_VOLUME_STAGE "%s%.63s%s%s",
		stage, *name ? "/" : "", name, *part ? "/" : "", part);
}

static void place_path(char path[STAGE_PATH], const char *name, bool data)
{
	snprintf(
		path, STAGE_PATH, "volumes/%.63s%s", name, data ? "/data" : "");
}

char *th_volume_staged_path(
	const struct th_store *store, const char *stage, const char *name)
{
	char path[STAGE_PATH];

	stage_path(path, stage, name, "data");
	return th_format("%s/%s", store->root, path);
}

static int make_folder(struct th_store *store, const char *path, mode_t mode,
	struct th_error *err)
{
	if (mkdirat(store->root_fd, path, mode) == 0 || errno == EEXIST)
		return 0;
	return th_fail_sys(err, TH_FAILED, errno, "cannot create %s/%s",
		store->root, path);
}

/* The folder that holds a volume's, at its place. */
static int make_place(
	struct th_store *store, const char *name, struct th_error *err)
{
	char path[STAGE_PATH];

	place_path(path, name, false);
	return make_folder(store, "volumes", 0755, err) ||
			make_folder(store, path, 0755, err)
		? -1
		: 0;
}

/* Its name in the stage, without a folder of its own. */
static int note_stage(struct th_store *store, const char *stage,
	const char *name, struct th_error *err)
{
	char path[STAGE_PATH];

	stage_path(path, stage, "", "");
	if (make_folder(store, path, 0755, err))
		return -1;
	stage_path(path, stage, name, "");
	return make_folder(store, path, 0755, err);
}

int th_volume_stage(struct th_store *store, const char *stage, const char *name,
	struct th_error *err)
{
	char path[STAGE_PATH];

	if (note_stage(store, stage, name, err))
		return -1;
	stage_path(path, stage, name, "data");
	return make_folder(store, path, 0755, err);
}

int th_volume_place(struct th_store *store, const char *stage, const char *name,
	const char *own, struct th_error *err)
{
	char from[STAGE_PATH], to[STAGE_PATH];

	if (th_db_run(store->db, err,
		    "INSERT OR IGNORE INTO volumes(name, own, created_us)"
		    " VALUES(?, ?, ?)",
		    "tti", name, own, th_clock_now_us()))
		return -1;
	if (th_db_changed(store->db) == 0)
		return 0;
	if (make_place(store, name, err))
		return -1;
	stage_path(from, stage, name, "data");
	place_path(to, name, true);
	if (renameat(store->root_fd, from, store->root_fd, to) == 0)
		return 1;
	if (errno != ENOTEMPTY && errno != EEXIST)
		return th_fail_sys(err, TH_FAILED, errno, "cannot create %s/%s",
			store->root, to);
	th_fail(err, TH_FAILED,
		"%s/%s has files in it, but no volume of that name is known",
		store->root, to);
	return th_hint(err, "move that folder away, and try again");
}

int th_volume_known(
	struct th_store *store, const char *name, struct th_error *err)
{
	int64_t known = 0;

	if (th_db_number(store->db, 0, &known, err,
		    "SELECT 1 FROM volumes WHERE name=?", "t", name))
		return -1;
	return known != 0;
}

int th_volume_mend(
	struct th_store *store, const char *name, struct th_error *err)
{
	char path[STAGE_PATH];

	place_path(path, name, true);
	return make_place(store, name, err) ||
			make_folder(store, path, 0755, err)
		? -1
		: 0;
}

/* In a transaction, so that no row is being added or removed just now. False
 * where the stage is still needed. */
static bool settle_one(
	struct th_store *store, const char *stage, const char *name)
{
	char staged[STAGE_PATH], place[STAGE_PATH];
	struct th_error ignored = {0}; /* the next one does */
	int known = th_volume_known(store, name, &ignored);

	if (known == 1) {
		/* Of a removal that was taken back; a folder with files in it
		 * is not replaced. */
		stage_path(staged, stage, name, "data");
		place_path(place, name, true);
		return faccessat(store->root_fd, place, F_OK, 0) == 0 ||
			(make_place(store, name, &ignored) == 0 &&
				renameat(store->root_fd, staged, store->root_fd,
					place) == 0);
	}
	stage_path(staged, stage, name, "was");
	place_path(place, name, false);
	return known == 0 &&
		(renameat(store->root_fd, place, store->root_fd, staged) == 0 ||
			errno == ENOENT);
}

void th_volume_settle(struct th_store *store, const char *stage)
{
	struct th_error ignored = {0}; /* the next one does */
	struct dirent *entry;
	char path[STAGE_PATH];
	bool settled;
	DIR *dir;
	int fd;

	stage_path(path, stage, "", "");
	fd = openat(store->root_fd, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	dir = fd < 0 ? NULL : fdopendir(fd);
	if (!dir) {
		th_close(&fd);
		return;
	}
	settled = th_db_begin(store->db, &ignored) == 0;
	if (settled) {
		while ((entry = readdir(dir))) {
			if (strcmp(entry->d_name, ".") != 0 &&
				strcmp(entry->d_name, "..") != 0)
				settled &=
					settle_one(store, stage, entry->d_name);
		}
		th_db_end(store->db, 0, &ignored);
	}
	closedir(dir);
	if (settled)
		th_tree_remove(store->root_fd, path, &ignored);
}

static int make_staged(struct th_store *store, const char *stage,
	const char *name, struct th_error *err)
{
	int rc, made = 0;

	if (th_volume_stage(store, stage, name, err) ||
		th_db_begin(store->db, err))
		return -1;
	made = th_volume_place(store, stage, name, "", err);
	rc = th_db_end(store->db, made < 0 ? -1 : 0, err);
	return rc ? -1 : made;
}

int th_volume_make(
	struct th_store *store, const char *name, struct th_error *err)
{
	char stage[TH_ID_LENGTH + 1];
	int made;

	if (th_store_hold(store, err))
		return -1;
	th_id_new(stage);
	made = make_staged(store, stage, name, err);
	th_volume_settle(store, stage);
	th_store_let_go(store);
	return made;
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

int th_volume_of(struct th_store *store, const char *container,
	const char *target, char name[TH_NAME_MAX], struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	if (th_db_query(store->db, &query, err,
		    "SELECT v.name FROM volume_uses u JOIN volumes v"
		    " ON v.name=u.volume WHERE u.container=?1 AND u.target=?2"
		    " AND v.own=?1",
		    "tt", container, target))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1)
		state_copy(name, TH_NAME_MAX, query, 0);
	th_query_end(query);
	return rc;
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

/* Out of its place in the same transaction: one of the same name that comes
 * right afterwards has nothing of it. */
static int take_away(struct th_store *store, const char *stage,
	const char *name, struct th_error *err)
{
	char from[STAGE_PATH], to[STAGE_PATH];
	int rc;

	/* On the disk before the files go. */
	if (th_db_begin_durable(store->db, true, err))
		return -1;
	rc = remove_row(store, name, err);
	place_path(from, name, true);
	stage_path(to, stage, name, "data");
	if (rc == 0 && renameat(store->root_fd, from, store->root_fd, to) &&
		errno != ENOENT)
		rc = th_fail_sys(err, TH_FAILED, errno, "cannot remove %s/%s",
			store->root, from);
	return th_db_end(store->db, rc, err);
}

/* With the store held, or locked as a whole. */
static int remove_held(
	struct th_store *store, const char *name, struct th_error *err)
{
	char stage[TH_ID_LENGTH + 1];
	int rc;

	th_id_new(stage);
	rc = note_stage(store, stage, name, err);
	if (rc == 0)
		rc = take_away(store, stage, name, err);
	th_volume_settle(store, stage);
	return rc;
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
	struct th_error ignored = {0}; /* swept later */

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
