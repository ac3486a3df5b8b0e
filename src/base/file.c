#include "base/file.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <linux/fs.h>
#include <sys/file.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"

#define READ_STEP 16384
/* The number of fchmodat2 on every architecture; older headers lack it. */
#define FCHMODAT2 452

void th_close(int *fd)
{
	if (*fd >= 0)
		close(*fd);
	*fd = -1;
}

bool th_file_is_stream(const char *path)
{
	struct stat st;

	return stat(path, &st) == 0 &&
		(S_ISFIFO(st.st_mode) || S_ISCHR(st.st_mode));
}

bool th_is_same_file(const struct stat *one, const struct stat *other)
{
	return one->st_dev == other->st_dev && one->st_ino == other->st_ino;
}

int th_file_overwrite(int dirfd, const char *name, const void *data, size_t len,
	const char *what, struct th_error *err)
{
	/* A lease that somebody holds on the file makes an open wait until the
	 * holder gives it up, or for 45 s (fcntl(2), "Leases"): then this
	 * fails instead. */
	int fd = openat(
		dirfd, name, O_WRONLY | O_CREAT | O_CLOEXEC | O_NONBLOCK, 0644);
	int rc = 0;

	if (fd < 0 || pwrite(fd, data, len, 0) != (ssize_t)len ||
		ftruncate(fd, (off_t)len))
		rc = th_fail_write(err, errno, "cannot write %s", what);
	th_close(&fd);
	return rc;
}

const char *th_fd_path(int fd, const char *name, char text[TH_FD_PATH])
{
	snprintf(text, TH_FD_PATH, "/proc/self/fd/%d%s%s", fd, *name ? "/" : "",
		name);
	return text;
}

#define LOOK_MS 100

bool th_fd_wait(int fd, struct th_cancel cancel)
{
	const struct timespec span = {.tv_nsec = LOOK_MS * 1000000};
	struct pollfd one = {.fd = fd, .events = POLLIN};
	int rc;

	do {
		if (th_cancelled(cancel))
			return false;
		/* Whatever is wrong with it, reading tells. */
		rc = ppoll(&one, 1, &span, NULL);
	} while (rc == 0 || (rc < 0 && errno == EINTR));
	return true;
}

static int fail_interrupted(const char *path, struct th_error *err)
{
	return th_fail(err, TH_FAILED, "reading %s was interrupted", path);
}

/* signals: one that is caught ends it. */
static int read_all(int fd, const char *path, struct th_buf *buf,
	struct th_cancel cancel, bool signals, struct th_error *err)
{
	bool waits = cancel.flags[0] || cancel.flags[1];
	int rc = -1;

	for (;;) {
		size_t left = buf->limit - buf->len;
		char byte, *room;
		ssize_t got;

		if (waits && !th_fd_wait(fd, cancel)) {
			fail_interrupted(path, err);
			goto out;
		}
		if (left == 0) {
			got = read(fd, &byte, 1);
			if (got > 0) {
				th_fail(err, TH_FAILED,
					"%s is larger than the maximum of %zu "
					"bytes",
					path, buf->limit);
				goto out;
			}
		} else {
			size_t step = left < READ_STEP ? left : READ_STEP;

			room = th_buf_room(buf, step);
			if (!room) {
				th_fail_memory(err);
				goto out;
			}
			got = read(fd, room, step);
		}
		if (got < 0 && errno == EINTR && !signals)
			continue;
		if (got < 0) {
			if (errno == EINTR)
				fail_interrupted(path, err);
			else
				th_fail_sys(err, TH_FAILED, errno,
					"cannot read %s", path);
			goto out;
		}
		if (got == 0)
			break;
		buf->len += (size_t)got;
		buf->data[buf->len] = '\0';
	}
	rc = 1;
out:
	return rc;
}

int th_fd_read_cancellable(int fd, const char *path, struct th_buf *buf,
	struct th_cancel cancel, struct th_error *err)
{
	return read_all(fd, path, buf, cancel, false, err);
}

int th_fd_read(
	int fd, const char *path, struct th_buf *buf, struct th_error *err)
{
	const struct th_cancel never = {0};

	return read_all(fd, path, buf, never, false, err);
}

/* What openat(2) has said of a file that is to be read: 0 where there is none.
 */
