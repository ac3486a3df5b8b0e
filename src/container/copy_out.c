/* Files of a container as a tar archive: what has several names is one file,
 * and extended attributes come along. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "container/copy.h"
#include "layer/difference.h"
#include "layer/links.h"

#define DEPTH_MAX 400
/* Smaller holes are written as what they read as. */
#define HOLE ((off_t)4096)
#define ATTRIBUTES_MAX (1u << 20)

struct out {
	struct th_tar_out tar;
	const struct th_place *from;
	struct th_copy *copy;
	int fd;
	int source; /* what is written, and under which name */
	const char *name;
	struct th_links links;
	struct th_tar_entry entry; /* large: not one for each folder */
	struct th_buf attributes; /* of the entry */
	struct th_error *err;
};

static void describe(struct out *out, const char *path, const struct stat *st,
	const char *link)
{
	struct th_tar_entry *entry = &out->entry;

	memset(entry, 0, offsetof(struct th_tar_entry, attributes));
	entry->name = path;
	entry->link = link;
	entry->type = st->st_mode & S_IFMT;
	entry->mode = st->st_mode & 07777;
	entry->uid = th_place_id_inside(out->from, st->st_uid);
	entry->gid = th_place_id_inside(out->from, st->st_gid);
	entry->mtime = st->st_mtim;
	if (S_ISCHR(st->st_mode) || S_ISBLK(st->st_mode))
		entry->device = st->st_rdev;
	entry->attribute_count = 0;
	out->copy->files++;
}

static int put_header(struct out *out)
{
	return th_tar_out_entry(&out->tar, &out->entry, NULL, 0, out->err);
}

static int read_attributes(struct out *out, int fd)
{
	struct th_tar_entry *entry = &out->entry;
	size_t kept = 0;

	if (th_layer_read_attributes(fd, entry, &out->attributes, out->err))
		return -1;
	for (size_t i = 0; i < entry->attribute_count; i++) {
		struct th_tar_attribute one = entry->attributes[i];

		if (copy_attribute_inside(out->from, &one))
			entry->attributes[kept++] = one;
	}
	entry->attribute_count = kept;
	return 0;
}

static int put_file(struct out *out, int from, const struct stat *st)
{
	char name[TH_FD_PATH];
	int in = open(th_fd_path(from, "", name), O_RDONLY | O_CLOEXEC);
	off_t data = (off_t)st->st_blocks * 512;
	int rc;

	if (in < 0)
		return th_fail_sys(out->err, TH_FAILED, errno,
			"cannot read %.300s", out->entry.name);
	rc = read_attributes(out, in);
	if (rc == 0)
		rc = th_layer_put_file(&out->tar, &out->entry, in,
			out->entry.name, HOLE, out->copy->cancel, out->err);
	th_close(&in);
	out->copy->bytes += (uint64_t)(data < st->st_size ? data : st->st_size);
	if (rc && th_cancelled(out->copy->cancel)) {
		th_error_clear(out->err);
		return copy_interrupted(out->err);
	}
	if (rc && !out->err->hint[0])
		th_hint(out->err,
			"where the container writes meanwhile, "
			"tidyhull pause keeps it from that");
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
	while (rc == 0 && (errno = 0, entry = readdir(list))) {
		char *below;
		int one;

		if (strcmp(entry->d_name, ".") == 0 ||
			strcmp(entry->d_name, "..") == 0)
			continue;
		one = openat(dirfd(list), entry->d_name,
			O_PATH | O_NOFOLLOW | O_CLOEXEC);
		if (one < 0 && errno == ENOENT)
			continue; /* it has gone meanwhile */
		below = th_format("%s/%s", path, entry->d_name);
		if (!below)
			rc = th_fail_memory(out->err);
		else if (one < 0)
			rc = th_fail_sys(out->err, TH_FAILED, errno,
				"cannot read %.300s", below);
		else
			rc = put_one(out, one, below, depth + 1);
		free(below);
		th_close(&one);
	}
	if (rc == 0 && errno)
		rc = th_fail_sys(
			out->err, TH_FAILED, errno, "cannot read %.300s", path);
	closedir(list);
	return rc;
}

static int put_link(
	struct out *out, int from, const char *path, const struct stat *st)
{
	char target[4097];
	ssize_t len = readlinkat(from, "", target, sizeof(target) - 1);

	if (len < 0)
		return th_fail_sys(
			out->err, TH_FAILED, errno, "cannot read %.300s", path);
	target[len] = '\0';
	describe(out, path, st, target);
	return put_header(out);
}

static int put_folder(struct out *out, int from, const char *path,
	const struct stat *st, int depth)
{
	describe(out, path, st, "");
	return read_attributes(out, from) || put_header(out) ||
			put_entries(out, from, path, depth)
		? -1
		: 0;
}

static int put_one(struct out *out, int from, const char *path, int depth)
{
	const char *first = NULL;
	struct stat st;

	if (fstat(from, &st))
		return th_fail_sys(out->err, TH_FAILED, errno,
			"cannot read the attributes of %.300s", path);
	if (depth > DEPTH_MAX)
		return th_fail(out->err, TH_NOT_POSSIBLE,
			"the folders in %.300s are nested too deeply", path);
	if (S_ISSOCK(st.st_mode)) {
		out->copy->skipped++;
		return 0;
	}
	if (S_ISDIR(st.st_mode))
		return put_folder(out, from, path, &st, depth);
	if (st.st_nlink > 1) {
		int rc = th_links_look(&out->links, st.st_dev, st.st_ino, path,
			&first, out->err);

		if (rc < 0)
			return -1;
		if (rc == 1) {
			describe(out, path, &st, first);
			out->entry.type = 0;
			return put_header(out);
		}
	}
	if (S_ISLNK(st.st_mode))
		return put_link(out, from, path, &st);
	describe(out, path, &st, "");
	return S_ISREG(st.st_mode) ? put_file(out, from, &st) : put_header(out);
}

static int write_archive(void *arg, struct th_buf *reply, struct th_error *err)
{
	struct out *out = arg;
	int rc;

	out->err = err;
	th_buf_init(&out->attributes, ATTRIBUTES_MAX);
	th_tar_out_init(&out->tar, out->fd);
	rc = put_one(out, out->source, out->name, 0);
	if (rc == 0)
		rc = th_tar_out_end(&out->tar, err);
	th_tar_out_release(&out->tar);
	th_links_release(&out->links);
	th_buf_release(&out->attributes);
	th_buf_add(reply, (const char *)out->copy, sizeof(*out->copy));
	return rc;
}

int th_copy_to_tar(const struct th_place *from, int fd, struct th_copy *copy,
	struct th_error *err)
{
	struct out *out = calloc(1, sizeof(*out));
	struct th_wall_folder folder = {.fd = -1};
	char *plain = th_path_absolute("/", from->path);
	const char *name = plain ? th_path_last(plain) : "";
	int source = -1, rc = -1;

	if (!out || !plain) {
		th_fail_memory(err);
		goto out;
	}
	source = th_place_at(from, from->path);
	if (source < 0) {
		th_fail_sys(err, errno == ENOENT ? TH_NOT_FOUND : TH_FAILED,
			errno, "%s:%.300s", from->container, from->path);
		goto out;
	}
	folder.fd = out->source = source;
	out->from = from;
	out->copy = copy;
	out->fd = fd;
	out->name = *name ? name : ".";
	rc = copy_apart(&folder, 1, write_archive, out, 0, copy, err);
out:
	free(out);
	free(plain);
	th_close(&source);
	return rc;
}
