/* Hard links, also to files of lower layers. */
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
#include "layer/apply_parts.h"
#include "layer/attributes.h"

static int keep_link(struct job *job, const char *name, const char *target,
	struct th_error *err)
{
	struct pending_link *one;

	if (!apply_grow((void **)&job->links, job->link_count, sizeof(*one)))
		return th_fail_memory(err);
	one = &job->links[job->link_count++];
	one->name = strdup(name);
	one->target = strdup(target);
	return one->name && one->target ? 0 : th_fail_memory(err);
}

/* ---- a file of a lower layer gets into the tree ---- */

/* The other names of a file: they are to be names of its copy. */
struct siblings {
	struct job *job;
	struct th_sight *found;
	int copy; /* O_PATH */
	const char *known; /* the name that it has already */
};

static int link_sibling(
	struct siblings *siblings, const char *path, struct th_error *err)
{
	struct job *job = siblings->job;
	char folder[TH_LAYER_PATH_MAX], from[TH_FD_PATH];
	struct th_sight found;
	const char *name = th_path_last(path);
	int rc;

	if (strcmp(path, siblings->known) == 0)
		return 0;
	rc = th_view_look(job->view, path, &found, err);
	if (rc <= 0)
		return rc;
	th_close(&found.fd);
	/* Hidden by something else, or another file by now. */
	if (found.first != siblings->found->layer ||
		found.st.st_ino != siblings->found->st.st_ino)
		return 0;
	snprintf(folder, sizeof(folder), "%.*s",
		name > path ? (int)(name - path - 1) : 0, path);
	rc = apply_open_parent(job, folder, false, err);
	if (rc != 1)
		return -1;
	th_fd_path(siblings->copy, "", from);
	return linkat(AT_FDCWD, from, job->parent, name, AT_SYMLINK_FOLLOW) &&
			errno != EEXIST
		? apply_fail(path, err)
		: 0;
}

static int look_through(struct siblings *siblings, int folder, const char *path,
	struct th_error *err)
{
	DIR *list = fdopendir(folder);
	struct dirent *entry;
	int rc = 0;

