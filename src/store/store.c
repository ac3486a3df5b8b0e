#include "store/store.h"
#include "store/volume_state.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "store/container_state.h"
#include "store/tag.h"

#define MARK ".unsettled"

/* Trees of many files side by side: ext4 spreads the folders below a top
 * folder, and does not search what was just removed. Other file systems do not
 * know the mark. */
static void mark_top(const struct th_store *store, const char *name)
{
	int fd = openat(
		store->root_fd, name, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	int flags = 0;

	if (fd >= 0 && ioctl(fd, FS_IOC_GETFLAGS, &flags) == 0) {
		flags |= FS_TOPDIR_FL;
		ioctl(fd, FS_IOC_SETFLAGS, &flags);
	}
	th_close(&fd);
}

int th_store_write_layout(int root, struct th_error *err)
{
	static const char layout[] = "{\"imageLayoutVersion\":\"1.0.0\"}\n";

	return th_file_replace(root, "images/oci-layout", layout,
		sizeof(layout) - 1, 0644, true, err);
}

static int make_folders(struct th_store *store, struct th_error *err)
{
	static const char *const names[] = {"images", "images/blobs",
		"images/blobs/sha256", "images/blobs/sha512", "trees",
		"containers", "filters", "partial", "tmp"};
	static const char index[] = "{\"schemaVersion\":2,\"mediaType\":"
				    "\"application/vnd.oci.image.index.v1+json"
				    "\",\"manifests\":[]}\n";
	bool made = false;
	char first[64];

	/* Each: whoever has removed one finds it again. */
	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++) {
		if (faccessat(store->root_fd, names[i], F_OK, 0) == 0)
			continue;
		made = true;
		if (mkdirat(store->root_fd, names[i], 0700) &&
			errno != EEXIST && errno != EROFS)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot create %s/%s", store->root, names[i]);
	}
	if (made) {
		mark_top(store, "trees");
		mark_top(store, "tmp");
	}
	if (faccessat(store->root_fd, "images/index.json", F_OK, 0) == 0)
		return 0;
	if (th_store_write_layout(store->root_fd, err))
		return -1;
	/* The index comes last: its being there says that all is. Another
	 * command may have been quicker, and have an image in it by now. */
	snprintf(first, sizeof(first), "images/first.%d", (int)gettid());
	if (th_file_replace(store->root_fd, first, index, sizeof(index) - 1,
		    0644, true, err))
		return -1;
	if (syscall(SYS_renameat2, store->root_fd, first, store->root_fd,
		    "images/index.json", RENAME_NOREPLACE) &&
		unlinkat(store->root_fd, first, 0))
		return th_fail_write(err, errno,
			"cannot write the index of %s/images", store->root);
	return 0;
}

static void read_boot_id(struct th_store *store)
{
	struct th_buf buf;
	struct th_error ignored = {0}; /* then not known */

	th_buf_init(&buf, 64);
	if (th_file_read(AT_FDCWD, "/proc/sys/kernel/random/boot_id", &buf,
		    &ignored) == 1)
		snprintf(store->boot_id, sizeof(store->boot_id), "%.36s",
			buf.data);
	th_buf_release(&buf);
}

/* Of a keeper that had no time for it. */
static void remove_socket(struct th_store *store, const char *id)
{
	char path[96];

	snprintf(path, sizeof(path), "%.60s.sock", id);
	unlinkat(store->run_fd, path, 0);
}

