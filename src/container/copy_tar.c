/* Files of a container as a tar archive, and the other way round. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "base/file.h"
#include "base/late_archive.h"
#include "base/path.h"
#include "container/copy.h"

#define DEPTH_MAX 400
#define BLOCK (64 * 1024)

/* ---- out ---- */

struct out {
	struct archive *archive;
	const struct th_place *from;
	struct th_copy *copy;
	int fd;
	struct th_error *err;
};

static la_ssize_t write_out(
	struct archive *archive, void *owner, const void *data, size_t len)
{
	struct out *out = owner;

	if (th_write_all(out->fd, data, len) == 0)
		return (la_ssize_t)len;
	archive_set_error(archive, errno, "write");
	return -1;
}

static int fail_out(struct out *out, const char *path)
{
	return th_fail(out->err, TH_FAILED, "cannot write %.300s: %.200s", path,
		archive_error_string(out->archive));
}

/* Tells the parts of a file that are not holes; none where all of it is. */
static void add_parts(struct archive_entry *entry, int fd, off_t size)
{
	off_t at = 0;

	while (at < size) {
		off_t data = lseek(fd, at, SEEK_DATA), hole;

		if (data < 0)
			break;
		hole = lseek(fd, data, SEEK_HOLE);
		if (hole <= data || hole > size)
			hole = size;
		archive_entry_sparse_add_entry(entry, data, hole - data);
		at = hole;
	}
	/* One that is a hole to its end needs its end named. */
	archive_entry_sparse_add_entry(entry, size, 0);
}

/* in: the file, open, where it has holes; otherwise -1. */
static int put_header(struct out *out, const char *path, const struct stat *st,
	const char *link, int in)
{
	struct archive_entry *entry = archive_entry_new();
	int rc;

	if (!entry)
		return th_fail_memory(out->err);
	archive_entry_set_pathname(entry, path);
	archive_entry_set_filetype(entry, st->st_mode & S_IFMT);
	archive_entry_set_perm(entry, st->st_mode & 07777);
	archive_entry_set_uid(entry, th_place_id_inside(out->from, st->st_uid));
	archive_entry_set_gid(entry, th_place_id_inside(out->from, st->st_gid));
	archive_entry_set_mtime(entry, st->st_mtim.tv_sec, st->st_mtim.tv_nsec);
	archive_entry_set_size(entry, S_ISREG(st->st_mode) ? st->st_size : 0);
	if (link)
		archive_entry_set_symlink(entry, link);
	if (in >= 0)
		add_parts(entry, in, st->st_size);
	if (S_ISCHR(st->st_mode) || S_ISBLK(st->st_mode))
		archive_entry_set_rdev(entry, st->st_rdev);
	rc = archive_write_header(out->archive, entry);
	archive_entry_free(entry);
	out->copy->files++;
	return rc ? fail_out(out, path) : 0;
}

/* The library wants the bytes of holes, too, and leaves them out itself: the
 * same zeros, in large pieces. */
#define HOLE_BLOCK (16 << 20)

