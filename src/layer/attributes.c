#include "layer/attributes.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/file.h"

#define LIST_MAX 65536
#define VALUE_MAX 65536

bool th_layer_wants_attribute(const char *name)
{
	return (strncmp(name, "user.", 5) == 0 &&
		       strncmp(name, "user.overlay.", 13) != 0) ||
		strcmp(name, "security.capability") == 0;
}

bool th_layer_is_unmapped(int sys)
{
	return sys == EINVAL;
}

static int copy_one(
	const char *from, const char *to, const char *name, char *value)
{
	ssize_t len = getxattr(from, name, value, VALUE_MAX);

	if (len < 0)
		return errno == ENODATA ? 0 : -1;
	return setxattr(to, name, value, (size_t)len, 0);
}

static int copy_extended(int from, int to)
{
	char source[TH_FD_PATH], target[TH_FD_PATH];
	char *list = malloc(LIST_MAX + VALUE_MAX);
	ssize_t len;
	int rc = 0;

	if (!list)
		return -1;
	th_fd_path(from, "", source);
	th_fd_path(to, "", target);
	len = listxattr(source, list, LIST_MAX);
	if (len < 0 && errno != ENOTSUP)
		rc = -1;
	for (char *at = list; rc == 0 && at < list + len;
		at += strlen(at) + 1) {
		if (th_layer_wants_attribute(at))
			rc = copy_one(source, target, at, list + LIST_MAX);
	}
	free(list);
	return rc;
}

int th_layer_copy_attributes(int from, const struct stat *st, int to)
{
	const struct timespec times[2] = {st->st_mtim, st->st_mtim};

	if (fchownat(to, "", st->st_uid, st->st_gid, AT_EMPTY_PATH))
		return -1;
	if (!S_ISLNK(st->st_mode) &&
		(th_fd_chmod(to, st->st_mode & 07777) ||
			copy_extended(from, to)))
		return -1;
	return utimensat(to, "", times, AT_EMPTY_PATH);
}

/* ---- contents ---- */

static int copy_range(int in, int out, off_t at, off_t end, char *buffer)
{
	while (at < end) {
		size_t want =
			end - at < VALUE_MAX ? (size_t)(end - at) : VALUE_MAX;
		ssize_t got = pread(in, buffer, want, at);

		if (got < 0 && errno == EINTR)
			continue;
		if (got <= 0 || pwrite(out, buffer, (size_t)got, at) != got)
			return -1;
		at += got;
	}
	return 0;
}

static int copy_data(int in, int out, off_t size)
{
	char *buffer = malloc(VALUE_MAX);
	off_t at = 0, data, hole;
	int rc = buffer ? ftruncate(out, size) : -1;

	for (; rc == 0 && th_file_next_data(in, at, size, &data, &hole);
		at = hole)
		rc = copy_range(in, out, data, hole, buffer);
	free(buffer);
	return rc;
}

static int copy_regular(
	int from, const struct stat *st, int folder, const char *name)
{
	char path[TH_FD_PATH];
	int in = open(th_fd_path(from, "", path), O_RDONLY | O_CLOEXEC);
	int out = openat(folder, name,
		O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600);
	int rc = in < 0 || out < 0 ? -1 : copy_data(in, out, st->st_size);

	if (rc == 0)
		rc = th_layer_copy_attributes(from, st, out);
	th_close(&in);
	th_close(&out);
	return rc;
}

int th_layer_copy_file(
	int from, const struct stat *st, int folder, const char *name)
{
	char target[4096];
	ssize_t len;
	int fd, rc;

	if (S_ISREG(st->st_mode))
		return copy_regular(from, st, folder, name);
	if (S_ISLNK(st->st_mode)) {
		len = readlinkat(from, "", target, sizeof(target) - 1);
		if (len < 0)
			return -1;
		target[len] = '\0';
		rc = symlinkat(target, folder, name);
	} else {
		rc = mknodat(folder, name, st->st_mode & (S_IFMT | 0600),
			st->st_rdev);
	}
	if (rc)
		return -1;
	fd = openat(folder, name, O_PATH | O_NOFOLLOW | O_CLOEXEC);
	rc = fd < 0 ? -1 : th_layer_copy_attributes(from, st, fd);
	th_close(&fd);
	return rc;
}