/* A folder of a container that the state does not know goes. */
static void settle_container(struct th_store *store, int tmp, const char *mark)
{
	char id[64], path[128];
	struct th_error ignored = {0}; /* its mark stays */
	int64_t known = 1;

	snprintf(id, sizeof(id), "%.*s", (int)(strlen(mark) - strlen(MARK)),
		mark);
	if (th_db_number(store->db, 0, &known, &ignored,
		    "SELECT 1 FROM containers WHERE id=?", "t", id))
		return;
	snprintf(path, sizeof(path), "containers/%s", id);
	/* Its files went first, as the disk was full. */
	if (known && faccessat(store->root_fd, path, F_OK, 0) &&
		errno == ENOENT) {
		if (th_state_remove(store->db, id, "tidyhull", &ignored))
			return;
		known = 0;
	}
	if (!known && th_tree_remove(store->root_fd, path, &ignored))
		return;
	if (!known) {
		th_volume_drop_own(store, id);
		remove_socket(store, id);
		snprintf(path, sizeof(path), "%.60s.lock", id);
		unlinkat(store->run_fd, path, 0);
	}
	unlinkat(tmp, mark, 0);
}

static bool ends_with(const char *name, const char *end)
{
	size_t len = strlen(name);

	return len > strlen(end) && strcmp(name + len - strlen(end), end) == 0;
}

static void settle_volumes(struct th_store *store, const char *name)
{
	char stage[64];

	snprintf(stage, sizeof(stage), "%.*s",
		(int)(strlen(name) - strlen(TH_VOLUME_STAGE)), name);
	th_volume_settle(store, stage);
}