static int not_opened(const char *path, struct th_error *err)
{
	if (errno == EINTR)
		return fail_interrupted(path, err);
	return errno == ENOENT || errno == ENOTDIR
		? 0
		: th_fail_sys(err, TH_FAILED, errno, "cannot read %s", path);
}

/* It may be a pipe that says nothing: whoever waits for it may give up by a
 * signal. */
static int read_waiting(
	int fd, const char *path, struct th_buf *buf, struct th_error *err)
{
	const struct th_cancel never = {0};

	return read_all(fd, path, buf, never, true, err);
}

int th_file_read(
	int dirfd, const char *path, struct th_buf *buf, struct th_error *err)
{
	int fd = openat(dirfd, path, O_RDONLY | O_CLOEXEC | O_NOCTTY), rc;

	if (fd < 0)
		return not_opened(path, err);
	rc = read_waiting(fd, path, buf, err);
	th_close(&fd);
	return rc;
}

int th_named_read(const char *path, struct th_buf *buf, struct th_error *err)
{
	/* Not by a path: it may be another user's to open. */
	return strcmp(path, "-") == 0
		? read_waiting(0, "standard input", buf, err)
		: th_file_read(AT_FDCWD, path, buf, err);
}

int th_file_read_regular(
	int dirfd, const char *path, struct th_buf *buf, struct th_error *err)
{
	int fd = openat(
		dirfd, path, O_RDONLY | O_CLOEXEC | O_NOCTTY | O_NONBLOCK);
	int rc;

	if (fd < 0)
		return not_opened(path, err);
	rc = th_fd_read_regular(fd, path, buf, err);
	if (rc == 0)
		rc = th_fail(err, TH_FAILED, "%s is not a regular file", path);
	th_close(&fd);
	return rc;
}

int th_fd_read_regular(
	int fd, const char *name, struct th_buf *buf, struct th_error *err)
{
	struct stat st;

	if (fstat(fd, &st) || !S_ISREG(st.st_mode))
		return 0;
	return th_fd_read(fd, name, buf, err);
}

int th_write_all(int fd, const void *data, size_t len)
{
	const char *at = data;

	while (len > 0) {
		ssize_t done = write(fd, at, len);

		if (done < 0 && errno == EINTR)
			continue;
		if (done < 0)
			return -1;
		at += done;
		len -= (size_t)done;
	}
	return 0;
}

int th_lock_file(
	int dirfd, const char *name, int patience_ms, struct th_error *err)
{
	const struct timespec step = {.tv_nsec = 2000000};
	int64_t until_ms = th_clock_mono_ms() + patience_ms;
	int fd = openat(dirfd, name, O_RDWR | O_CREAT | O_CLOEXEC, 0600);
	int sys = errno;

	while (fd >= 0 && flock(fd, LOCK_EX | LOCK_NB)) {
		sys = errno == EWOULDBLOCK ? EBUSY : errno;
		if (sys != EINTR &&
			(sys != EBUSY || th_clock_mono_ms() >= until_ms))
			th_close(&fd);
		else
			nanosleep(&step, NULL);
	}
	if (fd >= 0)
		return fd;
	if (sys != EBUSY)
		return th_fail_sys(err, TH_FAILED, sys, "cannot lock %s", name);
	if (err && err->code == TH_OK)
		err->sys = EBUSY;
	th_fail(err, TH_FAILED, "another tidyhull program keeps %s locked",
		name);
	return th_hint(err, "it may have been stopped by a signal");
}

int th_file_replace(int dirfd, const char *path, const void *data, size_t len,
	mode_t mode, bool sync, struct th_error *err)
{
	/* Threads may replace the same file as well. */
	char *beside = th_format("%s.%d.new", path, (int)gettid());
	int fd = -1;

	if (!beside)
		return th_fail_memory(err);
	fd = openat(
		dirfd, beside, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, mode);
	if (fd < 0)
		goto fail;
	/* The data must be on the disk before the name leads to it; the rename
	 * itself may be lost in a power cut, and then the old file is there. */
	if (th_write_all(fd, data, len) || (sync && fdatasync(fd)))
		goto fail_remove;
	th_close(&fd);
	if (renameat(dirfd, beside, dirfd, path))
		goto fail_remove;
	free(beside);
	return 0;
fail_remove:
	th_fail_write(err, errno, "cannot write %s", path);
	unlinkat(dirfd, beside, 0);
fail:
	th_fail_write(err, errno, "cannot write %s", path);
	th_close(&fd);
	free(beside);
	return -1;
}

