#include "container/copy.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "base/random.h"

#define DEPTH_MAX 400
#define PIECE (8u << 20)

struct walk {
	struct th_copy *copy;
	const struct th_place *from, *to;
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

/* 1 where the source's owner is kept, 0 where not, -1. */
static int set_owner(const struct th_copy *copy, const struct th_place *to,
	int fd, const struct copy_attributes *attributes, struct th_error *err)
{
	bool keep = copy->owner == TH_OWNER_KEEP ||
		(copy->owner == TH_OWNER_AUTO && attributes->keep_by_default);
	uid_t uid = attributes->uid;
	gid_t gid = attributes->gid;

	if (copy->owner == TH_OWNER_GIVEN) {
		uid = copy->uid;
		gid = copy->gid;
	} else if (!keep && to->root >= 0) {
		uid = to->uid;
		gid = to->gid;
	} else if (!keep) {
		return 0; /* the caller's, who makes it */
	}
	if (th_place_id_outside(to, uid) < 0 ||
		th_place_id_outside(to, gid) < 0)
		return th_fail(err, TH_NOT_POSSIBLE,
			"the container does not have the user %u or the group "
			"%u, whose %.300s is",
			uid, gid, attributes->path);
	uid = (uid_t)th_place_id_outside(to, uid);
	gid = (gid_t)th_place_id_outside(to, gid);
	if (fchownat(fd, "", uid, gid, AT_EMPTY_PATH) == 0)
		return keep;
	return th_fail_sys(err, TH_FAILED, errno,
		"cannot give %.300s to the user %u", attributes->path, uid);
}

int copy_finish(const struct th_copy *copy, const struct th_place *to, int fd,
	const struct copy_attributes *attributes, struct th_error *err)
{
	int kept = set_owner(copy, to, fd, attributes, err);
	mode_t mode = attributes->mode & 07777;

	if (kept < 0)
		return -1;
	if (!kept)
		mode &= ~(mode_t)(S_ISUID | S_ISGID);
	if (!S_ISLNK(attributes->mode) && th_fd_chmod(fd, mode))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot set the mode of %.300s", attributes->path);
	/* A time that cannot be set is no reason to give up. */
	utimensat(fd, "", attributes->times, AT_EMPTY_PATH);
	return 0;
}

/* The disk must hold what the source holds: a container can name terabytes
 * that are holes. */
static int check_room(struct walk *walk, const struct stat *st, int to)
{
	uint64_t needed = (uint64_t)st->st_blocks * 512, room;
	struct statvfs disk;

	if (fstatvfs(to, &disk))
		return 0;
	room = (uint64_t)disk.f_bavail * disk.f_frsize;
	if (needed <= room)
		return 0;
	th_fail(walk->err, TH_FAILED,
		"no room for %.300s: it takes %.1f MB, the disk has %.1f MB",
		walk->path, (double)needed / 1e6, (double)room / 1e6);
	return th_hint(walk->err, "to free space: tidyhull sweep");
}

int copy_interrupted(struct th_error *err)
{
	th_fail(err, TH_FAILED, "copying was interrupted");
	return th_hint(err,
		"files that were copied whole are there; of the others nothing "
		"is");
}

static int copy_piece(
	const struct walk *walk, int from, int to, off_t at, off_t end)
{
	struct th_cancel cancel = walk->copy->cancel;
	char data[65536];
	off_t out = at;

	/* The kernel copies, or shares the blocks, where it can. */
	while (at < end && !th_cancelled(cancel)) {
		ssize_t got = copy_file_range(from, &at, to, &out,
			end - at < PIECE ? (size_t)(end - at) : PIECE, 0);

		if (got <= 0)
			break;
		th_work_add(cancel.work, (uint64_t)got);
	}
	while (at < end && !th_cancelled(cancel)) {
		ssize_t got = pread(from, data,
			end - at < (off_t)sizeof(data) ? (size_t)(end - at)
						       : sizeof(data),
			at);

		if (got < 0 && errno == EINTR)
			continue;
		if (got <= 0)
			return (int)got; /* it was cut meanwhile */
		if (lseek(to, at, SEEK_SET) < 0 ||
			th_write_all(to, data, (size_t)got))
			return -1;
		at += got;
		th_work_add(cancel.work, (uint64_t)got);
	}
	return at < end ? copy_interrupted(walk->err) : 0;
}

/* Holes stay holes. A file that grows meanwhile is copied up to its size. */
static int copy_data(const struct walk *walk, int from, int to, off_t size)
{
	off_t at = 0, data, hole;

	for (; th_file_next_data(from, at, size, &data, &hole); at = hole) {
		if (copy_piece(walk, from, to, data, hole))
			return -1;
	}
	return ftruncate(to, size);
}

static int finish(struct walk *walk, const struct stat *st, int fd)
{
	const struct copy_attributes attributes = {
		th_place_id_inside(walk->from, st->st_uid),
		th_place_id_inside(walk->from, st->st_gid), st->st_mode,
		{st->st_atim, st->st_mtim}, false, walk->path};

	return copy_finish(walk->copy, walk->to, fd, &attributes, walk->err);
}

/* No device, socket or pipe. */
static bool can_be_copied(const struct stat *st)
{
	return S_ISREG(st->st_mode) || S_ISLNK(st->st_mode) ||
		S_ISDIR(st->st_mode);
}

/* Nobody means to turn a device or a pipe into a file. */
static bool may_give_way(int dir, const char *name)
{
	struct stat st;

	return fstatat(dir, name, &st, AT_SYMLINK_NOFOLLOW) ||
		can_be_copied(&st);
}

/* What is there already gives way, unless it is a folder, a device or a pipe.
 */
static int put_in_place(
	struct walk *walk, int dir, const char *temporary, const char *name)
{
	if (!may_give_way(dir, name)) {
		unlinkat(dir, temporary, 0);
		return th_fail(walk->err, TH_IN_USE,
			"cannot replace a device, a socket or a pipe by %s",
			walk->path);
	}
	/* A rename replaces in one step: a program that reads the file sees the
	 * old or the new one, never a half. */
	if (renameat(dir, temporary, dir, name) == 0) {
		walk->copy->files++;
		return 0;
	}
	if (errno == EISDIR || errno == EEXIST || errno == ENOTEMPTY) {
		th_fail(walk->err, TH_IN_USE,
			"cannot replace the folder %s by a file", walk->path);
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
	if (out >= 0 && check_room(walk, st, out))
		rc = -1;
	else if (out < 0 || copy_data(walk, in, out, st->st_size))
		rc = walk->err->code ? -1 : fail(walk, "copy");
	else
		rc = finish(walk, st, out);
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

int copy_make_link(const char *target, int dir, const char *name)
{
	struct stat st;
	int fd;

	if (symlinkat(target, dir, name))
		return -1;
	/* Whatever has the name by now: only a link that nothing else leads
	 * to is taken for the one that was just made. */
	fd = openat(dir, name, O_PATH | O_NOFOLLOW | O_CLOEXEC);
	if (fd >= 0 && fstat(fd, &st) == 0 && S_ISLNK(st.st_mode) &&
		st.st_nlink == 1)
		return fd;
	th_close(&fd);
	errno = EAGAIN;
	return -1;
}

static int copy_link(struct walk *walk, int from, const struct stat *st,
	int dir, const char *name)
{
	char target[4097], temporary[48];
	ssize_t len = readlinkat(from, "", target, sizeof(target) - 1);
	int made;

	if (len < 0)
		return fail(walk, "read");
	target[len] = '\0';
	copy_temporary(temporary);
	made = copy_make_link(target, dir, temporary);
	if (made < 0 || finish(walk, st, made)) {
		if (made < 0)
			fail(walk, "write");
		th_close(&made);
		unlinkat(dir, temporary, 0);
		return -1;
	}
	th_close(&made);
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
		/* O_PATH: a FIFO or a device is not opened, only held; whatever
		 * it turns into afterwards, this is what is looked at. */
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
			"the folders in %s are nested too deeply", walk->path);
	is_new = mkdirat(dir, name, 0700) == 0;
	if (!is_new && errno != EEXIST)
		return fail(walk, "make the folder");
	to = openat(dir, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	if (to < 0) {
		if (errno == ENOTDIR || errno == ELOOP)
			return th_fail(walk->err, TH_IN_USE,
				"cannot replace the file %s by a folder",
				walk->path);
		return fail(walk, "open the folder");
	}
	if (!walk->has_top && fstat(to, &made) == 0) {
		walk->dev = made.st_dev;
		walk->ino = made.st_ino;
		walk->has_top = true;
	}
	rc = copy_entries(walk, from, to, depth);
	if (rc == 0 && is_new) {
		walk->copy->files++;
		rc = finish(walk, st, to);
	}
	th_close(&to);
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
		th_fail(err, TH_USAGE, "the folder %.300s does not exist",
			to->path);
		th_hint(err,
			"create it first, or leave out the trailing slash");
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
			"create it first: copy does not create the folders "
			"above its target");
	}
	free(above);
	return fd;
}

struct copying {
	struct walk walk;
	int source, target;
	const char *name; /* NULL: what is in the source */
};

static int do_copy(void *arg, struct th_buf *reply, struct th_error *err)
{
	struct copying *copying = arg;
	struct walk *walk = &copying->walk;
	int rc;

	walk->err = err;
	rc = copying->name
		? copy_one(walk, copying->source, copying->target,
			  copying->name, 0)
		: copy_entries(walk, copying->source, copying->target, 0);
	th_buf_add(reply, (const char *)walk->copy, sizeof(*walk->copy));
	return rc;
}

int copy_apart(const struct th_wall_folder *folders, size_t count,
	int (*work)(void *arg, struct th_buf *reply, struct th_error *err),
	void *arg, uint32_t maker, struct th_copy *copy, struct th_error *err)
{
	const struct th_apart how = {.folders = folders,
		.count = count,
		.root = -1,
		.maker = maker,
		.work = copy->cancel.work};
	struct th_buf reply;
	int rc;

	th_buf_init(&reply, 1 << 20);
	rc = th_apart(&how, work, arg, &reply, err);
	if (reply.len == sizeof(*copy))
		memcpy(copy, reply.data, sizeof(*copy));
	th_buf_release(&reply);
	return rc;
}

static int start_copy(struct copying *copying, struct th_error *err)
{
	const struct th_wall_folder folders[] = {{.fd = copying->source},
		{.fd = copying->target, .access = TH_WALL_ALL}};

	return copy_apart(folders, 2, do_copy, copying,
		copying->walk.to->first_id, copying->walk.copy, err);
}

/* -1 where the source is nothing that can be copied. */
static int check_source(int source, const struct th_place *from,
	const struct th_place *to, struct th_error *err)
{
	struct stat st;

	if (fstat(source, &st) == 0 && can_be_copied(&st))
		return 0;
	th_fail(err, TH_NOT_POSSIBLE,
		"%.300s is a device, a socket or a pipe: files, folders and "
		"links can be copied",
		from->path);
	return to->container && !to->is_volume
		? th_hint(err,
			  "for a stream: ... | tidyhull exec %.100s -- sh -c "
			  "'cat >%.200s'",
			  to->container, to->path)
		: -1;
}

int th_copy(const struct th_place *from, const struct th_place *to,
	struct th_copy *copy, struct th_error *err)
{
	char name[256];
	struct copying copying = {
		.walk = {.copy = copy, .from = from, .to = to},
		.source = th_place_at(from, from->path),
		.name = name};
	int rc;