	if (!list) {
		th_close(&folder);
		return apply_fail(path, err);
	}
	while (rc == 0 && (entry = readdir(list))) {
		char below[TH_LAYER_PATH_MAX];
		int fd;

		if (strcmp(entry->d_name, ".") == 0 ||
			strcmp(entry->d_name, "..") == 0 ||
			(size_t)snprintf(below, sizeof(below), "%s%s%s", path,
				*path ? "/" : "",
				entry->d_name) >= sizeof(below))
			continue;
		if (entry->d_type != DT_DIR) {
			if (entry->d_ino == siblings->found->st.st_ino)
				rc = link_sibling(siblings, below, err);
			continue;
		}
		fd = openat(dirfd(list), entry->d_name,
			O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
		rc = fd < 0 ? apply_fail(below, err)
			    : look_through(siblings, fd, below, err);
	}
	closedir(list);
	return rc;
}

static int link_siblings(struct siblings *siblings, struct th_error *err)
{
	int tree = openat(
		th_view_tree(siblings->job->view, siblings->found->layer), ".",
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	if (tree < 0)
		return apply_fail(siblings->known, err);
	return look_through(siblings, tree, "", err);
}

/* Copies what lower layers have under the name, which is not in the tree. 1, 0
 * where they have nothing, -1. */
static int copy_up(struct job *job, const char *path, struct th_error *err)
{
	char folder[TH_LAYER_PATH_MAX];
	const char *name = th_path_last(path);
	struct th_sight found;
	struct siblings siblings = {
		.job = job, .found = &found, .copy = -1, .known = path};
	int rc = th_view_look(job->view, path, &found, err);

	if (rc <= 0)
		return rc;
	/* By another way it may be of this very layer. */
	if (S_ISDIR(found.st.st_mode) || found.layer == job->below_count) {
		th_close(&found.fd);
		return !S_ISDIR(found.st.st_mode);
	}
	snprintf(folder, sizeof(folder), "%.*s",
		name > path ? (int)(name - path - 1) : 0, path);
	rc = apply_open_parent(job, folder, false, err);
	if (rc == 1) {
		rc = th_layer_copy_file(found.fd, &found.st, job->parent, name)
			? apply_fail(path, err)
			: 0;
		job->disk_bytes += (uint64_t)found.st.st_blocks * 512;
	}
	if (rc == 0 && found.st.st_nlink > 1) {
		siblings.copy = openat(
			job->parent, name, O_PATH | O_NOFOLLOW | O_CLOEXEC);
		rc = siblings.copy < 0 ? apply_fail(path, err)
				       : link_siblings(&siblings, err);
	}
	th_close(&siblings.copy);
	th_close(&found.fd);
	return rc ? -1 : 1;
}

/* ---- */

/* The path of the target in the tree or below, with no link on the way but
 * perhaps the last part. 1, 0 where there is nothing, -1. */
static int resolve_target(struct job *job, const char *clean,
	char path[TH_LAYER_PATH_MAX], struct th_error *err)
{
	char folder[TH_LAYER_PATH_MAX];
	const char *name = th_path_last(clean);
	int rc;

	snprintf(folder, sizeof(folder), "%.*s",
		name > clean ? (int)(name - clean - 1) : 0, clean);
	rc = th_view_resolve(job->view, folder, path, err);
	if (rc <= 0)
		return rc;
	return th_view_join(path, name) ? 1 : 0;
}

/* A descriptor of the target's folder in the tree: -1 where the target is not
 * there. */
static int open_target(struct job *job, const char *clean, struct stat *st)
{
	char folder[TH_LAYER_PATH_MAX];
	const char *name = th_path_last(clean);
	int fd;

	snprintf(folder, sizeof(folder), "%.*s",
		name > clean ? (int)(name - clean - 1) : 0, clean);
	fd = th_path_open_in_root(
		job->tree, *folder ? folder : ".", O_RDONLY | O_DIRECTORY, 0);
	/* What is deleted by this layer is no target. */
	if (fd >= 0 &&
		(fstatat(fd, name, st, AT_SYMLINK_NOFOLLOW) ||
			th_is_whiteout(st)))
		th_close(&fd);
	return fd;
}

/* Nothing to link to yet. */
static int lacks_target(struct job *job, const char *target, const char *full,
	bool last, struct th_error *err)
{
	job->notes->again = true;
	if (!last)
		return keep_link(job, full, target, err);
	/* On its own a layer cannot know: a lower one may have it. */
	if (!job->view)
		return 0;
	return apply_refuse(
		full, "is a hard link to a file that does not exist", err);
}

static int reopen(struct job *job, const char *full, struct th_error *err)
{
	char folder[TH_LAYER_PATH_MAX];
	const char *name = th_path_last(full);

	snprintf(folder, sizeof(folder), "%.*s",
		name > full ? (int)(name - full - 1) : 0, full);
	return apply_open_parent(job, folder, false, err) == 1 ? 0 : -1;
}

int apply_hard_link(struct job *job, const char *name, const char *target,
	const char *full, bool last, struct th_error *err)
{
	char clean[TH_LAYER_PATH_MAX], path[TH_LAYER_PATH_MAX];
	struct stat st;
	int folder, rc = 0;

	if (apply_clean_name(target, clean, err))
		return -1;
	if (!*clean)
		return apply_refuse(full, "is a hard link to the root", err);
	if (strcmp(clean, full) == 0)
		return 0;
	folder = open_target(job, clean, &st);
	if (folder < 0 && job->view) {
		rc = resolve_target(job, clean, path, err);
		if (rc == 1)
			rc = copy_up(job, path, err);
		if (rc < 0 || reopen(job, full, err))
			return -1;
		if (rc == 1)
			folder = open_target(job, path, &st);
	}
	if (folder < 0)
		return lacks_target(job, target, full, last, err);
	if (S_ISDIR(st.st_mode)) {
		th_close(&folder);
		return apply_refuse(full, "is a hard link to a folder", err);
	}
	rc = apply_make_room(job, name, false, full, err) < 0 ? -1 : 0;
	if (rc == 0 &&
		linkat(folder, th_path_last(clean), job->parent, name, 0))
		rc = apply_fail(full, err);
	th_close(&folder);
	return rc;
}

int apply_pending_links(struct job *job, struct th_error *err)
{
	for (size_t i = 0; i < job->link_count; i++) {
		char *full = job->links[i].name;
		const char *name = th_path_last(full);
		struct stat st;

		if (reopen(job, full, err))
			return -1;
		/* A later entry of that name stands. */
		if (fstatat(job->parent, name, &st, AT_SYMLINK_NOFOLLOW) == 0 &&
			!th_is_whiteout(&st))
			continue;
		if (apply_hard_link(
			    job, name, job->links[i].target, full, true, err))
			return -1;
	}
	return 0;
}
