#include "container/copy.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "base/random.h"

#define DEPTH_MAX 400
#define PIECE (8u << 20)

struct walk {
	struct th_copy *copy;
	const struct th_place *to;
	/* The new folder itself, where it lies in what is copied. */
	dev_t dev;
	ino_t ino;
	bool has_top;
	char path[512]; /* for messages; may be cut */
	struct th_error *err;
};

static int fail(struct walk *walk, const char *what)
{
	return th_fail_sys(
		walk->err, TH_FAILED, errno, "cannot %s %s", what, walk->path);
}

void copy_temporary(char name[48])
{
	char id[TH_ID_LENGTH + 1];

	th_id_new(id);
	snprintf(name, 48, ".%s.part", id);
}

int copy_owner(const struct th_copy *copy, const struct th_place *to, int dir,
	const char *name, uid_t uid, gid_t gid, bool keep_by_default,
	struct th_error *err)
{
	bool keep = copy->owner == TH_OWNER_KEEP ||
		(copy->owner == TH_OWNER_AUTO && keep_by_default);

	if (copy->owner == TH_OWNER_GIVEN) {
		uid = copy->uid;
		gid = copy->gid;
	} else if (!keep && to->root >= 0) {
		uid = to->uid;
		gid = to->gid;
	} else if (!keep) {
		return 0; /* the caller's, who makes it */
	}
	if (fchownat(dir, name, uid, gid, AT_SYMLINK_NOFOLLOW) == 0)
		return 0;
	return th_fail_sys(err, TH_FAILED, errno,
		"cannot give %s to the user %u", name, uid);
}

static int copy_data(int from, int to)
{
	char data[65536];
	ssize_t got;

	/* The kernel copies, or shares the blocks, where it can. */
	while ((got = copy_file_range(from, NULL, to, NULL, PIECE, 0)) > 0)
		;
	if (got == 0 && lseek(from, 0, SEEK_CUR) > 0)
		return 0;
	while ((got = read(from, data, sizeof(data))) > 0) {
		if (th_write_all(to, data, (size_t)got))
			return -1;
	}
	return got < 0 ? -1 : 0;
}

static int finish(
	struct walk *walk, const struct stat *st, int dir, const char *name)
{
	const struct timespec times[2] = {st->st_atim, st->st_mtim};

	if (copy_owner(walk->copy, walk->to, dir, name, st->st_uid, st->st_gid,
		    false, walk->err))
		return -1;
	if (!S_ISLNK(st->st_mode) &&
		fchmodat(dir, name, st->st_mode & 07777, 0))
		return fail(walk, "set the mode of");
	utimensat(dir, name, times, AT_SYMLINK_NOFOLLOW);
	return 0;
}

/* What is there already gives way, unless it is a folder. */
static int put_in_place(
	struct walk *walk, int dir, const char *temporary, const char *name)
{
	if (renameat(dir, temporary, dir, name) == 0) {
		walk->copy->files++;
		return 0;
	}
	if (errno == EISDIR || errno == EEXIST || errno == ENOTEMPTY) {
		th_fail(walk->err, TH_IN_USE,
			"there is a folder already where %s should go",
			walk->path);
	} else {
		fail(walk, "write");
	}
	unlinkat(dir, temporary, 0);
	return -1;
}

static int copy_file(struct walk *walk, int from, const struct stat *st,
	int dir, const char *name)
{
	char temporary[48], path[TH_FD_PATH];
	int in, out, rc = -1;

	copy_temporary(temporary);
	in = open(th_fd_path(from, "", path), O_RDONLY | O_CLOEXEC);
	if (in < 0)
		return fail(walk, "read");
	out = openat(dir, temporary,
		O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600);
	if (out < 0 || copy_data(in, out))
		fail(walk, "copy");
	else
		rc = finish(walk, st, dir, temporary);
	th_close(&in);
	if (out >= 0 && close(out) && rc == 0)
		rc = fail(walk, "write");
	if (rc == 0) {
		walk->copy->bytes += (uint64_t)st->st_size;
		return put_in_place(walk, dir, temporary, name);
	}
	if (out >= 0)
		unlinkat(dir, temporary, 0);
	return -1;
}

static int copy_link(struct walk *walk, int from, const struct stat *st,
	int dir, const char *name)
{
	char target[4097], temporary[48];
	ssize_t len = readlinkat(from, "", target, sizeof(target) - 1);

	if (len < 0)
		return fail(walk, "read");
	target[len] = '\0';
	copy_temporary(temporary);
	if (symlinkat(target, dir, temporary))
		return fail(walk, "write");
	if (finish(walk, st, dir, temporary)) {
		unlinkat(dir, temporary, 0);
		return -1;
	}
	return put_in_place(walk, dir, temporary, name);
}

static int copy_one(
	struct walk *walk, int from, int dir, const char *name, int depth);

