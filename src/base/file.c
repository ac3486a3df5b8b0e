#include "base/file.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define READ_STEP 16384
#define TREE_DEPTH_MAX 4096

void th_close(int *fd)
{
	if (*fd >= 0)
		close(*fd);
	*fd = -1;
}

int th_file_overwrite(int dirfd, const char *name, const void *data, size_t len,
	const char *what, struct th_error *err)
{
	int fd = openat(dirfd, name, O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
	int rc = 0;

	if (fd < 0 || pwrite(fd, data, len, 0) != (ssize_t)len ||
		ftruncate(fd, (off_t)len))
		rc = th_fail_sys(
			err, TH_FAILED, errno, "cannot write %s", what);
	th_close(&fd);
	return rc;
}

const char *th_fd_path(int fd, const char *name, char text[TH_FD_PATH])
{
	snprintf(text, TH_FD_PATH, "/proc/self/fd/%d%s%s", fd, *name ? "/" : "",
		name);
	return text;
}

int th_fd_read(
	int fd, const char *path, struct th_buf *buf, struct th_error *err)
{
	int rc = -1;

	for (;;) {
		size_t left = buf->limit - buf->len;
		char byte, *room;
		ssize_t got;

		if (left == 0) {
			got = read(fd, &byte, 1);
			if (got > 0) {
				th_fail(err, TH_FAILED,
					"%s is longer than the %zu bytes that "
					"are accepted",
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
		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0) {
			th_fail_sys(
				err, TH_FAILED, errno, "cannot read %s", path);
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

int th_file_read(
	int dirfd, const char *path, struct th_buf *buf, struct th_error *err)
{
	int fd = openat(dirfd, path, O_RDONLY | O_CLOEXEC | O_NOCTTY), rc;

	if (fd < 0) {
		if (errno == ENOENT || errno == ENOTDIR)
			return 0;
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot read %s", path);
	}
	rc = th_fd_read(fd, path, buf, err);
	th_close(&fd);
	return rc;
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

int th_file_replace(int dirfd, const char *path, const void *data, size_t len,
	mode_t mode, bool sync, struct th_error *err)
{
	char *beside = th_format("%s.%d.new", path, (int)getpid());
	int fd = -1;

	if (!beside)
		return th_fail_memory(err);
	fd = openat(
		dirfd, beside, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, mode);
	if (fd < 0)
		goto fail;
	if (th_write_all(fd, data, len) || (sync && fdatasync(fd)))
		goto fail_remove;
	th_close(&fd);
	if (renameat(dirfd, beside, dirfd, path))
		goto fail_remove;
	free(beside);
	return 0;
fail_remove:
	th_fail_sys(err, TH_FAILED, errno, "cannot write %s", path);
	unlinkat(dirfd, beside, 0);
fail:
	th_fail_sys(err, TH_FAILED, errno, "cannot write %s", path);
	th_close(&fd);
	free(beside);
	return -1;
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
				"cannot make the folder %s", copy);
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

static int remove_below(int dirfd, const char *name, dev_t dev, int depth)
{
	struct dirent *entry;
	struct stat st;
	DIR *dir = NULL;
	int fd, rc = 0;

	fd = openat(
		dirfd, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	if (fd < 0)
		return -1;
	if (fstat(fd, &st) || st.st_dev != dev || depth > TREE_DEPTH_MAX) {
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
			remove_below(fd, entry->d_name, dev, depth + 1) ||
			unlinkat(fd, entry->d_name, AT_REMOVEDIR))
			rc = -1;
	}
	closedir(dir);
	return rc;
}

int th_tree_remove(int dirfd, const char *name, struct th_error *err)
{
	struct stat st;

	if (fstatat(dirfd, name, &st, AT_SYMLINK_NOFOLLOW))
		return errno == ENOENT ? 0
				       : th_fail_sys(err, TH_FAILED, errno,
						 "cannot look at %s", name);
	if (!S_ISDIR(st.st_mode)) {
		if (unlinkat(dirfd, name, 0) && errno != ENOENT)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot remove %s", name);
		return 0;
	}
	if (remove_below(dirfd, name, st.st_dev, 0) ||
		unlinkat(dirfd, name, AT_REMOVEDIR)) {
		if (errno == ENOENT)
			return 0;
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot remove %s", name);
	}
	return 0;
}

uint64_t th_tree_size(int dirfd, const char *name)
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
		if (S_ISDIR(st.st_mode))
			total += th_tree_size(fd, entry->d_name);
	}
	closedir(dir);
	return total;
}
