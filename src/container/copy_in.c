/* A tar archive into a container. */
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
#include "layer/tar.h"

struct in {
	int source; /* where the archive is read from */
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
			return th_fail_write(
				in->err, errno, "cannot write %.300s", path);
		in->copy->bytes += len;
		th_work_add(in->copy->cancel.work, len);
		if (th_cancelled(in->copy->cancel))
			return copy_interrupted(in->err);
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
		return th_fail_write(
			in->err, errno, "cannot write %.300s", path);
	rc = take_data(in, path, fd);
	if (rc == 0 && ftruncate(fd, (off_t)entry->size_bytes))
		rc = th_fail_write(in->err, errno, "cannot write %.300s", path);
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

	if (copy_finish(in->copy, in->to, fd, &attributes, in->err))
		return -1;
	/* After the owner: a change of that takes capabilities away. */
	return copy_set_attributes(in->copy, in->to, fd, entry, in->err);
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
		th_fail_write(in->err, errno, "cannot write %.300s", path);
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
		if (th_cancelled(in->copy->cancel))
			return copy_interrupted(in->err);
	}
	if (rc == 0)
		return 0;
	if (th_cancelled(in->copy->cancel))
		return copy_interrupted(in->err);
	th_fail(in->err, TH_USAGE, "the input is not a tar archive: %.300s",
		why.msg);
	return th_hint(in->err,
		"decompress it first: zcat FILE | tidyhull copy - ...");
}

static int read_archive(void *arg, struct th_buf *reply, struct th_error *err)
{
	struct in *in = arg;
	int rc;

	in->err = err;
	in->tar = th_tar_new_fd(in->source, in->copy->cancel);
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
	struct in in = {.source = fd, .to = to, .copy = copy, .top = -1};
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
	rc = copy_apart(&folder, 1, read_archive, &in, to->first_id, copy, err);
out:
	th_close(&place);
	th_close(&in.top);
	return rc;
}