static int copy_entries(struct walk *walk, int from, int to, int depth)
{
	char path[TH_FD_PATH];
	int fd = open(
		th_fd_path(from, "", path), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *list = fd < 0 ? NULL : fdopendir(fd);
	size_t len = strlen(walk->path);
	struct dirent *entry;
	int rc = 0;

	if (!list) {
		th_close(&fd);
		return fail(walk, "read");
	}
	while (rc == 0 && (entry = readdir(list))) {
		int one;

		if (strcmp(entry->d_name, ".") == 0 ||
			strcmp(entry->d_name, "..") == 0)
			continue;
		snprintf(walk->path + len, sizeof(walk->path) - len, "/%s",
			entry->d_name);
		one = openat(dirfd(list), entry->d_name,
			O_PATH | O_NOFOLLOW | O_CLOEXEC);
		if (one >= 0)
			rc = copy_one(walk, one, to, entry->d_name, depth + 1);
		else if (errno != ENOENT) /* it may have gone meanwhile */
			rc = fail(walk, "read");
		th_close(&one);
		walk->path[len] = '\0';
	}
	closedir(list);
	return rc;
}

static int copy_folder(struct walk *walk, int from, const struct stat *st,
	int dir, const char *name, int depth)
{
	struct stat made;
	bool is_new;
	int to, rc;

	if (depth > DEPTH_MAX)
		return th_fail(walk->err, TH_NOT_POSSIBLE,
			"the folders below %s are too deep", walk->path);
	is_new = mkdirat(dir, name, 0700) == 0;
	if (!is_new && errno != EEXIST)
		return fail(walk, "make the folder");
	to = openat(dir, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	if (to < 0) {
		if (errno == ENOTDIR || errno == ELOOP)
			return th_fail(walk->err, TH_IN_USE,
				"there is a file or link already where the "
				"folder %s should go",
				walk->path);
		return fail(walk, "open the folder");
	}
	if (!walk->has_top && fstat(to, &made) == 0) {
		walk->dev = made.st_dev;
		walk->ino = made.st_ino;
		walk->has_top = true;
	}
	rc = copy_entries(walk, from, to, depth);
	th_close(&to);
	if (rc == 0 && is_new) {
		walk->copy->files++;
		rc = finish(walk, st, dir, name);
	}
	return rc;
}

static int copy_one(
	struct walk *walk, int from, int dir, const char *name, int depth)
{
	struct stat st;

	if (fstat(from, &st))
		return fail(walk, "look at");
	switch (st.st_mode & S_IFMT) {
	case S_IFREG:
		return copy_file(walk, from, &st, dir, name);
	case S_IFLNK:
		return copy_link(walk, from, &st, dir, name);
	case S_IFDIR:
		/* A folder copied into itself has an end. */
		if (walk->has_top && st.st_dev == walk->dev &&
			st.st_ino == walk->ino)
			return 0;
		return copy_folder(walk, from, &st, dir, name, depth);
	default:
		walk->copy->skipped++;
		return 0;
	}
}

/* The folder that the new thing goes into, and its name there. */
static int find_target(const struct th_place *from, const struct th_place *to,
	char name[256], struct th_error *err)
{
	size_t len = strlen(to->path);
	const char *last;
	char *above;
	int fd = th_place_at(to, to->path);
	struct stat st;

	if (fd >= 0 && fstat(fd, &st) == 0 && S_ISDIR(st.st_mode)) {
		char *plain = th_path_absolute("/", from->path);

		snprintf(name, 256, "%.255s", plain ? th_path_last(plain) : "");
		free(plain);
		if (!*name)
			snprintf(name, 256, "root");
		return fd;
	}
	th_close(&fd);
	if (to->path[len - 1] == '/') {
		th_fail(err, TH_USAGE, "there is no folder %.300s", to->path);
		th_hint(err, "make it first, or leave out the last slash");
		return -1;
	}
	while (len > 1 && to->path[len - 1] == '/')
		len--;
	above = strndup(to->path, len);
	if (!above)
		return th_fail_memory(err);
	last = th_path_last(above);
	snprintf(name, 256, "%.255s", last);
	above[last - above] = '\0';
	fd = th_place_at(to, *above ? above : ".");
	if (fd < 0) {
		th_fail_sys(err, errno == ENOENT ? TH_NOT_FOUND : TH_FAILED,
			errno, "the target's folder %.300s", above);
		th_hint(err,
			"make it first: what is copied gets a new name, "
			"not new folders above it");
	}
	free(above);
	return fd;
}

int th_copy(const struct th_place *from, const struct th_place *to,
	struct th_copy *copy, struct th_error *err)
{
	struct walk walk = {.copy = copy, .to = to, .err = err};
	int source = th_place_at(from, from->path), target, rc;
	char name[256];

	if (source < 0)
		return th_fail_sys(err,
			errno == ENOENT || errno == ENOTDIR ? TH_NOT_FOUND
							    : TH_FAILED,
			errno, "%s%s%.300s",
			from->container ? from->container : "",
			from->container ? ":" : "", from->path);
	target = find_target(from, to, name, err);
	if (target < 0) {
		th_close(&source);
		return -1;
	}
	snprintf(walk.path, sizeof(walk.path), "%.400s", from->path);
	rc = copy_one(&walk, source, target, name, 0);
	th_close(&source);
	th_close(&target);
	return rc;
}

int th_copy_entries(
	int from, int to, struct th_copy *copy, struct th_error *err)
{
	struct th_place place = {.root = -1, .lock = -1};
	struct walk walk = {.copy = copy, .to = &place, .err = err};

	snprintf(walk.path, sizeof(walk.path), ".");
	return copy_entries(&walk, from, to, 0);
}
