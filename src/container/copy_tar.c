/* Files of a container as a tar archive, and the other way round. */
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
#include "container/copy.h"
#include "layer/tar_write.h"

#define DEPTH_MAX 400
#define BLOCK (64 * 1024)

/* ---- out ---- */

struct out {
	struct th_tar_out tar;
	const struct th_place *from;
	struct th_copy *copy;
	int fd;
	struct th_error *err;
};

static int find_parts(struct th_tar_parts *parts, int fd, off_t size)
{
	off_t at = 0, data, hole;

	for (; th_file_next_data(fd, at, size, &data, &hole); at = hole) {
		if (th_tar_parts_add(
			    parts, (uint64_t)data, (uint64_t)(hole - data)))
			return -1;
	}
	/* A file that is nothing but a hole has parts, too. */
	return th_tar_parts_add(parts, (uint64_t)size, 0);
}

static int put_header(struct out *out, const char *path, const struct stat *st,
	const char *link, const struct th_tar_parts *parts)
{
	const struct th_tar_entry entry = {.name = path,
		.link = link,
		.type = st->st_mode & S_IFMT,
		.mode = st->st_mode & 07777,
		.uid = th_place_id_inside(out->from, st->st_uid),
		.gid = th_place_id_inside(out->from, st->st_gid),
		.size_bytes = S_ISREG(st->st_mode) ? (uint64_t)st->st_size : 0,
		.mtime = st->st_mtim,
		.device = S_ISCHR(st->st_mode) || S_ISBLK(st->st_mode)
			? st->st_rdev
			: 0};

	out->copy->files++;
	return th_tar_out_entry(&out->tar, &entry, parts ? parts->items : NULL,
		parts ? parts->count : 0, out->err);
}

/* The header has said how long it is: a file that grows is cut there, one that
 * shrinks is filled up. */
static int put_data(struct out *out, int in, uint64_t at, uint64_t end)
{
	char *data = malloc(BLOCK);
	int rc = data ? 0 : th_fail_memory(out->err);

	while (rc == 0 && at < end) {
		size_t want = end - at < BLOCK ? (size_t)(end - at) : BLOCK;
		ssize_t got = pread(in, data, want, (off_t)at);

		if (got <= 0) {
			memset(data, 0, want);
			got = (ssize_t)want;
		}
		rc = th_tar_out_data(&out->tar, data, (size_t)got, out->err);
		at += (uint64_t)got;
		out->copy->bytes += (uint64_t)got;
	}
	free(data);
	return rc;
}

static int put_file(
	struct out *out, const char *path, int from, const struct stat *st)
{
	char name[TH_FD_PATH];
	int in = open(th_fd_path(from, "", name), O_RDONLY | O_CLOEXEC);
	bool holes = (off_t)st->st_blocks * 512 < st->st_size;
	struct th_tar_parts parts = {0};
	int rc;

	if (in < 0)
		return th_fail_sys(
			out->err, TH_FAILED, errno, "cannot read %.300s", path);
	rc = holes ? find_parts(&parts, in, st->st_size)
		   : th_tar_parts_add(&parts, 0, (uint64_t)st->st_size);
	if (rc)
		th_fail_memory(out->err);
	if (rc == 0)
		rc = put_header(out, path, st, "", holes ? &parts : NULL);
	for (size_t i = 0; rc == 0 && i < parts.count; i++)
		rc = put_data(out, in, parts.items[i].offset,
			parts.items[i].offset + parts.items[i].len);
	free(parts.items);
	th_close(&in);
	return rc;
}

static int put_one(struct out *out, int from, const char *path, int depth);

