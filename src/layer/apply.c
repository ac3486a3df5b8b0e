#include "layer/apply.h"

#include <errno.h>
#include <fcntl.h>
#include <locale.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "base/late_archive.h"
#include "base/path.h"

#define WHITEOUT ".wh."
#define OPAQUE ".wh..wh..opq"
#define OPAQUE_ATTRIBUTE "trusted.overlay.opaque"
#define OPAQUE_OF_USERS "user.overlay.opaque"
#define NAME_BYTES_MAX 4096
#define ENTRIES_MAX 20000000
#define BLOCK_BYTES ((uint64_t)4096)

struct folder_time {
	char *path; /* owned */
	struct timespec time;
};

/* A hard link to something that may still come. */
struct pending_link {
	char *name, *target; /* owned */
};

struct job {
	struct th_source *source;
	struct th_error *source_err;
	int tree;
	/* The folder that the last entry lay in stays open. */
	char *parent_path;
	int parent;
	/* Folders get their times at the end: filling them changes it. */
	struct folder_time *times;
	size_t time_count;
	struct pending_link *links;
	size_t link_count;
	bool inherits; /* the open folder hands its group down (set-gid) */
	uint64_t disk_bytes;
};

static la_ssize_t read_source(
	struct archive *archive, void *data, const void **piece)
{
	struct job *job = data;
	ssize_t got = job->source->next(job->source, piece, job->source_err);

	if (got < 0)
		archive_set_error(archive, EIO, "%s", job->source_err->msg);
	return got;
}

static int refuse(const char *name, const char *why, struct th_error *err)
{
	return th_fail(err, TH_FAILED, "the entry \"%.200s\" %s", name, why);
}

static int fail_entry(const char *name, struct th_error *err)
{
	if (errno == ENOSPC || errno == EDQUOT) {
		th_fail(err, TH_FAILED,
			"the disk is full (at the entry \"%.200s\")", name);
		if (err)
			err->sys = ENOSPC;
		return th_hint(err, "to free space: tidyhull sweep");
	}
	return th_fail_sys(err, TH_FAILED, errno,
		"cannot write the entry \"%.200s\"", name);
}

/* The name without what leads nowhere ("./", "//", "/"): "" is the root. */
static int clean_name(
	const char *name, char clean[NAME_BYTES_MAX], struct th_error *err)
{
	size_t used = 0;

	while (*name) {
		size_t len = strcspn(name, "/");

		if (len == 2 && name[0] == '.' && name[1] == '.')
			return refuse(name,
				"leads out of the layer with \"..\"", err);
		if (len > 0 && !(len == 1 && name[0] == '.')) {
			if (len > 255 || used + len + 2 > NAME_BYTES_MAX)
				return refuse(name,
					"has a name that is too long", err);
			if (used)
				clean[used++] = '/';
			memcpy(clean + used, name, len);
			used += len;
		}
		name += len + (name[len] == '/');
	}
	clean[used] = '\0';
	return 0;
}

static int open_parent(struct job *job, const char *path, struct th_error *err)
{
	struct stat st;
	int fd, made;

	if (job->parent_path && strcmp(job->parent_path, path) == 0)
		return 0;
	fd = th_path_open_in_root(
		job->tree, *path ? path : ".", O_RDONLY | O_DIRECTORY, 0);
	if (fd < 0 && errno == ENOENT) {
		made = th_path_make_behind_links(job->tree, path);
		th_close(&made);
		fd = th_path_open_in_root(
			job->tree, path, O_RDONLY | O_DIRECTORY, 0);
	}
	if (fd < 0 && errno == ENOTDIR)
		return refuse(path,
			"is a file, but other entries are inside it", err);
	if (fd < 0)
		return fail_entry(path, err);
	th_close(&job->parent);
	free(job->parent_path);
	job->inherits = fstat(fd, &st) || st.st_mode & S_ISGID;
	job->parent = fd;
	job->parent_path = strdup(path);
	return job->parent_path ? 0 : th_fail_memory(err);
}

/* The folder changes its nature: what was opened through it is stale. */
static void forget_parent(struct job *job)
{
	th_close(&job->parent);
	free(job->parent_path);
	job->parent_path = NULL;
}

static bool is_whiteout(const struct stat *st)
{
	return S_ISCHR(st->st_mode) && st->st_rdev == makedev(0, 0);
}

/* Makes room for an entry. Returns 1 where a folder is there that the new one
 * may take over, 2 where a whiteout was, 0 where nothing is left, -1. */