bool th_file_next_data(int fd, off_t at, off_t size, off_t *data, off_t *hole)
{
	if (at >= size)
		return false;
	*data = lseek(fd, at, SEEK_DATA);
	if (*data < 0 && errno == ENXIO)
		return false; /* a hole up to the end */
	if (*data < 0)
		*data = at;
	*hole = lseek(fd, *data, SEEK_HOLE);
	if (*hole <= *data || *hole > size)
		*hole = size;
	return true;
}

int th_dir_make(const char *path, mode_t mode, struct th_error *err)
{
	char *copy = strdup(path);
	struct stat st;
	int rc = -1;

	if (!copy)
		return th_fail_memory(err);
	for (char *at = copy + 1; *copy; at++) {
		char held = *at;

		if (held != '/' && held != '\0')
			continue;
		*at = '\0';
		if (mkdir(copy, mode) && errno != EEXIST) {
			th_fail_sys(err, TH_FAILED, errno,
				"cannot create the folder %s", copy);
			goto out;
		}
		*at = held;
		if (!held)
			break;
	}
	if (stat(path, &st) || !S_ISDIR(st.st_mode)) {
		th_fail(err, TH_FAILED, "%s is not a folder", path);
		goto out;
	}
	rc = 0;
out:
	free(copy);
	return rc;
}

int th_fd_chmod(int fd, mode_t mode)
{
	char path[TH_FD_PATH];

	if (fchmod(fd, mode) == 0)
		return 0;
	if (errno != EBADF)
		return -1;
	/* An O_PATH descriptor: the call for it is younger than the oldest
	 * kernel that is supported. The other way leads through a link of
	 * /proc, which stands for the very file that is open. */
	if (syscall(FCHMODAT2, fd, "", mode, AT_EMPTY_PATH) == 0)
		return 0;
	if (errno != ENOSYS && errno != EPERM)
		return -1;
	return chmod(th_fd_path(fd, "", path), mode);
}