static int put_zeros(struct out *out, const char *path, off_t size)
{
	char *zeros = mmap(NULL, HOLE_BLOCK, PROT_READ,
		MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
	int rc = 0;

	if (zeros == MAP_FAILED)
		return th_fail_memory(out->err);
	while (rc == 0 && size > 0) {
		size_t want = size < HOLE_BLOCK ? (size_t)size : HOLE_BLOCK;

		if (archive_write_data(out->archive, zeros, want) !=
			(la_ssize_t)want)
			rc = fail_out(out, path);
		size -= (off_t)want;
	}
	munmap(zeros, HOLE_BLOCK);
	return rc;
}

/* The header has said how long it is: a file that grows is cut there, one that
 * shrinks is filled up. */
static int put_data(
	struct out *out, const char *path, int in, off_t at, off_t end)
{
	char *data = malloc(BLOCK);
	int rc = data ? 0 : th_fail_memory(out->err);

	while (rc == 0 && at < end) {
		size_t want = end - at < BLOCK ? (size_t)(end - at) : BLOCK;
		ssize_t got = pread(in, data, want, at);

		if (got <= 0) {
			memset(data, 0, want);
			got = (ssize_t)want;
		}
		if (archive_write_data(out->archive, data, (size_t)got) != got)
			rc = fail_out(out, path);
		at += got;
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
	off_t at = 0;
	int rc;

	if (in < 0)
		return th_fail_sys(
			out->err, TH_FAILED, errno, "cannot read %.300s", path);
	rc = put_header(out, path, st, NULL, holes ? in : -1);
	while (rc == 0 && at < st->st_size) {
		off_t data = holes ? lseek(in, at, SEEK_DATA) : at, hole;

		if (data < 0 || data > st->st_size)
			data = st->st_size;
		rc = put_zeros(out, path, data - at);
		hole = holes ? lseek(in, data, SEEK_HOLE) : st->st_size;
		if (hole <= data || hole > st->st_size)
			hole = st->st_size;
		if (rc == 0)
			rc = put_data(out, path, in, data, hole);
		at = hole;
	}
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
		return put_header(out, path, &st, target, -1);
	case S_IFREG:
		return put_file(out, path, from, &st);
	case S_IFDIR:
		return put_header(out, path, &st, NULL, -1) ||
				put_entries(out, from, path, depth)
			? -1
			: 0;
	default:
		return put_header(out, path, &st, NULL, -1);
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
	int rc = -1;

	out->err = err;
	out->archive = archive_write_new();
	if (!out->archive)
		return th_fail_memory(err);
	archive_write_set_format_pax_restricted(out->archive);
	archive_write_set_bytes_per_block(out->archive, BLOCK);
	archive_write_set_bytes_in_last_block(out->archive, 512);
	if (archive_write_open(out->archive, out, NULL, write_out, NULL))
		fail_out(out, "the archive");
	else
		rc = put_one(out, archiving->source, archiving->name, 0);
	if (rc == 0 && archive_write_close(out->archive))
		rc = fail_out(out, "the archive");
	archive_write_free(out->archive);
	th_buf_add(reply, (const char *)out->copy, sizeof(*out->copy));
	return rc;
}

int th_copy_to_tar(const struct th_place *from, int fd, struct th_copy *copy,
	struct th_error *err)
{
	struct out out = {.from = from, .copy = copy, .fd = fd};
	char *plain = th_path_absolute("/", from->path);
	const char *name = plain ? th_path_last(plain) : "";
	int source = th_place_at(from, from->path), rc = -1;

	if (source < 0) {
		th_fail_sys(err, errno == ENOENT ? TH_NOT_FOUND : TH_FAILED,
			errno, "%s:%.300s", from->container, from->path);
		goto out;
	}
	if (th_late_archive(err) == 0) {
		const struct th_wall_folder folder = {.fd = source};
		struct archiving archiving = {.out = &out,
			.source = source,
			.name = *name ? name : "."};

		rc = copy_apart(
			&folder, 1, write_archive, &archiving, 0, copy, err);
	}
out:
	free(plain);
	th_close(&source);
	return rc;
}

/* ---- in ---- */

struct in {
	struct archive *archive;
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
	la_int64_t at;
	size_t len;
	int rc;

	while ((rc = archive_read_data_block(in->archive, &data, &len, &at)) ==
		ARCHIVE_OK) {
		if (lseek(fd, at, SEEK_SET) < 0 || th_write_all(fd, data, len))
			return th_fail_sys(in->err, TH_FAILED, errno,
				"cannot write %.300s", path);
		in->copy->bytes += len;
	}
	if (rc == ARCHIVE_EOF)
		return 0;
	return th_fail(
		in->err, TH_FAILED, "the archive is damaged at %.300s", path);
}

/* The new file, open, or -1 with an error. */
static int take_file(struct in *in, struct archive_entry *entry,
	const char *path, int dir, const char *temporary)
{
	int fd = openat(dir, temporary,
		O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0600);
	int rc;

	if (fd < 0)
		return th_fail_sys(
			in->err, TH_FAILED, errno, "cannot write %.300s", path);
	rc = take_data(in, path, fd);
	if (rc == 0 && ftruncate(fd, archive_entry_size(entry)))
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

static int set_attributes(
	struct in *in, struct archive_entry *entry, int fd, const char *path)
{
	const struct copy_attributes attributes = {
		(uid_t)archive_entry_uid(entry),
		(gid_t)archive_entry_gid(entry),
		archive_entry_filetype(entry) | archive_entry_perm(entry),
		{{.tv_nsec = UTIME_NOW},
			{.tv_sec = archive_entry_mtime(entry),
				.tv_nsec = archive_entry_mtime_nsec(entry)}},
		true, path};

	return copy_finish(in->copy, in->to, fd, &attributes, in->err);
}

static int take_folder(struct in *in, struct archive_entry *entry,
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
static int take_node(
	struct archive_entry *entry, mode_t type, int dir, const char *name)
{
	dev_t dev = type == S_IFIFO ? 0 : archive_entry_rdev(entry);
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
static int make_entry(struct in *in, struct archive_entry *entry,
	const char *path, int dir, const char *temporary)
{
	const char *hard = archive_entry_hardlink(entry);
	mode_t type = archive_entry_filetype(entry);

	if (hard)
		return take_hard_link(in, path, hard, dir, temporary) ? -1 : -2;
	if (type == S_IFREG)
		return take_file(in, entry, path, dir, temporary);
	if (type == S_IFLNK)
		return copy_make_link(
			archive_entry_symlink(entry), dir, temporary);
	return take_node(entry, type, dir, temporary);
}

static int take_entry(struct in *in, struct archive_entry *entry)
{
	const char *text = archive_entry_pathname(entry), *name;
	const char *hard = archive_entry_hardlink(entry);
	mode_t type = archive_entry_filetype(entry);
	char path[4096], temporary[48];
	int dir, fd, rc = 0;

	if (!text || clean_name(text, path, sizeof(path)))
		return th_fail(in->err, TH_USAGE,
			"the archive entry %.300s leads out of the target "
			"folder",
			text ? text : "");
	if (!*path)
		return 0;
	dir = open_above(in, path, &name);
	if (dir < 0)
		return th_fail_sys(in->err, TH_FAILED, errno,
			"cannot create the folders of %.300s", path);
	copy_temporary(temporary);
	if (!hard && type == S_IFDIR) {
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

static int no_archive(struct in *in)
{
	th_fail(in->err, TH_USAGE, "the input is not a tar archive: %.200s",
		archive_error_string(in->archive));
	return th_hint(in->err,
		"decompress it first: zcat FILE | tidyhull copy - ...");
}

static int take_all(struct in *in)
{
	struct archive_entry *entry;
	int rc;

	while ((rc = archive_read_next_header(in->archive, &entry)) ==
			ARCHIVE_OK ||
		rc == ARCHIVE_WARN) {
		if (take_entry(in, entry))
			return -1;
	}
	if (rc == ARCHIVE_EOF)
		return 0;
	return no_archive(in);
}

static int read_archive(void *arg, struct th_buf *reply, struct th_error *err)
{
	const struct archiving *archiving = arg;
	struct in *in = archiving->in;
	int rc = -1;

	in->err = err;
	in->archive = archive_read_new();
	if (!in->archive)
		return th_fail_memory(err);
	archive_read_support_format_tar(in->archive);
	archive_read_support_format_empty(in->archive);
	if (archive_read_open_fd(in->archive, archiving->source, BLOCK))
		no_archive(in);
	else
		rc = take_all(in);
	archive_read_free(in->archive);
	th_buf_add(reply, (const char *)in->copy, sizeof(*in->copy));
	return rc;
}

int th_copy_from_tar(int fd, const struct th_place *to, struct th_copy *copy,
	struct th_error *err)
{
	struct in in = {.to = to, .copy = copy, .top = -1};
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
	if (th_late_archive(err) == 0) {
		const struct th_wall_folder folder = {
			.fd = in.top, .access = TH_WALL_ALL};
		struct archiving archiving = {.in = &in, .source = fd};

		rc = copy_apart(&folder, 1, read_archive, &archiving,
			to->first_id, copy, err);
	}
out:
	th_close(&place);
	th_close(&in.top);
	return rc;
}