static int make_room(struct job *job, const char *name, bool folder,
	const char *full, struct th_error *err)
{
	struct stat st;

	if (fstatat(job->parent, name, &st, AT_SYMLINK_NOFOLLOW))
		return errno == ENOENT ? 0 : fail_entry(full, err);
	if (folder && S_ISDIR(st.st_mode))
		return 1;
	if (S_ISDIR(st.st_mode)) {
		if (th_tree_remove(job->parent, name, err))
			return -1;
		return 0;
	}
	if (unlinkat(job->parent, name, 0))
		return fail_entry(full, err);
	return is_whiteout(&st) ? 2 : 0;
}

/* Two marks: an overlay in a user namespace looks for the other one. A user can
 * set only that; and a file system without it is none for such an overlay. */
static int set_opaque(
	int parent, const char *name, const char *full, struct th_error *err)
{
	int fd = openat(
		parent, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	bool marked =
		fd >= 0 && fsetxattr(fd, OPAQUE_ATTRIBUTE, "y", 1, 0) == 0;
	int rc = 0;

	if (!marked && (fd < 0 || errno != EPERM))
		rc = fail_entry(full, err);
	else if (fsetxattr(fd, OPAQUE_OF_USERS, "y", 1, 0) &&
		!(marked && errno == EOPNOTSUPP))
		rc = fail_entry(full, err);
	th_close(&fd);
	return rc;
}

static int apply_whiteout(struct job *job, const char *name, const char *full,
	struct th_error *err)
{
	const char *hidden = name + strlen(WHITEOUT);
	struct stat st;

	if (strcmp(name, OPAQUE) == 0)
		return set_opaque(job->parent, ".", full, err);
	/* Other names of this form are notes of tools, not files. */
	if (strncmp(hidden, WHITEOUT, strlen(WHITEOUT)) == 0)
		return 0;
	if (!*hidden || strcmp(hidden, ".") == 0 || strcmp(hidden, "..") == 0)
		return refuse(full, "is a whiteout without a name", err);
	/* It hides what lower layers have, not what this one brings. */
	if (fstatat(job->parent, hidden, &st, AT_SYMLINK_NOFOLLOW) == 0)
		return S_ISDIR(st.st_mode)
			? set_opaque(job->parent, hidden, full, err)
			: 0;
	if (mknodat(job->parent, hidden, S_IFCHR, makedev(0, 0)))
		return fail_entry(full, err);
	return 0;
}

static int write_data(struct job *job, struct archive *archive, int fd,
	int64_t size, const char *full, struct th_error *err)
{
	const void *data;
	size_t len;
	la_int64_t offset, end = 0;
	uint64_t written = 0;
	int rc;

	while ((rc = archive_read_data_block(archive, &data, &len, &offset)) ==
		ARCHIVE_OK) {
		const char *at = data;

		written += len;
		while (len > 0) {
			ssize_t done = pwrite(fd, at, len, offset);

			if (done < 0 && errno == EINTR)
				continue;
			if (done < 0)
				return fail_entry(full, err);
			at += done;
			offset += done;
			len -= (size_t)done;
		}
		end = offset;
	}
	if (rc != ARCHIVE_EOF)
		return th_fail(err, TH_FAILED,
			"the archive is damaged at the entry \"%.200s\": %s",
			full, archive_error_string(archive));
	job->disk_bytes += (written + BLOCK_BYTES - 1) & ~(BLOCK_BYTES - 1);
	/* A file that ends in a hole. */
	if (end < size && ftruncate(fd, size))
		return fail_entry(full, err);
	return 0;
}

static int keep_link(struct job *job, const char *name, const char *target,
	struct th_error *err)
{
	size_t count = job->link_count;
	struct pending_link *links = job->links;

	if ((count & (count - 1)) == 0)
		links = realloc(
			links, (count ? count * 2 : 1) * sizeof(*links));
	if (!links)
		return th_fail_memory(err);
	job->links = links;
	links[count].name = strdup(name);
	links[count].target = strdup(target);
	job->link_count++;
	return links[count].name && links[count].target ? 0
							: th_fail_memory(err);
}

/* last: nothing comes any more, so that the target must be there. */
static int apply_hard_link(struct job *job, const char *name,
	const char *target, const char *full, bool last, struct th_error *err)
{
	char clean[NAME_BYTES_MAX], *slash;
	int folder, rc;

	if (clean_name(target, clean, err))
		return -1;
	if (strcmp(clean, full) == 0)
		return 0;
	if (make_room(job, name, false, full, err) < 0)
		return -1;
	slash = strrchr(clean, '/');
	if (slash)
		*slash = '\0';
	folder = th_path_open_in_root(
		job->tree, slash ? clean : ".", O_RDONLY | O_DIRECTORY, 0);
	rc = folder < 0 ? -1
			: linkat(folder, slash ? slash + 1 : clean, job->parent,
				  name, 0);
	if (rc && (errno == ENOENT || errno == ENOTDIR))
		rc = last ? refuse(full,
				    "is a hard link to a file that does not "
				    "exist",
				    err)
			  : keep_link(job, full, target, err);
	else if (rc)
		fail_entry(full, err);
	th_close(&folder);
	return rc;
}

static int remember_time(struct job *job, const char *full,
	struct timespec time, struct th_error *err)
{
	struct folder_time *times = job->times;

	if ((job->time_count & (job->time_count - 1)) == 0) {
		size_t room = job->time_count ? job->time_count * 2 : 16;

		if (job->time_count == 0 || job->time_count >= 16)
			times = realloc(times, room * sizeof(*times));
	}
	if (!times)
		return th_fail_memory(err);
	job->times = times;
	times[job->time_count].path = strdup(*full ? full : ".");
	times[job->time_count].time = time;
	if (!times[job->time_count].path)
		return th_fail_memory(err);
	job->time_count++;
	return 0;
}

static bool wanted_attribute(const char *name)
{
	/* The host's labels do not come from an image, and nothing that an
	 * archive says may steer the overlay. */
	return (strncmp(name, "user.", 5) == 0 &&
		       strncmp(name, "user.overlay.", 13) != 0) ||
		strcmp(name, "security.capability") == 0;
}

static int set_attributes(int fd, struct archive_entry *entry, const char *full,
	struct th_error *err)
{
	const char *name;
	const void *value;
	char path[TH_FD_PATH];
	size_t len;

	archive_entry_xattr_reset(entry);
	while (archive_entry_xattr_next(entry, &name, &value, &len) ==
		ARCHIVE_OK) {
		if (!wanted_attribute(name))
			continue;
		/* A link's or device's own attribute cannot be reached. */
		if (setxattr(th_fd_path(fd, "", path), name, value, len, 0) &&
			errno != ENOTSUP && errno != EPERM)
			return fail_entry(full, err);
	}
	return 0;
}

static void entry_times(struct archive_entry *entry, struct timespec times[2])
{
	times[0].tv_sec = archive_entry_mtime(entry);
	times[0].tv_nsec = archive_entry_mtime_nsec(entry);
	times[1] = times[0];
}

/* Whether what is made now belongs to whom the entry says without a word. */
static bool has_owner(const struct job *job, struct archive_entry *entry)
{
	return !job->inherits && (uid_t)archive_entry_uid(entry) == geteuid() &&
		(gid_t)archive_entry_gid(entry) == getegid();
}

/* An owner that this user namespace does not have: the file stays root's. */
static bool is_unmapped(int sys)
{
	return sys == EINVAL;
}

/* Owner before mode: a change of owner takes set-id bits away. And both before
 * the attributes: it takes capabilities away as well. */
static int set_metadata(struct job *job, const char *name,
	struct archive_entry *entry, const char *full, struct th_error *err)
{
	mode_t type = archive_entry_filetype(entry);
	mode_t mode = archive_entry_perm(entry) & 07777;
	struct timespec times[2];
	int fd, rc = 0;

	entry_times(entry, times);
	/* By descriptor: what is opened here is what gets the attributes. */
	fd = openat(job->parent, name, O_PATH | O_NOFOLLOW | O_CLOEXEC);
	if (fd < 0)
		return fail_entry(full, err);
	if ((fchownat(fd, "", (uid_t)archive_entry_uid(entry),
		     (gid_t)archive_entry_gid(entry), AT_EMPTY_PATH) &&
		    !is_unmapped(errno)) ||
		(type != AE_IFLNK && th_fd_chmod(fd, mode)))
		rc = fail_entry(full, err);
	if (rc == 0 && archive_entry_xattr_count(entry) > 0)
		rc = set_attributes(fd, entry, full, err);
	if (rc == 0 && type == AE_IFDIR)
		rc = remember_time(job, full, times[0], err);
	else if (rc == 0 && utimensat(fd, "", times, AT_EMPTY_PATH))
		rc = fail_entry(full, err);
	th_close(&fd);
	return rc;
}

/* The same for a new file that is open: most need their time only. */
static int set_file_metadata(struct job *job, int fd,
	struct archive_entry *entry, const char *full, struct th_error *err)
{
	mode_t mode = archive_entry_perm(entry) & 07777;
	bool owned = has_owner(job, entry);
	struct timespec times[2];

	entry_times(entry, times);
	if (!owned &&
		fchown(fd, (uid_t)archive_entry_uid(entry),
			(gid_t)archive_entry_gid(entry)) &&
		!is_unmapped(errno))
		return fail_entry(full, err);
	/* Writing takes set-id bits away too. */
	if ((!owned || mode & 06000) && fchmod(fd, mode))
		return fail_entry(full, err);
	if (archive_entry_xattr_count(entry) > 0 &&
		set_attributes(fd, entry, full, err))
		return -1;
	return futimens(fd, times) ? fail_entry(full, err) : 0;
}

static int apply_folder(struct job *job, const char *name, const char *full,
	struct th_error *err)
{
	int there = make_room(job, name, true, full, err);

	if (there < 0 || there == 1)
		return there < 0 ? -1 : 0;
	if (mkdirat(job->parent, name, 0700))
		return fail_entry(full, err);
	job->disk_bytes += BLOCK_BYTES;
	return there == 2 ? set_opaque(job->parent, name, full, err) : 0;
}

static int apply_file(struct job *job, struct archive *archive,
	struct archive_entry *entry, const char *name, const char *full,
	struct th_error *err)
{
	int64_t size = archive_entry_size(entry);
	int fd, rc;

	if (size < 0)
		return refuse(full, "has a negative size", err);
	fd = openat(job->parent, name,
		O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC,
		archive_entry_perm(entry) & 07777);
	/* Most names are new: only a clash needs a look. */
	if (fd < 0 && errno == EEXIST) {
		if (make_room(job, name, false, full, err) < 0)
			return -1;
		forget_parent(job);
		return 1;
	}
	if (fd < 0)
		return fail_entry(full, err);
	rc = write_data(job, archive, fd, size, full, err);
	if (rc == 0)
		rc = set_file_metadata(job, fd, entry, full, err);
	th_close(&fd);
	return rc;
}

static int apply_special(struct job *job, struct archive_entry *entry,
	const char *name, const char *full, struct th_error *err)
{
	mode_t type = archive_entry_filetype(entry);
	dev_t dev = type == AE_IFIFO ? 0 : archive_entry_rdev(entry);
	const char *target = archive_entry_symlink(entry);
	int rc;

	if (make_room(job, name, false, full, err) < 0)
		return -1;
	if (type == AE_IFLNK) {
		if (!target || !*target)
			return refuse(full, "is a link without a target", err);
		rc = symlinkat(target, job->parent, name);
	} else if (type == AE_IFCHR && dev == makedev(0, 0)) {
		return refuse(full,
			"is a character device 0:0, which means a deletion",
			err);
	} else if (type == AE_IFCHR || type == AE_IFBLK || type == AE_IFIFO) {
		rc = mknodat(job->parent, name, type | 0600, dev);
		/* A user namespace has no device nodes; containers get theirs
		 * in /dev anyway. */
		if (rc && errno == EPERM && type != AE_IFIFO)
			return 1;
	} else {
		return refuse(
			full, "has a type that layers cannot contain", err);
	}
	return rc ? fail_entry(full, err) : 0;
}

static int apply_entry(struct job *job, struct archive *archive,
	struct archive_entry *entry, struct th_error *err)
{
	const char *raw = archive_entry_pathname(entry);
	const char *link = archive_entry_hardlink(entry);
	char full[NAME_BYTES_MAX], folder[NAME_BYTES_MAX];
	char *name;
	int rc;

	if (!raw)
		raw = archive_entry_pathname_utf8(entry);
	if (!raw)
		return refuse("?", "has an unreadable name", err);
	if (clean_name(raw, full, err))
		return -1;
	snprintf(folder, sizeof(folder), "%s", full);
	name = strrchr(folder, '/');
	if (name)
		*name++ = '\0';
	if (open_parent(job, name ? folder : "", err))
		return -1;
	if (!name)
		name = folder;
	if (!*name) {
		/* The root itself: it is there, and only has attributes. */
		if (archive_entry_filetype(entry) != AE_IFDIR)
			return refuse(
				raw, "would replace the layer's root", err);
		return set_metadata(job, ".", entry, "", err);
	}
	if (strncmp(name, WHITEOUT, strlen(WHITEOUT)) == 0)
		return apply_whiteout(job, name, full, err);
	if (link)
		return apply_hard_link(job, name, link, full, false, err);
	if (archive_entry_filetype(entry) == AE_IFDIR) {
		rc = apply_folder(job, name, full, err);
	} else if (archive_entry_filetype(entry) == AE_IFREG) {
		rc = apply_file(job, archive, entry, name, full, err);
		if (rc == 1 &&
			open_parent(job, name == folder ? "" : folder, err) ==
				0)
			rc = apply_file(job, archive, entry, name, full, err);
		return rc ? -1 : 0;
	} else {
		rc = apply_special(job, entry, name, full, err);
	}
	return rc ? -1 : set_metadata(job, name, entry, full, err);
}

static int apply_pending_links(struct job *job, struct th_error *err)
{
	for (size_t i = 0; i < job->link_count; i++) {
		char *full = job->links[i].name, *name = strrchr(full, '/');
		char folder[NAME_BYTES_MAX];
		struct stat st;

		snprintf(folder, sizeof(folder), "%.*s",
			name ? (int)(name - full) : 0, full);
		name = name ? name + 1 : full;
		if (open_parent(job, folder, err))
			return -1;
		/* A later entry of that name stands. */
		if (fstatat(job->parent, name, &st, AT_SYMLINK_NOFOLLOW) == 0)
			continue;
		if (apply_hard_link(
			    job, name, job->links[i].target, full, true, err))
			return -1;
	}
	return 0;
}

static int set_folder_times(struct job *job, struct th_error *err)
{
	for (size_t i = 0; i < job->time_count; i++) {
		struct timespec times[2] = {
			job->times[i].time, job->times[i].time};
		int fd = th_path_open_beneath(job->tree, job->times[i].path,
			O_RDONLY | O_DIRECTORY, 0);
		int rc = 0;

		/* One that a later entry replaced has no time to get. */
		if (fd >= 0)
			rc = futimens(fd, times);
		th_close(&fd);
		if (rc)
			return fail_entry(job->times[i].path, err);
	}
	return 0;
}

static int read_entries(
	struct job *job, struct archive *archive, struct th_error *err)
{
	struct archive_entry *entry;
	long count = 0;
	int rc;

	/* ARCHIVE_WARN: the entry can be used, something in it was odd. */
	while ((rc = archive_read_next_header(archive, &entry)) == ARCHIVE_OK ||
		rc == ARCHIVE_WARN) {
		if (++count > ENTRIES_MAX)
			return th_fail(err, TH_FAILED,
				"the archive has more than %d entries",
				ENTRIES_MAX);
		if (apply_entry(job, archive, entry, err))
			return -1;
	}
	if (rc != ARCHIVE_EOF)
		return th_fail(err, TH_FAILED, "the archive is damaged: %s",
			archive_error_string(archive));
	return 0;
}

/* The digest counts what stands behind the archive's end as well. */
static int drain(struct th_source *source, struct th_error *err)
{
	const void *data;
	ssize_t got;

	while ((got = source->next(source, &data, err)) > 0)
		;
	return got < 0 ? -1 : 0;
}

int th_layer_apply(struct th_source *source, int tree_fd, uint64_t *disk_bytes,
	struct th_error *err)
{
	struct job job = {.source = source,
		.source_err = err,
		.tree = tree_fd,
		.parent = -1};
	/* Names in archives are UTF-8, whatever the caller's language. */
	locale_t utf8 = newlocale(LC_CTYPE_MASK, "C.UTF-8", (locale_t)0);
	locale_t before = utf8 ? uselocale(utf8) : (locale_t)0;
	struct archive *archive =
		th_late_archive(err) ? NULL : archive_read_new();
	/* Files are made with the modes that they are to have. */
	mode_t mask = umask(0);
	int rc = -1;

	if (!archive) {
		th_fail_memory(err);
		goto out;
	}
	archive_read_support_format_tar(archive);
	archive_read_support_format_empty(archive);
	if (archive_read_open(archive, &job, NULL, read_source, NULL)) {
		th_fail(err, TH_FAILED, "the layer is not a tar archive: %s",
			archive_error_string(archive));
		goto out;
	}
	/* Links may lead to entries that come later, and a folder's time
	 * changes with each entry in it: both wait until everything is there.
	 */
	if (read_entries(&job, archive, err) || drain(source, err) ||
		apply_pending_links(&job, err) || set_folder_times(&job, err))
		goto out;
	*disk_bytes = job.disk_bytes;
	rc = 0;
out:
	umask(mask);
	if (archive)
		archive_read_free(archive);
	forget_parent(&job);
	for (size_t i = 0; i < job.time_count; i++)
		free(job.times[i].path);
	free(job.times);
	for (size_t i = 0; i < job.link_count; i++) {
		free(job.links[i].name);
		free(job.links[i].target);
	}
	free(job.links);
	if (utf8) {
		uselocale(before);
		freelocale(utf8);
	}
	return rc;
}