static int put_entries(struct out *out, int from, const char *path, int depth)
{
	char name[TH_FD_PATH];
	int fd = open(
		th_fd_path(from, "", name), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *list = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = 0;

	if (!list) {
		th_close(&fd);
		return th_fail_sys(
			out->err, TH_FAILED, errno, "cannot read %.300s", path);
	}
	while (rc == 0 && (entry = readdir(list))) {
		char *below;
		int one;

		if (strcmp(entry->d_name, ".") == 0 ||
			strcmp(entry->d_name, "..") == 0)
			continue;
		one = openat(dirfd(list), entry->d_name,
			O_PATH | O_NOFOLLOW | O_CLOEXEC);
		if (one < 0)
			continue; /* it has gone meanwhile */
		below = th_format("%s/%s", path, entry->d_name);
		rc = below ? put_one(out, one, below, depth + 1)
			   : th_fail_memory(out->err);
		free(below);
		th_close(&one);
	}
	closedir(list);
	return rc;
}

static int put_one(struct out *out, int from, const char *path, int depth)
{
	char target[4097];
	struct stat st;
	ssize_t len;

	if (fstat(from, &st))
		return th_fail_sys(out->err, TH_FAILED, errno,
			"cannot read the attributes of %.300s", path);
	if (depth > DEPTH_MAX)
		return th_fail(out->err, TH_NOT_POSSIBLE,
			"the folders in %.300s are nested too deeply", path);
	switch (st.st_mode & S_IFMT) {
	case S_IFSOCK:
		out->copy->skipped++;
		return 0;
	case S_IFLNK:
		len = readlinkat(from, "", target, sizeof(target) - 1);
		target[len < 0 ? 0 : len] = '\0';
		return put_header(out, path, &st, target, NULL);
	case S_IFREG:
		return put_file(out, path, from, &st);
	case S_IFDIR:
		return put_header(out, path, &st, "", NULL) ||
				put_entries(out, from, path, depth)
			? -1
			: 0;
	default:
		return put_header(out, path, &st, "", NULL);
	}
}

struct in;

/* One of the two, with what it begins at. */
struct archiving {
	struct out *out;
	struct in *in;
	int source; /* or where the archive is read from */
	const char *name;
};

static int write_archive(void *arg, struct th_buf *reply, struct th_error *err)
{
	const struct archiving *archiving = arg;
	struct out *out = archiving->out;
	int rc;

	out->err = err;
	th_tar_out_init(&out->tar, out->fd);
	rc = put_one(out, archiving->source, archiving->name, 0);
	if (rc == 0)
		rc = th_tar_out_end(&out->tar, err);
	th_tar_out_release(&out->tar);
	th_buf_add(reply, (const char *)out->copy, sizeof(*out->copy));
	return rc;
}

int th_copy_to_tar(const struct th_place *from, int fd, struct th_copy *copy,
	struct th_error *err)
{
	struct out out = {.from = from, .copy = copy, .fd = fd};
	struct archiving archiving = {.out = &out};
	struct th_wall_folder folder = {.fd = -1};
	char *plain = th_path_absolute("/", from->path);
	const char *name = plain ? th_path_last(plain) : "";
	int source = th_place_at(from, from->path), rc = -1;

	if (source < 0) {
		th_fail_sys(err, errno == ENOENT ? TH_NOT_FOUND : TH_FAILED,
			errno, "%s:%.300s", from->container, from->path);
		goto out;
	}
	folder.fd = source;
	archiving.source = source;
	archiving.name = *name ? name : ".";
	rc = copy_apart(&folder, 1, write_archive, &archiving, 0, copy, err);
out:
	free(plain);
	th_close(&source);
	return rc;
}

/* ---- in ---- */

struct in {
	struct th_tar *tar;
	const struct th_place *to;
	struct th_copy *copy;
	int top; /* the folder at the place */
	struct th_error *err;
};

/* The parts of a name, without those that lead nowhere; -1 where one leads
 * out. */
static int clean_name(const char *text, char *clean, size_t size)
{
	size_t used = 0;

	clean[0] = '\0';
	while (*text) {
		size_t len = strcspn(text, "/");

		if (len == 2 && text[0] == '.' && text[1] == '.')
			return -1;
		if (len && !(len == 1 && text[0] == '.')) {
			if (used + len + 2 > size)
				return -1;
			used += (size_t)snprintf(clean + used, size - used,
				"%s%.*s", used ? "/" : "", (int)len, text);
		}
		text += len + (text[len] == '/');
	}
	return 0;
}

/* The folder that the entry goes into, made where it is missing. No link on
 * the way is followed out of the place. */
static int open_above(struct in *in, const char *path, const char **name)
{
	char above[4096];
	const char *last = th_path_last(path);

	snprintf(above, sizeof(above), "%.*s", (int)(last - path), path);
	*name = last;
	return th_path_make_in_root(in->top, *above ? above : ".", true);
}

static int take_data(struct in *in, const char *path, int fd)
{
	const void *data;
	uint64_t at;
	size_t len;
	int rc;

	while ((rc = th_tar_data(in->tar, &data, &len, &at, in->err)) == 1) {
		if (lseek(fd, (off_t)at, SEEK_SET) < 0 ||
			th_write_all(fd, data, len))
			return th_fail_sys(in->err, TH_FAILED, errno,
				"cannot write %.300s", path);
		in->copy->bytes += len;
	}
	return rc;
}

/* The new file, open, or -1 with an error. */
static int take_file(struct in *in, const struct th_tar_entry *entry,
	const char *path, int dir, const char *temporary)
{
	int fd = openat(dir, temporary,
		O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600);
	int rc;

	if (fd < 0)
		return th_fail_sys(
			in->err, TH_FAILED, errno, "cannot write %.300s", path);
	rc = take_data(in, path, fd);
	if (rc == 0 && ftruncate(fd, (off_t)entry->size_bytes))
		rc = th_fail_sys(
			in->err, TH_FAILED, errno, "cannot write %.300s", path);
	if (rc)
		th_close(&fd);
	return fd;
}

static int take_hard_link(struct in *in, const char *path, const char *target,
	int dir, const char *temporary)
{
	char clean[4096], name[TH_FD_PATH];
	int fd = clean_name(target, clean, sizeof(clean))
		? -1
		: th_path_open_in_root(in->top, clean, O_PATH | O_NOFOLLOW, 0);
	int rc = 0;

	if (fd < 0 ||
		linkat(AT_FDCWD, th_fd_path(fd, "", name), dir, temporary,
			AT_SYMLINK_FOLLOW))
		rc = th_fail(in->err, TH_FAILED,
			"%.200s is a link to %.200s, which does not exist",
			path, target);
	th_close(&fd);
	return rc;
}

static int set_attributes(struct in *in, const struct th_tar_entry *entry,
	int fd, const char *path)
{
	const struct copy_attributes attributes = {entry->uid, entry->gid,
		entry->type | entry->mode,
		{{.tv_nsec = UTIME_NOW}, entry->mtime}, true, path};

	return copy_finish(in->copy, in->to, fd, &attributes, in->err);
}

static int take_folder(struct in *in, const struct th_tar_entry *entry,
	const char *path, int dir, const char *name)
{
	struct stat st;
	int fd, rc;

	if (mkdirat(dir, name, 0700) == 0) {
		fd = openat(dir, name,
			O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
		rc = fd < 0 ? th_fail_sys(in->err, TH_FAILED, errno,
				      "cannot open the folder %.300s", path)
			    : set_attributes(in, entry, fd, path);
		th_close(&fd);
		return rc;
	}
	/* A link to a folder is as good as one, within the container. */
	if (errno == EEXIST &&
		fstatat(dir, name, &st, AT_SYMLINK_NOFOLLOW) == 0 &&
		(S_ISDIR(st.st_mode) || S_ISLNK(st.st_mode)))
		return 0;
	return th_fail_sys(in->err, TH_FAILED, errno,
		"cannot create the folder %.300s", path);
}

/* A FIFO or a device: opened as what has the name, and believed only where it
 * is one of the kind. */
static int take_node(const struct th_tar_entry *entry, mode_t type, int dir,
	const char *name)
{
	dev_t dev = type == S_IFIFO ? 0 : entry->device;
	struct stat st;
	int fd;

	if (mknodat(dir, name, type | 0600, dev))
		return -1;
	fd = openat(dir, name, O_PATH | O_NOFOLLOW | O_CLOEXEC);
	if (fd >= 0 && fstat(fd, &st) == 0 && (st.st_mode & S_IFMT) == type &&
		st.st_rdev == dev)
		return fd;
	th_close(&fd);
	errno = EAGAIN;
	return -1;
}

/* Makes it under the temporary name: its descriptor (-2: a hard link, which
 * has what its target has), or -1. */
static int make_entry(struct in *in, const struct th_tar_entry *entry,
	const char *path, int dir, const char *temporary)
{
	mode_t type = entry->type;

	if (type == 0)
		return take_hard_link(in, path, entry->link, dir, temporary)
			? -1
			: -2;
	if (type == S_IFREG)
		return take_file(in, entry, path, dir, temporary);
	if (type == S_IFLNK)
		return copy_make_link(entry->link, dir, temporary);
	return take_node(entry, type, dir, temporary);
}

static int take_entry(struct in *in, const struct th_tar_entry *entry)
{
	mode_t type = entry->type;
	const char *name;
	char path[4096], temporary[48];
	int dir, fd, rc = 0;

	if (clean_name(entry->name, path, sizeof(path)))
		return th_fail(in->err, TH_USAGE,
			"the archive entry %.300s leads out of the target "
			"folder",
			entry->name);
	if (!*path)
		return 0;
	dir = open_above(in, path, &name);
	if (dir < 0)
		return th_fail_sys(in->err, TH_FAILED, errno,
			"cannot create the folders of %.300s", path);
	copy_temporary(temporary);
	if (type == S_IFDIR) {
		rc = take_folder(in, entry, path, dir, name);
		th_close(&dir);
		in->copy->files++;
		return rc;
	}
	fd = make_entry(in, entry, path, dir, temporary);
	if (fd == -1 && !in->err->code && type != S_IFLNK && type != S_IFREG) {
		/* Devices are not everybody's to make. */
		in->copy->skipped++;
		th_close(&dir);
		return 0;
	}
	if (fd == -1 || (fd >= 0 && set_attributes(in, entry, fd, path)))
		rc = -1;
	if (rc == 0 && renameat(dir, temporary, dir, name))
		rc = -1;
	if (rc && !in->err->code)
		th_fail_sys(
			in->err, TH_FAILED, errno, "cannot write %.300s", path);
	if (fd >= 0)
		th_close(&fd);
	/* Of two links to one file a rename leaves both. */
	unlinkat(dir, temporary, 0);
	th_close(&dir);
	in->copy->files++;
	return rc;
}

static int take_all(struct in *in)
{
	const struct th_tar_entry *entry;
	struct th_error why = {0};
	int rc;

	while ((rc = th_tar_next(in->tar, &entry, &why)) == 1) {
		if (take_entry(in, entry))
			return -1;
	}
	if (rc == 0)
		return 0;
	th_fail(in->err, TH_USAGE, "the input is not a tar archive: %.300s",
		why.msg);
	return th_hint(in->err,
		"decompress it first: zcat FILE | tidyhull copy - ...");
}

static int read_archive(void *arg, struct th_buf *reply, struct th_error *err)
{
	const struct archiving *archiving = arg;
	struct in *in = archiving->in;
	int rc;

	in->err = err;
	in->tar = th_tar_new_fd(archiving->source);
	if (!in->tar)
		return th_fail_memory(err);
	rc = take_all(in);
	th_tar_free(in->tar);
	th_buf_add(reply, (const char *)in->copy, sizeof(*in->copy));
	return rc;
}

int th_copy_from_tar(int fd, const struct th_place *to, struct th_copy *copy,
	struct th_error *err)
{
	struct in in = {.to = to, .copy = copy, .top = -1};
	struct archiving archiving = {.in = &in, .source = fd};
	struct th_wall_folder folder = {.access = TH_WALL_ALL};
	char name[TH_FD_PATH];
	int place = th_place_at(to, to->path), rc = -1;

	if (place >= 0)
		in.top = open(th_fd_path(place, "", name),
			O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (in.top < 0) {
		th_fail_sys(err, errno == ENOENT ? TH_NOT_FOUND : TH_FAILED,
			errno, "%s:%.300s", to->container, to->path);
		th_hint(err,
			"the target of an archive must be an existing folder");
		goto out;
	}
	folder.fd = in.top;
	rc = copy_apart(
		&folder, 1, read_archive, &archiving, to->first_id, copy, err);
out:
	th_close(&place);
	th_close(&in.top);
	return rc;
}
