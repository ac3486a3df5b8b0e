#include "store/agree.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "store/container_state.h"
#include "store/state_parts.h"
#include "store/volume_state.h"

struct looking {
	struct th_store *store;
	bool mend;
	th_agree_fn *found;
	void *owner;
};

static void tell(const struct looking *looking, enum th_disagreement kind,
	const char *id, bool mended)
{
	const struct th_disagreement_found found = {kind, id, mended};

	if (looking->found)
		looking->found(looking->owner, &found);
}

static bool is_missing(const struct th_store *store, const char *path)
{
	return faccessat(store->root_fd, path, F_OK, AT_SYMLINK_NOFOLLOW) &&
		errno == ENOENT;
}

/* Calls look for each name in the folder; those that came to be meanwhile may
 * be left out. */
static int each_name(const struct looking *looking, const char *folder,
	int (*look)(const struct looking *looking, const char *name,
		struct th_error *err),
	struct th_error *err)
{
	int fd = openat(looking->store->root_fd, folder,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = 0;

	if (!dir) {
		th_close(&fd);
		return errno == ENOENT ? 0
				       : th_fail_sys(err, TH_FAILED, errno,
						 "cannot read %s/%s",
						 looking->store->root, folder);
	}
	while (rc == 0 && (entry = readdir(dir))) {
		if (entry->d_name[0] != '.')
			rc = look(looking, entry->d_name, err);
	}
	closedir(dir);
	return rc;
}

/* ---- containers ---- */

/* Its removal had begun: the folder went, and the commit was lost. */
static int look_at_row(
	const struct looking *looking, const char *id, struct th_error *err)
{
	struct th_store *store = looking->store;
	char path[96];

	snprintf(path, sizeof(path), "containers/%.60s", id);
	if (!is_missing(store, path))
		return 0;
	if (looking->mend) {
		if (th_state_remove(store->db, id, "tidyhull", err))
			return -1;
		th_volume_drop_own(store, id);
	}
	tell(looking, TH_ROW_WITHOUT_FOLDER, id, looking->mend);
	return 0;
}

static int look_at_folder(
	const struct looking *looking, const char *id, struct th_error *err)
{
	struct th_store *store = looking->store;
	struct th_container_row row;
	char path[96];
	int rc = th_state_get(store->db, id, &row, err);

	if (rc)
		return rc < 0 ? -1 : 0;
	/* It may be just about to be added, or to go: who does that has marked
	 * it. */
	snprintf(path, sizeof(path), "tmp/%.60s.unsettled", id);
	if (!is_missing(store, path))
		return 0;
	tell(looking, TH_FOLDER_WITHOUT_ROW, id, false);
	return 0;
}

/* ---- volumes ---- */

static int look_at_volume(
	const struct looking *looking, const char *name, struct th_error *err)
{
	struct th_store *store = looking->store;
	struct th_strings users = {0};
	char path[TH_NAME_MAX + 32];
	int rc = 0;

	snprintf(path, sizeof(path), "volumes/%.63s/data", name);
	if (!is_missing(store, path))
		return 0;
	if (looking->mend) {
		rc = th_volume_users(store, name, &users, err);
		if (rc == 0)
			rc = users.count ? th_volume_mend(store, name, err)
					 : th_db_run(store->db, err,
						   "DELETE FROM volumes WHERE"
						   " name=?",
						   "t", name);
		th_strings_release(&users);
	}
	if (rc == 0)
		tell(looking, TH_VOLUME_WITHOUT_FOLDER, name, looking->mend);
	return rc;
}

/* Files that nobody asked to have removed: it is known again. */
static int look_at_volume_folder(
	const struct looking *looking, const char *name, struct th_error *err)
{
	struct th_store *store = looking->store;
	char path[TH_NAME_MAX + 64];
	struct stat st;
	int rc = th_volume_known(store, name, err);

	if (rc)
		return rc < 0 ? -1 : 0;
	snprintf(path, sizeof(path), "volumes/%.63s/data", name);
	/* An empty place is none. */
	if (fstatat(store->root_fd, path, &st, AT_SYMLINK_NOFOLLOW) ||
		!S_ISDIR(st.st_mode))
		return 0;
	if (looking->mend &&
		th_db_run(store->db, err,
			"INSERT OR IGNORE INTO volumes(name, own, created_us)"
			" VALUES(?, '', ?)",
			"ti", name, (int64_t)st.st_ctime * 1000000))
		return -1;
	tell(looking, TH_VOLUME_WITHOUT_ROW, name, looking->mend);
	return 0;
}

static int each_row(const struct looking *looking, const char *sql,
	int (*look)(const struct looking *looking, const char *name,
		struct th_error *err),
	struct th_error *err)
{
	struct th_strings names = {0};
	int rc = state_names(looking->store->db, &names, err, sql, NULL);

	for (size_t i = 0; rc == 0 && i < names.count; i++)
		rc = look(looking, names.items[i], err);
	th_strings_release(&names);
	return rc;
}

int th_store_agree(struct th_store *store, bool mend, th_agree_fn *found,
	void *owner, struct th_error *err)
{
	const struct looking looking = {store, mend, found, owner};

	/* Volumes first: containers have them. */
	return each_row(&looking, "SELECT name FROM volumes WHERE ?1 IS NULL",
		       look_at_volume, err) ||
			each_name(&looking, "volumes", look_at_volume_folder,
				err) ||
			each_row(&looking,
				"SELECT id FROM containers WHERE ?1 IS NULL",
				look_at_row, err) ||
			each_name(&looking, "containers", look_at_folder, err)
		? -1
		: 0;
}