/* What lies in tmp/ while nobody holds the lock belongs to the dead. */
static void recover(struct th_store *store)
{
	struct th_error ignored = {0}; /* the next one does */
	struct dirent *entry;
	DIR *dir = NULL;
	int fd, lock = -1;
	bool any = false;

	fd = openat(store->root_fd, "tmp", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	dir = fd < 0 ? NULL : fdopendir(fd);
	if (!dir) {
		th_close(&fd);
		return;
	}
	while (!any && (entry = readdir(dir)))
		any = entry->d_name[0] != '.';
	if (!any)
		goto out;
	/* Alone and without waiting: while anybody works below tmp/ (a shared
	 * lock), what lies there may be theirs. The kernel drops the lock of a
	 * process that is killed. */
	lock = openat(
		store->root_fd, "lock", O_RDWR | O_CREAT | O_CLOEXEC, 0600);
	if (lock < 0 || flock(lock, LOCK_EX | LOCK_NB))
		goto out;
	rewinddir(dir);
	while ((entry = readdir(dir))) {
		const char *name = entry->d_name;

		if (*name == '.')
			continue;
		if (ends_with(name, MARK))
			settle_container(store, fd, name);
		else if (ends_with(name, TH_VOLUME_STAGE))
			settle_volumes(store, name);
		else
			th_tree_remove(fd, name, &ignored);
		th_error_clear(&ignored);
	}
out:
	th_close(&lock);
	closedir(dir);
}

int th_store_open(const char *root, const char *run, bool small,
	struct th_store **store, struct th_error *err)
{
	struct th_store *made = calloc(1, sizeof(*made));
	char *path = NULL;

	if (!made)
		return th_fail_memory(err);
	made->root_fd = made->run_fd = -1;
	made->patience_ms = TH_STORE_PATIENCE_MS;
	made->lock_fd = made->images_fd = -1;
	made->root = strdup(root);
	made->run = strdup(run);
	path = th_format("%s/state.db", root);
	if (!made->root || !made->run || !path) {
		th_fail_memory(err);
		goto fail;
	}
	if (th_dir_make(root, 0700, err) || th_dir_make(run, 0700, err))
		goto fail;
	made->root_fd = open(root, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (made->root_fd < 0) {
		th_fail_sys(err, TH_FAILED, errno, "cannot open %s", root);
		goto fail;
	}
	/* It may lie in a folder of everybody, where another user can have made
	 * it first, to be handed command lines and descriptors. */
	made->run_fd = th_dir_open_private(run, err);
	if (made->run_fd < 0)
		goto fail;
	if (make_folders(made, err) ||
		th_db_open(path, small, &made->db, err) ||
		th_tag_read(made, err))
		goto fail;
	read_boot_id(made);
	if (!small && !th_db_is_detached(made->db)) {
		if (th_tag_keep(made, err))
			goto fail;
		recover(made);
	} else if (!small) {
		th_tag_borrow(made);
	}
	free(path);
	*store = made;
	return 0;
fail:
	free(path);
	th_store_close(made);
	return -1;
}

void th_store_close(struct th_store *store)
{
	if (!store)
		return;
	th_db_close(store->db);
	th_lender_close(store->lender);
	th_close(&store->lock_fd);
	th_close(&store->images_fd);
	th_close(&store->root_fd);
	th_close(&store->run_fd);
	free(store->root);
	free(store->run);
	free(store);
}

int th_store_hold(struct th_store *store, struct th_error *err)
{
	if (th_db_check_writable(store->db, err))
		return -1;
	if (store->lock_depth++ > 0)
		return 0;
	store->lock_fd = openat(
		store->root_fd, "lock", O_RDWR | O_CREAT | O_CLOEXEC, 0600);
	if (store->lock_fd < 0 || flock(store->lock_fd, LOCK_SH)) {
		th_fail_sys(err, TH_FAILED, errno, "cannot lock %s/lock",
			store->root);
		th_store_let_go(store);
		return -1;
	}
	return 0;
}

void th_store_let_go(struct th_store *store)
{
	if (--store->lock_depth == 0)
		th_close(&store->lock_fd);
}

static int lock_images(struct th_store *store, int how, struct th_error *err)
{
	store->images_fd = openat(store->root_fd, "images.lock",
		O_RDWR | O_CREAT | O_CLOEXEC, 0600);
	if (store->images_fd >= 0 && flock(store->images_fd, how) == 0)
		return 1;
	if (store->images_fd >= 0 && errno == EWOULDBLOCK) {
		th_close(&store->images_fd);
		return 0;
	}
	th_fail_sys(err, TH_FAILED, errno, "cannot lock %s/images.lock",
		store->root);
	th_close(&store->images_fd);
	return -1;
}

int th_store_use_images(struct th_store *store, struct th_error *err)
{
	if (store->images_depth++ > 0)
		return 0;
	if (lock_images(store, LOCK_SH, err) == 1)
		return 0;
	store->images_depth--;
	return -1;
}

int th_store_own_images(struct th_store *store, struct th_error *err)
{
	int rc;

	/* Whoever uses images here is no less a user than others. */
	if (store->images_depth > 0)
		return 0;
	rc = lock_images(store, LOCK_EX | LOCK_NB, err);
	if (rc == 1)
		store->images_depth++;
	return rc;
}

void th_store_unuse_images(struct th_store *store)
{
	if (--store->images_depth == 0)
		th_close(&store->images_fd);
}

int th_store_unsettled(
	struct th_store *store, const char *id, struct th_error *err)
{
	char path[96];
	int fd;

	snprintf(path, sizeof(path), "tmp/%.60s" MARK, id);
	fd = openat(store->root_fd, path, O_WRONLY | O_CREAT | O_CLOEXEC, 0600);
	if (fd < 0)
		return th_fail_write(
			err, errno, "cannot write %s/%s", store->root, path);
	close(fd);
	return 0;
}

void th_store_settled(struct th_store *store, const char *id)
{
	char path[96];

	snprintf(path, sizeof(path), "tmp/%.60s" MARK, id);
	unlinkat(store->root_fd, path, 0);
}

static int sync_file(int folder, const char *name)
{
	int fd = openat(
		folder, name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
	int rc = fd < 0 ? -1 : fsync(fd);

	th_close(&fd);
	return rc;
}

int th_store_sync_container(const struct th_store *store, const char *id,
	int folder, struct th_error *err)
{
	int fd = openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = dir ? 0 : -1;

	while (rc == 0 && (entry = readdir(dir))) {
		if (entry->d_type == DT_REG)
			rc = sync_file(folder, entry->d_name);
	}
	if (rc == 0)
		rc = fsync(folder) || sync_file(store->root_fd, "containers");
	if (rc)
		th_fail_write(err, errno,
			"cannot write %s/containers/%.60s to the disk",
			store->root, id);
	if (dir)
		closedir(dir);
	else
		th_close(&fd);
	return rc ? -1 : 0;
}

int th_store_remove_container(
	struct th_store *store, const char *id, struct th_error *err)
{
	char from[96], to[96];

	th_volume_drop_own(store, id);
	remove_socket(store, id);
	snprintf(from, sizeof(from), "containers/%.60s", id);
	snprintf(to, sizeof(to), "tmp/%.60s.gone", id);
	/* A rename is one step: from then on the container's folder is gone for
	 * everybody, however long the removal takes. */
	if (renameat(store->root_fd, from, store->root_fd, to)) {
		if (errno == ENOENT)
			return 0;
		return th_fail_sys(err, TH_FAILED, errno, "cannot remove %s/%s",
			store->root, from);
	}
	return th_tree_remove(store->root_fd, to, err);
}

void th_group_path(const struct th_store *store, const char *id, char *path)
{
	snprintf(path, 64, "/tidyhull-%.6s/%.32s", store->tag, id);
}

void th_group_path_of(const struct th_store *store, const char *id,
	const char *noted, char *path, size_t size)
{
	const size_t tag = strlen("/tidyhull-");
	char own[64];

	th_group_path(store, id, own);
	if (store->borrows_tag || !*noted ||
		(strlen(noted) == strlen(own) &&
			strncmp(noted, own, tag) == 0 &&
			strcmp(noted + tag + 6, own + tag + 6) == 0))
		noted = own;
	snprintf(path, size, "%s", noted);
}

#define BUILD_LOCKS "builds"
#define BUILD_LOCK 48

static void build_lock_path(const char *build, char path[BUILD_LOCK])
{
	snprintf(path, BUILD_LOCK, BUILD_LOCKS "/%.24s", build);
}

int th_build_lock(struct th_store *store, const char *build, int *lock,
	struct th_error *err)
{
	char path[BUILD_LOCK];
	struct stat own, named;
	int fd;

	build_lock_path(build, path);
	if (mkdirat(store->root_fd, BUILD_LOCKS, 0700) && errno != EEXIST)
		return th_fail_write(
			err, errno, "cannot write to %s", store->root);
	for (;;) {
		fd = openat(store->root_fd, path, O_RDWR | O_CREAT | O_CLOEXEC,
			0600);
		if (fd < 0)
			return th_fail_write(
				err, errno, "cannot write to %s", store->root);
		if (flock(fd, LOCK_EX | LOCK_NB)) {
			close(fd);
			return 0;
		}
		/* Before it was locked, somebody may have taken it for that of
		 * a dead one. */
		if (fstat(fd, &own) == 0 &&
			fstatat(store->root_fd, path, &named, 0) == 0 &&
			th_is_same_file(&own, &named)) {
			*lock = fd;
			return 1;
		}
		close(fd);
	}
}

void th_build_unlock(struct th_store *store, const char *build, int *lock)
{
	char path[BUILD_LOCK];

	if (*lock < 0)
		return;
	build_lock_path(build, path);
	unlinkat(store->root_fd, path, 0);
	th_close(lock);
}

bool th_build_is_alive(const struct th_store *store, const char *build)
{
	char path[BUILD_LOCK];
	bool alive;
	int fd;

	build_lock_path(build, path);
	fd = openat(store->root_fd, path, O_RDWR | O_CLOEXEC);
	if (fd < 0)
		return errno != ENOENT;
	alive = flock(fd, LOCK_EX | LOCK_NB) != 0;
	/* While it is held: a new one sees that it has lost its name. */
	if (!alive)
		unlinkat(store->root_fd, path, 0);
	close(fd);
	return alive;
}

void th_build_tidy(struct th_store *store)
{
	int fd = openat(store->root_fd, BUILD_LOCKS,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *list = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;

	if (!list) {
		th_close(&fd);
		return;
	}
	while ((entry = readdir(list))) {
		if (entry->d_name[0] != '.')
			th_build_is_alive(store, entry->d_name);
	}
	closedir(list);
}
