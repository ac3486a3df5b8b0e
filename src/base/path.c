#include "base/path.h"

#include <errno.h>
#include <linux/openat2.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"

static int open_how(
	int dirfd, const char *path, int flags, mode_t mode, uint64_t resolve)
{
	struct open_how how = {0};
	long fd;

	how.flags = (uint64_t)(unsigned int)(flags | O_CLOEXEC);
	how.mode = flags & O_CREAT ? mode : 0;
	how.resolve = resolve;
	/* EAGAIN: the kernel saw a rename race while it resolved "..". */
	for (int tries = 0; tries < 32; tries++) {
		fd = syscall(SYS_openat2, dirfd, path, &how, sizeof(how));
		if (fd >= 0 || errno != EAGAIN)
			break;
	}
	return (int)fd;
}

int th_path_open_in_root(int rootfd, const char *path, int flags, mode_t mode)
{
	return open_how(rootfd, path, flags, mode,
		RESOLVE_IN_ROOT | RESOLVE_NO_MAGICLINKS);
}

int th_path_open_beneath(int dirfd, const char *path, int flags, mode_t mode)
{
	return open_how(dirfd, path, flags, mode,
		RESOLVE_BENEATH | RESOLVE_NO_SYMLINKS);
}

int th_path_open_within(int dirfd, const char *path, int flags)
{
	return open_how(
		dirfd, path, flags, 0, RESOLVE_BENEATH | RESOLVE_NO_MAGICLINKS);
}

#define LINKS_MAX 8

static int make_in_root(int rootfd, const char *path, bool folder, int depth);

/* A link that leads to nothing: the folder is made where it leads. */
static int make_behind(
	int rootfd, int up, const char *path, const char *name, int depth)
{
	char target[4096], *whole;
	ssize_t len = readlinkat(up, name, target, sizeof(target) - 1);
	int fd;

	if (len <= 0 || depth >= LINKS_MAX) {
		errno = len <= 0 ? ENOTDIR : ENOENT;
		return -1;
	}
	target[len] = '\0';
	/* Lexical: wherever it comes out, it is inside. */
	whole = th_format("%.*s/%s", *target == '/' ? 0 : (int)(name - path),
		path, target);
	fd = whole ? make_in_root(rootfd, whole, true, depth + 1) : -1;
	free(whole);
	return fd;
}

/* Opens the folder prefix, making its last part where it is missing. */
static int make_folder(int rootfd, char *path, size_t prefix, int depth)
{
	char held = path[prefix];
	char *slash;
	int fd, up, sys;

	path[prefix] = '\0';
	fd = th_path_open_in_root(rootfd, path, O_PATH | O_DIRECTORY, 0);
	if (fd < 0 && errno == ENOENT) {
		slash = strrchr(path, '/');
		if (slash == path) {
			up = dup(rootfd);
		} else {
			*slash = '\0';
			up = th_path_open_in_root(
				rootfd, path, O_PATH | O_DIRECTORY, 0);
			*slash = '/';
		}
		if (up >= 0 && mkdirat(up, slash + 1, 0755) == 0)
			fd = th_path_open_in_root(
				rootfd, path, O_PATH | O_DIRECTORY, 0);
		else if (up >= 0 && errno == EEXIST)
			fd = make_behind(rootfd, up, path, slash + 1, depth);
		sys = errno;
		th_close(&up);
		errno = sys;
	}
	path[prefix] = held;
	return fd;
}

static int make_in_root(int rootfd, const char *path, bool folder, int depth)
{
	char *clean = th_path_absolute("/", path);
	size_t len, last = 0;
	int fd = -1, up;

	if (!clean) {
		errno = ENOMEM;
		return -1;
	}
	fd = th_path_open_in_root(rootfd, clean, O_PATH, 0);
	if (fd >= 0 || errno != ENOENT)
		goto out;
	len = strlen(clean);
	for (size_t i = 1; i <= len; i++) {
		if (clean[i] != '/' && clean[i] != '\0')
			continue;
		if (i == len && !folder)
			break;
		th_close(&fd);
		fd = make_folder(rootfd, clean, i, depth);
		if (fd < 0)
			goto out;
		last = i;
	}
	if (folder)
		goto out;
	up = fd >= 0 ? fd : dup(rootfd);
	fd = openat(up, clean + last + 1,
		O_CREAT | O_RDONLY | O_NOFOLLOW | O_CLOEXEC, 0644);
	th_close(&up);
	if (fd >= 0) {
		th_close(&fd);
		fd = th_path_open_in_root(rootfd, clean, O_PATH, 0);
	}
out:
	free(clean);
	return fd;
}

int th_path_make_in_root(int rootfd, const char *path, bool folder)
{
	return make_in_root(rootfd, path, folder, LINKS_MAX);
}

char *th_path_absolute(const char *base, const char *path)
{
	struct th_buf out;
	const char *parts[2] = {*path == '/' ? "" : base, path};

	th_buf_init(&out, 1 << 20);
	for (int p = 0; p < 2; p++) {
		const char *at = parts[p];

		while (*at) {
			size_t len = strcspn(at, "/");

			if (len == 2 && at[0] == '.' && at[1] == '.') {
				while (out.len > 0 &&
					out.data[out.len - 1] != '/')
					out.len--;
				if (out.len > 0)
					out.len--;
				if (out.cap)
					out.data[out.len] = '\0';
			} else if (len > 0 && !(len == 1 && at[0] == '.')) {
				th_buf_add(&out, "/", 1);
				th_buf_add(&out, at, len);
			}
			at += len + (at[len] == '/');
		}
	}
	if (out.len == 0)
		th_buf_adds(&out, "/");
	return th_buf_take(&out);
}

const char *th_path_last(const char *path)
{
	const char *slash = strrchr(path, '/');

	return slash ? slash + 1 : path;
}
