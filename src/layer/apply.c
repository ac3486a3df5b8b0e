#include "layer/apply.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "layer/apply_parts.h"
#include "layer/attributes.h"

#define WHITEOUT ".wh."
#define OPAQUE ".wh..wh..opq"
#define ENTRIES_MAX 20000000

int apply_refuse(const char *name, const char *why, struct th_error *err)
{
	return th_fail(err, TH_FAILED, "the entry \"%.200s\" %s", name, why);
}

int apply_fail(const char *name, struct th_error *err)
{
	return th_fail_write(
		err, errno, "cannot write the entry \"%.200s\"", name);
}

int apply_clean_name(
	const char *name, char clean[TH_LAYER_PATH_MAX], struct th_error *err)
{
	const char *whole = name;
	size_t used = 0;

	while (*name) {
		size_t len = strcspn(name, "/");

		if (len == 2 && name[0] == '.' && name[1] == '.')
			return apply_refuse(whole,
				"leads out of the layer with \"..\"", err);
		if (len > 0 && !(len == 1 && name[0] == '.')) {
			if (len > 255 || used + len + 2 > TH_LAYER_PATH_MAX)
				return apply_refuse(whole,
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

bool apply_grow(void **list, size_t count, size_t item_bytes)
{
	void *bigger;

	/* Full whenever the number is a power of two. */
	if (count & (count - 1))
		return true;
	bigger = realloc(*list, (count ? count * 2 : 1) * item_bytes);
	if (!bigger)
		return false;
	*list = bigger;
	return true;
}

/* ---- what is there already ---- */

int apply_make_room(struct job *job, const char *name, bool folder,
	const char *full, struct th_error *err)
{
	struct stat st;

	if (fstatat(job->parent, name, &st, AT_SYMLINK_NOFOLLOW))
		return errno == ENOENT ? 0 : apply_fail(full, err);
	if (folder && S_ISDIR(st.st_mode))
		return 1;
	if (S_ISDIR(st.st_mode)) {
		if (th_tree_remove(job->parent, name, err))
			return -1;
		return 0;
	}
	if (unlinkat(job->parent, name, 0))
		return apply_fail(full, err);
	return th_is_whiteout(&st) ? 2 : 0;
}

/* What a whiteout is about is hidden, and what this layer brings stays. */
static int hide(struct job *job, const char *hidden, const char *full,
	struct th_error *err)
{
	struct stat st;

	if (fstatat(job->parent, hidden, &st, AT_SYMLINK_NOFOLLOW) == 0) {
		if (th_is_whiteout(&st))
			return 0;
		/* Where whiteouts come first it is a folder for further ones:
		 * with it goes all that they are about. */
		if (job->part == PART_WHITEOUTS) {
			if (th_tree_remove(job->parent, hidden, err))
				return -1;
		} else if (S_ISDIR(st.st_mode)) {
			job->notes->again = true;
			return apply_set_opaque(job->parent, hidden, full, err);
		} else {
			return 0;
		}
	}
	return mknodat(job->parent, hidden, S_IFCHR, 0) ? apply_fail(full, err)
							: 0;
}

/* Whether there is anything that can be hidden. Where only one layer has a
 * folder, the kernel lists marks in it like other files. */
static int is_below(struct job *job, const char *folder, const char *hidden,
	struct th_error *err)
{
	char path[TH_LAYER_PATH_MAX];
	struct th_sight found;
	int rc = th_view_resolve(job->view, folder, path, err);

	if (rc <= 0)
		return rc;
	if (!th_view_join(path, hidden))
		return 0;
	rc = th_view_look(job->view, path, &found, err);
	if (rc == 1)
		th_close(&found.fd);
	return rc;
}

static int note_deleted(struct job *job, const char *folder, const char *hidden,
	struct th_error *err)
{
	char *path = th_format("%s%s%s", folder, *folder ? "/" : "", hidden);

	return th_strings_take(&job->notes->paths[TH_NOTE_DELETED], path)
		? th_fail_memory(err)
		: 0;
}

/* Where whiteouts come first all that is in it is about what is hidden now. */
static int empty_parent(struct job *job, const char *full, struct th_error *err)
{
	int fd = openat(job->parent, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *list = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = 0;

	if (!list) {
		th_close(&fd);
		return apply_fail(full, err);
	}
	while (rc == 0 && (entry = readdir(list))) {
		if (strcmp(entry->d_name, ".") != 0 &&
			strcmp(entry->d_name, "..") != 0)
			rc = th_tree_remove(job->parent, entry->d_name, err);
	}
	closedir(list);
	return rc;
}

static int make_opaque(struct job *job, const char *full, struct th_error *err)
{
	if (job->part == PART_WHITEOUTS && empty_parent(job, full, err))
		return -1;
	return apply_set_opaque(job->parent, ".", full, err);
}

static int apply_whiteout(struct job *job, const char *folder, const char *name,
	const char *full, struct th_error *err)
{
	const char *hidden = name + strlen(WHITEOUT);
	int rc;

	/* Other names of this form are notes of tools, not files. */
	if (strcmp(name, OPAQUE) != 0 &&
		strncmp(hidden, WHITEOUT, strlen(WHITEOUT)) == 0)
		return 0;
	if (!*hidden || strcmp(hidden, ".") == 0 || strcmp(hidden, "..") == 0)
		return apply_refuse(full, "is a whiteout without a name", err);
	if (strcmp(name, OPAQUE) == 0 && !*folder) {
		job->notes->opaque = true;
		return 0;
	}
	if (strcmp(name, OPAQUE) == 0) {
		rc = apply_open_parent(job, folder, true, err);
		return rc == 1 ? make_opaque(job, full, err) : rc;
	}
	rc = job->view ? is_below(job, folder, hidden, err)
		       : note_deleted(job, folder, hidden, err);
	if (rc < 0 || (job->view && rc == 0))
		return rc;
	rc = apply_open_parent(job, folder, true, err);
	return rc == 1 ? hide(job, hidden, full, err) : rc;
}

/* ---- attributes ---- */

int apply_remember_time(struct job *job, const char *path, ino_t inode,
	struct timespec time, struct th_error *err)
{
	struct folder_time *one;

	if (!apply_grow((void **)&job->times, job->time_count, sizeof(*one)))
		return th_fail_memory(err);
	one = &job->times[job->time_count++];
	one->path = strdup(*path ? path : ".");
	one->inode = inode;
	one->time = time;
	return one->path ? 0 : th_fail_memory(err);
}

static int set_attributes(int fd, const struct th_tar_entry *entry,
	const char *full, struct th_error *err)
{
	char path[TH_FD_PATH];

	for (size_t i = 0; i < entry->attribute_count; i++) {
		const struct th_tar_attribute *one = &entry->attributes[i];

		if (!th_layer_wants_attribute(one->name))
			continue;
		/* A link's or device's own attribute cannot be reached. */
		if (setxattr(th_fd_path(fd, "", path), one->name, one->value,
			    one->len, 0) &&
			errno != ENOTSUP && errno != EPERM)
			return apply_fail(full, err);
	}
	return 0;
}

static void entry_times(
	const struct th_tar_entry *entry, struct timespec times[2])
{
	times[0] = times[1] = entry->mtime;
}

/* Whether what is made now belongs to whom the entry says without a word. */
static bool has_owner(const struct job *job, const struct th_tar_entry *entry)
{
	return !job->inherits && entry->uid == geteuid() &&
		entry->gid == getegid();
}

static int set_folder_metadata(struct job *job, int fd,
	const struct th_tar_entry *entry, const char *full,
	struct th_error *err)
{
	struct stat st;

	if (fstat(fd, &st))
		return apply_fail(full, err);
	return apply_remember_time(job, full, st.st_ino, entry->mtime, err);
}

/* Owner before mode: a change of owner takes set-id bits away. And both before
 * the attributes: it takes capabilities away as well. */
static int set_metadata(struct job *job, const char *name,
	const struct th_tar_entry *entry, const char *full,
	struct th_error *err)
{
	struct timespec times[2];
	int fd, rc = 0;

	entry_times(entry, times);
	/* By descriptor: what is opened here is what gets the attributes. */
	fd = openat(job->parent, name, O_PATH | O_NOFOLLOW | O_CLOEXEC);
	if (fd < 0)
		return apply_fail(full, err);
	if ((fchownat(fd, "", entry->uid, entry->gid, AT_EMPTY_PATH) &&
		    !th_layer_is_unmapped(errno)) ||
		(entry->type != S_IFLNK && th_fd_chmod(fd, entry->mode)))
		rc = apply_fail(full, err);
	if (rc == 0 && entry->attribute_count > 0)
		rc = set_attributes(fd, entry, full, err);
	if (rc == 0 && entry->type == S_IFDIR)
		rc = set_folder_metadata(job, fd, entry, full, err);
	else if (rc == 0 && utimensat(fd, "", times, AT_EMPTY_PATH))
		rc = apply_fail(full, err);
	th_close(&fd);
	return rc;
}

/* The same for a new file that is open: most need their time only. */
static int set_file_metadata(struct job *job, int fd,
	const struct th_tar_entry *entry, const char *full,
	struct th_error *err)
{
	bool owned = has_owner(job, entry);
	struct timespec times[2];

	entry_times(entry, times);
	if (!owned && fchown(fd, entry->uid, entry->gid) &&
		!th_layer_is_unmapped(errno))
		return apply_fail(full, err);
	/* Writing takes set-id bits away too. */
	if ((!owned || entry->mode & 06000) && fchmod(fd, entry->mode))
		return apply_fail(full, err);
	if (entry->attribute_count > 0 && set_attributes(fd, entry, full, err))
		return -1;
	return futimens(fd, times) ? apply_fail(full, err) : 0;
}

/* ---- entries ---- */

/* One that was made for what lies in it has its own entry after all. */
static int name_implied(struct job *job, const char *name, const char *full,
	struct th_error *err)
{
	struct stat st;

	if (!job->implied_count)
		return 0;
	if (fstatat(job->parent, name, &st, AT_SYMLINK_NOFOLLOW))
		return apply_fail(full, err);
	if (!apply_grow((void **)&job->named, job->named_count,
		    sizeof(*job->named)))
		return th_fail_memory(err);
	job->named[job->named_count++] = st.st_ino;
	return 0;
}

static int apply_folder(struct job *job, const char *name, const char *full,
	struct th_error *err)
{
	int there = apply_make_room(job, name, true, full, err);

	if (there < 0)
		return -1;
	if (there == 1)
		return name_implied(job, name, full, err);
	if (mkdirat(job->parent, name, 0700))
		return apply_fail(full, err);
	job->disk_bytes += BLOCK_BYTES;
	return there == 2 ? apply_set_opaque(job->parent, name, full, err) : 0;
}

static int write_data(struct job *job, int fd, uint64_t size, const char *full,
	struct th_error *err)
{
	const void *data;
	size_t len;
	uint64_t offset, end = 0, written = 0;
	int rc;

	while ((rc = th_tar_data(job->tar, &data, &len, &offset, err)) == 1) {
		const char *at = data;

		written += len;
		while (len > 0) {
			ssize_t done = pwrite(fd, at, len, (off_t)offset);

			if (done < 0 && errno == EINTR)
				continue;
			if (done < 0)
				return apply_fail(full, err);
			at += done;
			offset += (uint64_t)done;
			len -= (size_t)done;
		}
		end = offset;
	}
	if (rc < 0)
		return -1;
	job->disk_bytes += (written + BLOCK_BYTES - 1) & ~(BLOCK_BYTES - 1);
	/* A file that ends in a hole. */
	if (end < size && ftruncate(fd, (off_t)size))
		return apply_fail(full, err);
	return 0;
}

static int apply_file(struct job *job, const struct th_tar_entry *entry,
	const char *name, const char *full, struct th_error *err)
{
	int fd = -1, rc;

	for (int tries = 0; fd < 0; tries++) {
		fd = openat(job->parent, name,
			O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC,
			entry->mode);
		/* Most names are new: only a clash needs a look. */
		if (fd < 0 && (errno != EEXIST || tries))
			return apply_fail(full, err);
		if (fd < 0 && apply_make_room(job, name, false, full, err) < 0)
			return -1;
	}
	rc = write_data(job, fd, entry->size_bytes, full, err);
	if (rc == 0)
		rc = set_file_metadata(job, fd, entry, full, err);
	th_close(&fd);
	return rc;
}

/* A user namespace has no device nodes; containers get theirs in /dev anyway.
 * But what is below must not come out instead. */
static int leave_node(struct job *job, const char *name, const char *full,
	struct th_error *err)
{
	char folder[TH_LAYER_PATH_MAX];
	int rc;

	if (th_strings_add(&job->notes->paths[TH_NOTE_NODE], full))
		return th_fail_memory(err);
	if (!job->view)
		return 0;
	snprintf(folder, sizeof(folder), "%.*s",
		name > full ? (int)(name - full - 1) : 0, full);
	rc = is_below(job, folder, name, err);
	if (rc == 1 && mknodat(job->parent, name, S_IFCHR, 0))
		rc = apply_fail(full, err);
	return rc < 0 ? -1 : 0;
}

/* 1 where a node is left out. */
static int apply_special(struct job *job, const struct th_tar_entry *entry,
	const char *name, const char *full, struct th_error *err)
{
	dev_t dev = entry->type == S_IFIFO ? 0 : entry->device;
	int rc;

	if (entry->type == S_IFCHR && dev == 0)
		return apply_refuse(full,
			"is a character device 0:0, which means a deletion",
			err);
	if (entry->type == S_IFLNK && !*entry->link)
		return apply_refuse(full, "is a link without a target", err);
	if (apply_make_room(job, name, false, full, err) < 0)
		return -1;
	if (entry->type == S_IFLNK)
		rc = symlinkat(entry->link, job->parent, name);
	else
		rc = mknodat(job->parent, name, entry->type | 0600, dev);
	if (rc && errno == EPERM && entry->type != S_IFLNK &&
		entry->type != S_IFIFO) {
		return leave_node(job, name, full, err) ? -1 : 1;
	}
	return rc ? apply_fail(full, err) : 0;
}

static int apply_root(
	struct job *job, const struct th_tar_entry *entry, struct th_error *err)
{
	if (entry->type != S_IFDIR)
		return apply_refuse(
			entry->name, "would replace the layer's root", err);
	job->notes->root = true;
	if (apply_open_parent(job, "", false, err) != 1)
		return -1;
	return set_metadata(job, ".", entry, "", err);
}

static int apply_entry(
	struct job *job, const struct th_tar_entry *entry, struct th_error *err)
{
	char full[TH_LAYER_PATH_MAX], folder[TH_LAYER_PATH_MAX];
	const char *name;
	bool whiteout;
	int rc;

	if (apply_clean_name(entry->name, full, err))
		return -1;
	name = th_path_last(full);
	snprintf(folder, sizeof(folder), "%.*s",
		name > full ? (int)(name - full - 1) : 0, full);
	whiteout = strncmp(name, WHITEOUT, strlen(WHITEOUT)) == 0;
	if (job->part == (whiteout ? PART_REST : PART_WHITEOUTS))
		return 0;
	if (whiteout)
		return apply_whiteout(job, folder, name, full, err);
	if (!*name)
		return apply_root(job, entry, err);
	if (apply_open_parent(job, folder, false, err) != 1)
		return -1;
	if (entry->type == 0)
		return apply_hard_link(
			job, name, entry->link, full, false, err);
	if (entry->type == S_IFREG)
		return apply_file(job, entry, name, full, err);
	rc = entry->type == S_IFDIR
		? apply_folder(job, name, full, err)
		: apply_special(job, entry, name, full, err);
	if (rc)
		return rc < 0 ? -1 : 0;
	return set_metadata(job, name, entry, full, err);
}

/* ---- all of it ---- */

static int set_folder_times(struct job *job, struct th_error *err)
{
	for (size_t i = 0; i < job->time_count; i++) {
		const struct folder_time *one = &job->times[i];
		struct timespec times[2] = {one->time, one->time};
		int fd = th_path_open_in_root(
			job->tree, one->path, O_RDONLY | O_DIRECTORY, 0);
		struct stat st;
		int rc = 0;

		/* One that a later entry replaced has no time to get. */
		if (fd >= 0 && fstat(fd, &st) == 0 && st.st_ino == one->inode)
			rc = futimens(fd, times);
		th_close(&fd);
		if (rc)
			return apply_fail(one->path, err);
	}
	return 0;
}

static int compare_inodes(const void *a, const void *b)
{
	ino_t left = *(const ino_t *)a, right = *(const ino_t *)b;

	return left < right ? -1 : left > right;
}

static int compare_implied(const void *a, const void *b)
{
	return strcmp(((const struct implied *)a)->path,
		((const struct implied *)b)->path);
}

/* Sorted by path, without those that have got an entry of their own and those
 * that were replaced. */
static int note_implied(struct job *job, struct th_error *err)
{
	if (!job->implied_count)
		return 0;
	if (job->named_count)
		qsort(job->named, job->named_count, sizeof(*job->named),
			compare_inodes);
	qsort(job->implied, job->implied_count, sizeof(*job->implied),
		compare_implied);
	for (size_t i = 0; i < job->implied_count; i++) {
		const struct implied *one = &job->implied[i];
		int fd = th_path_open_beneath(
			job->tree, one->path, O_PATH | O_DIRECTORY, 0);
		struct stat st;
		bool there = fd >= 0 && fstat(fd, &st) == 0 &&
			st.st_ino == one->inode;

		th_close(&fd);
		if (!there ||
			(job->named_count &&
				bsearch(&one->inode, job->named,
					job->named_count, sizeof(*job->named),
					compare_inodes)))
			continue;
		if (th_strings_add(
			    &job->notes->paths[one->bare ? TH_NOTE_BARE
							 : TH_NOTE_IMPLIED],
			    one->path))
			return th_fail_memory(err);
	}
	return 0;
}

static int read_entries(struct job *job, struct th_error *err)
{
	const struct th_tar_entry *entry;
	long count = 0;
	int rc;

	while ((rc = th_tar_next(job->tar, &entry, err)) == 1) {
		if (++count > ENTRIES_MAX)
			return th_fail(err, TH_FAILED,
				"the archive has more than %d entries",
				ENTRIES_MAX);
		if (apply_entry(job, entry, err))
			return -1;
	}
	return rc;
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

static void release(struct job *job)
{
	th_tar_free(job->tar);
	apply_forget_parent(job);
	for (size_t i = 0; i < job->time_count; i++)
		free(job->times[i].path);
	free(job->times);
	for (size_t i = 0; i < job->link_count; i++) {
		free(job->links[i].name);
		free(job->links[i].target);
	}
	free(job->links);
	for (size_t i = 0; i < job->implied_count; i++)
		free(job->implied[i].path);
	free(job->implied);
	free(job->named);
}

/* Links may lead to entries that come later, and a folder's time changes with
 * each entry in it: both wait until everything is there. */
static int run(struct job *job, struct th_source *source, struct th_error *err)
{
	/* Files are made with the modes that they are to have. */
	mode_t mask = umask(0);
	int rc = -1;

	job->tar = th_tar_new(source);
	if (!job->tar)
		th_fail_memory(err);
	else if (read_entries(job, err) == 0 && drain(source, err) == 0 &&
		apply_pending_links(job, err) == 0 &&
		set_folder_times(job, err) == 0)
		rc = note_implied(job, err);
	umask(mask);
	release(job);
	return rc;
}

int th_layer_apply(struct th_source *source, int tree_fd,
	struct th_layer_notes *notes, uint64_t *disk_bytes,
	struct th_error *err)
{
	struct job job = {.tree = tree_fd, .parent = -1, .notes = notes};
	int rc;

	memset(notes, 0, sizeof(*notes));
	rc = run(&job, source, err);
	if (rc == 0)
		*disk_bytes = job.disk_bytes;
	return rc;
}

/* The tree itself is seen on top of what is below. */
static int run_above(struct job *job, struct th_source *source,
	struct th_view *below, struct th_error *err)
{
	int rc;

	job->view = below;
	job->below_count = th_view_count(below);
	if (th_view_add(below, job->tree, NULL, err))
		return -1;
	rc = run(job, source, err);
	th_view_drop(below);
	return rc;
}

int th_layer_apply_whiteouts(struct th_source *source, int tree_fd,
	struct th_view *below, struct th_layer_notes *notes,
	struct th_error *err)
{
	struct job job = {.tree = tree_fd,
		.parent = -1,
		.notes = notes,
		.part = PART_WHITEOUTS};

	memset(notes, 0, sizeof(*notes));
	return run_above(&job, source, below, err);
}

int th_layer_apply_above(struct th_source *source, int tree_fd,
	struct th_view *below, struct th_layer_notes *notes,
	uint64_t *disk_bytes, struct th_error *err)
{
	struct job job = {.tree = tree_fd,
		.parent = -1,
		.notes = notes,
		.part = PART_REST};
	int rc = run_above(&job, source, below, err);

	if (rc == 0)
		*disk_bytes = job.disk_bytes;
	return rc;
}