	if (copying.source < 0)
		return th_fail_sys(err,
			errno == ENOENT || errno == ENOTDIR ? TH_NOT_FOUND
							    : TH_FAILED,
			errno, "%s%s%.300s",
			from->container ? from->container : "",
			from->container ? ":" : "", from->path);
	if (check_source(copying.source, from, to, err)) {
		th_close(&copying.source);
		return -1;
	}
	if (copy_is_stream(to)) {
		rc = copy_to_stream(copying.source, from, to, copy, err);
		th_close(&copying.source);
		return rc;
	}
	copying.target = find_target(from, to, name, err);
	if (copying.target < 0) {
		th_close(&copying.source);
		return -1;
	}
	snprintf(copying.walk.path, sizeof(copying.walk.path), "%.400s",
		from->path);
	rc = start_copy(&copying, err);
	th_close(&copying.source);
	th_close(&copying.target);
	return rc;
}

int th_copy_entries(
	int from, int to, struct th_copy *copy, struct th_error *err)
{
	struct th_place place = {.root = -1, .lock = -1};
	struct copying copying = {
		.walk = {.copy = copy, .from = &place, .to = &place},
		.source = from,
		.target = to};

	snprintf(copying.walk.path, sizeof(copying.walk.path), ".");
	return start_copy(&copying, err);
}