int th_dir_open_private(const char *path, struct th_error *err)
{
	int fd = open(path, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	struct stat st;

	if (fd < 0 && errno != ELOOP && errno != ENOTDIR)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot open %s", path);
	/* What is looked at is what is open: the name may change. */
	if (fd >= 0 && fstat(fd, &st) == 0 && st.st_uid == geteuid() &&
		!(st.st_mode & 077))
		return fd;
	if (fd >= 0 && st.st_uid == geteuid()) {
		th_fail(err, TH_NOT_POSSIBLE,
			"others have access to %s, from where containers are "
			"controlled",
			path);
		th_hint(err, "chmod 700 %s", path);
	} else {
		th_fail(err, TH_NOT_POSSIBLE,
			"%s does not belong to this user, or is a link", path);
		th_hint(err, "remove it");
	}
	th_close(&fd);
	return -1;
}

bool th_peer_is_own(int socket)
{
	struct ucred peer;
	socklen_t len = sizeof(peer);

	return getsockopt(socket, SOL_SOCKET, SO_PEERCRED, &peer, &len) == 0 &&
		peer.uid == geteuid();
}

/* ---- removing trees ---- */

/* A removal goes this far down before it moves what is deeper up to its top and
 * goes on there: neither stack nor descriptors grow with the depth, which a
 * container chooses. */
#define REMOVE_DEPTH 100

struct removal {
	int top; /* the folder that is emptied */
	dev_t dev;
	unsigned long moved; /* folders that were moved up */
};

/* Renames a folder into the top one, under a name that nothing has there. */
static int move_up(struct removal *removal, int dirfd, const char *name)
{
	char to[48];
	int rc;

	do {
		snprintf(to, sizeof(to), ".moved-up-%lu", removal->moved++);
		rc = (int)syscall(SYS_renameat2, dirfd, name, removal->top, to,
			RENAME_NOREPLACE);
	} while (rc && errno == EEXIST);
	return rc;
}

static int empty_folder(struct removal *removal, int fd, int depth);

static int remove_folder(
	struct removal *removal, int dirfd, const char *name, int depth)
{
	int fd, rc;

	if (unlinkat(dirfd, name, AT_REMOVEDIR) == 0)
		return 0;
	if (errno != ENOTEMPTY && errno != EEXIST)
		return -1;
	if (depth >= REMOVE_DEPTH)
		return move_up(removal, dirfd, name);
	fd = openat(
		dirfd, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	rc = fd < 0 ? -1 : empty_folder(removal, fd, depth + 1);
	return unlinkat(dirfd, name, AT_REMOVEDIR) ? -1 : rc;
}

/* Takes the descriptor over. */
static int empty_folder(struct removal *removal, int fd, int depth)
{
	struct dirent *entry;
	struct stat st;
	DIR *dir;
	int rc = 0;

	/* Another device: something is mounted here, which is not ours to
	 * empty. */
	if (fstat(fd, &st) || st.st_dev != removal->dev) {
		close(fd);
		errno = EXDEV;
		return -1;
	}
	dir = fdopendir(fd);
	if (!dir) {
		close(fd);
		return -1;
	}
	while ((entry = readdir(dir))) {
		if (strcmp(entry->d_name, ".") == 0 ||
			strcmp(entry->d_name, "..") == 0)
			continue;
		if (entry->d_type != DT_DIR &&
			unlinkat(fd, entry->d_name, 0) == 0)
			continue;
		if ((entry->d_type != DT_DIR && errno != EISDIR) ||
			remove_folder(removal, fd, entry->d_name, depth))
			rc = -1;
	}
	closedir(dir);
	return rc;
}

static int remove_tree(int dirfd, const char *name, dev_t dev)
{
	struct removal removal = {.dev = dev};
	unsigned long before;
	int rc;

	removal.top = openat(
		dirfd, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	if (removal.top < 0)
		return -1;
	/* Again while anything was moved up: each round takes as many levels
	 * off as one can go down. */
	do {
		int fd = openat(
			removal.top, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);

		before = removal.moved;
		rc = fd < 0 ? -1 : empty_folder(&removal, fd, 0);
	} while (removal.moved != before);
	th_close(&removal.top);
	return unlinkat(dirfd, name, AT_REMOVEDIR) ? -1 : rc;
}

int th_tree_remove(int dirfd, const char *name, struct th_error *err)
{
	struct stat st;

	if (fstatat(dirfd, name, &st, AT_SYMLINK_NOFOLLOW))
		return errno == ENOENT
			? 0
			: th_fail_sys(err, TH_FAILED, errno,
				  "cannot read the attributes of %s", name);
	if (!S_ISDIR(st.st_mode)) {
		if (unlinkat(dirfd, name, 0) && errno != ENOENT)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot remove %s", name);
		return 0;
	}
	if (remove_tree(dirfd, name, st.st_dev)) {
		if (errno == ENOENT)
			return 0;
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot remove %s", name);
	}
	return 0;
}

/* A figure for people: what lies deeper is left out of it. */
#define SIZE_DEPTH 200

static uint64_t size_below(int dirfd, const char *name, int depth)
{
	struct dirent *entry;
	uint64_t total = 0;
	struct stat st;
	DIR *dir;
	int fd;

	fd = openat(
		dirfd, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	dir = fd < 0 ? NULL : fdopendir(fd);
	if (!dir) {
		th_close(&fd);
		return 0;
	}
	while ((entry = readdir(dir))) {
		if (strcmp(entry->d_name, ".") == 0 ||
			strcmp(entry->d_name, "..") == 0)
			continue;
		if (fstatat(fd, entry->d_name, &st, AT_SYMLINK_NOFOLLOW))
			continue;
		total += (uint64_t)st.st_blocks * 512;
		if (S_ISDIR(st.st_mode) && depth < SIZE_DEPTH)
			total += size_below(fd, entry->d_name, depth + 1);
	}
	closedir(dir);
	return total;
}

uint64_t th_tree_size(int dirfd, const char *name)
{
	return size_below(dirfd, name, 0);
}

bool th_dir_is_empty(int folder)
{
	int fd = openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	bool empty = true;

	while (dir && empty && (entry = readdir(dir)))
		empty = strcmp(entry->d_name, ".") == 0 ||
			strcmp(entry->d_name, "..") == 0;
	if (dir)
		closedir(dir);
	else
		th_close(&fd);
	return empty;
}
