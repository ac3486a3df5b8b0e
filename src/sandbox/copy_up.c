#include "sandbox/copy_up.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"

#define DEPTH_MAX 256

static int copy_folder(int from, int to, int depth);

static int copy_file(int from, int to, const char *name, const struct stat *st)
{
	char buffer[65536];
	ssize_t len = -1;
	int in, out;

	in = openat(from, name, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
	out = openat(to, name, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
	while (in >= 0 && out >= 0 &&
		(len = read(in, buffer, sizeof(buffer))) > 0) {
		if (th_write_all(out, buffer, (size_t)len)) {
			len = -1;
			break;
		}
	}
	if (len == 0 &&
		(fchown(out, st->st_uid, st->st_gid) ||
			fchmod(out, st->st_mode & 07777)))
		len = -1;
	th_close(&in);
	th_close(&out);
	return len == 0 ? 0 : -1;
}

static int copy_link(int from, int to, const char *name, const struct stat *st)
{
	char target[4096];
	ssize_t len = readlinkat(from, name, target, sizeof(target) - 1);

	if (len < 0)
		return -1;
	target[len] = '\0';
	return symlinkat(target, to, name) ||
			fchownat(to, name, st->st_uid, st->st_gid,
				AT_SYMLINK_NOFOLLOW)
		? -1
		: 0;
}

static int copy_below(
	int from, int to, const char *name, const struct stat *st, int depth)
{
	int in, out = -1, rc = -1;

	in = openat(
		from, name, O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
	if (in >= 0 && mkdirat(to, name, 0700) == 0)
		out = openat(to, name,
			O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
	if (out >= 0 && copy_folder(in, out, depth + 1) == 0 &&
		fchown(out, st->st_uid, st->st_gid) == 0 &&
		fchmod(out, st->st_mode & 07777) == 0)
		rc = 0;
	th_close(&in);
	th_close(&out);
	return rc;
}

static int copy_one(int from, int to, const char *name, int depth)
{
	struct stat st;

	if (fstatat(from, name, &st, AT_SYMLINK_NOFOLLOW))
		return -1;
	if (S_ISREG(st.st_mode))
		return copy_file(from, to, name, &st);
	if (S_ISLNK(st.st_mode))
		return copy_link(from, to, name, &st);
	if (S_ISDIR(st.st_mode))
		return copy_below(from, to, name, &st, depth);
	/* Sockets mean nothing without who made them; devices and pipes are
	 * made by those who need them. */
	return 0;
}

static int copy_folder(int from, int to, int depth)
{
	struct dirent *entry;
	DIR *dir;
	int fd, rc = 0;

	if (depth > DEPTH_MAX) {
		errno = ELOOP;
		return -1;
	}
	fd = openat(from, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	dir = fd < 0 ? NULL : fdopendir(fd);
	if (!dir) {
		th_close(&fd);
		return -1;
	}
	while (rc == 0 && (entry = readdir(dir))) {
		if (strcmp(entry->d_name, ".") != 0 &&
			strcmp(entry->d_name, "..") != 0)
			rc = copy_one(from, to, entry->d_name, depth);
	}
	closedir(dir);
	return rc;
}

int th_copy_up(int from, int to, struct th_error *err)
{
	struct stat st;

	/* The mount is attached nowhere yet: nobody sees it half done. */
	if (fstat(from, &st) || copy_folder(from, to, 0) ||
		fchownat(to, "", st.st_uid, st.st_gid, AT_EMPTY_PATH) ||
		fchmodat(to, ".", st.st_mode & 07777, 0))
		return th_fail_write(
			err, errno, "cannot copy what the tmpfs covers");
	return 0;
}
