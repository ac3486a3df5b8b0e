/* The folders that entries lie in. */
#include <errno.h>
#include <fcntl.h>
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

#define LINKS_MAX 40

void apply_forget_parent(struct job *job)
{
	th_close(&job->parent);
	free(job->parent_path);
	job->parent_path = NULL;
}

/* Two marks: an overlay in a user namespace looks for the other one. A user can
 * set only that; and a file system without it is none for such an overlay. */
int apply_set_opaque(
	int parent, const char *name, const char *full, struct th_error *err)
{
	int fd = openat(
		parent, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	bool marked = fd >= 0 && fsetxattr(fd, TH_OPAQUE, "y", 1, 0) == 0;
	int rc = 0;

	if (!marked && (fd < 0 || errno != EPERM))
		rc = apply_fail(full, err);
	else if (fsetxattr(fd, TH_OPAQUE_OF_USERS, "y", 1, 0) &&
		!(marked && errno == EOPNOTSUPP))
		rc = apply_fail(full, err);
	th_close(&fd);
	return rc;
}

/* ---- one part of the path ---- */

/* Where the walk is. */
struct walk {
	struct job *job;
	bool whiteout;
	int fd; /* the folder in the tree */
	char here[TH_LAYER_PATH_MAX]; /* its path, without links */
	char rest[TH_LAYER_PATH_MAX]; /* what is left to go */
	int links;
};

static int remember_implied(
	struct walk *walk, const char *path, int fd, struct th_error *err)
{
	struct job *job = walk->job;
	struct implied *one;
	struct stat st;

	if (fstat(fd, &st))
		return apply_fail(path, err);
	if (!apply_grow(
		    (void **)&job->implied, job->implied_count, sizeof(*one)))
		return th_fail_memory(err);
	one = &job->implied[job->implied_count++];
	one->path = strdup(path);
	one->inode = st.st_ino;
	one->bare = walk->whiteout;
	return one->path ? 0 : th_fail_memory(err);
}

/* The folder is not in the tree: makes it, like the one below where there is
 * one. hides: it takes the place of what was deleted. */
static int make_folder(struct walk *walk, const char *name, const char *path,
	const struct th_sight *below, bool hides, struct th_error *err)
{
	int fd = -1, rc;

	if (mkdirat(walk->fd, name, 0755) ||
		(fd = openat(walk->fd, name,
			 O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC)) < 0)
		return apply_fail(path, err);
	walk->job->disk_bytes += BLOCK_BYTES;
	if (below) {
		struct stat st;

		rc = th_layer_copy_attributes(below->fd, &below->st, fd) ||
				fstat(fd, &st)
			? apply_fail(path, err)
			: apply_remember_time(walk->job, path, st.st_ino,
				  below->st.st_mtim, err);
	} else {
		/* A folder above may hand its group down. */
		rc = fchown(fd, geteuid(), getegid()) || fchmod(fd, 0755)
			? apply_fail(path, err)
			: 0;
	}
	if (rc == 0 && hides)
		rc = apply_set_opaque(fd, ".", path, err);
	if (rc == 0 && !walk->job->view)
		rc = remember_implied(walk, path, fd, err);
	if (rc) {
		th_close(&fd);
		return -1;
	}
	th_close(&walk->fd);
	walk->fd = fd;
	snprintf(walk->here, sizeof(walk->here), "%s", path);
	return 1;
}

/* Begins again at the root with another path: a link's target, or ".." of one.
 * Returns 1, or -1. */
static int go_to(struct walk *walk, const char *target, bool absolute,
	struct th_error *err)
{
	struct th_buf path;
	int root;

	if (++walk->links > LINKS_MAX)
		return apply_refuse(
			walk->here, "lies behind too many links", err);
	th_buf_init(&path, sizeof(walk->rest) - 1);
	th_buf_addf(&path, "%s/%s/%s", absolute ? "" : walk->here, target,
		walk->rest);
	if (path.failed) {
		th_buf_release(&path);
		return apply_refuse(
			walk->here, "has a name that is too long", err);
	}
	memcpy(walk->rest, path.data, path.len + 1);
	th_buf_release(&path);
	root = openat(walk->job->tree, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (root < 0)
		return apply_fail(walk->here, err);
	walk->here[0] = '\0';
	th_close(&walk->fd);
	walk->fd = root;
	return 1;
}

static int follow(
	struct walk *walk, int folder, const char *name, struct th_error *err)
{
	char target[TH_LAYER_PATH_MAX];
	ssize_t len = readlinkat(folder, name, target, sizeof(target) - 1);

	if (len < 0)
		return apply_fail(name, err);
	target[len] = '\0';
	return go_to(walk, target, target[0] == '/', err);
}

/* It is not in the tree. */
static int go_below(struct walk *walk, const char *name, const char *path,
	struct th_error *err)
{
	struct th_sight found;
	int rc = walk->job->view
		? th_view_look(walk->job->view, path, &found, err)
		: 0;

	if (rc < 0)
		return -1;
	/* Without a look at what is below it may be there. */
	if (rc == 0 && walk->whiteout && walk->job->view)
		return 0;
	if (rc == 0)
		return make_folder(walk, name, path, NULL, false, err);
	if (S_ISLNK(found.st.st_mode))
		rc = follow(walk, found.fd, "", err);
	else if (S_ISDIR(found.st.st_mode))
		rc = make_folder(walk, name, path, &found, false, err);
	else
		rc = walk->whiteout
			? 0
			: make_folder(walk, name, path, NULL, false, err);
	th_close(&found.fd);
	return rc;
}

/* 1 where the folder is entered or the way leads elsewhere, 0 where a whiteout
 * has nothing to hide, -1. */
static int enter(struct walk *walk, const char *name, struct th_error *err)
{
	char path[TH_LAYER_PATH_MAX];
	struct stat st;
	int fd;

	if ((size_t)snprintf(path, sizeof(path), "%s%s%s", walk->here,
		    walk->here[0] ? "/" : "", name) >= sizeof(path))
		return apply_refuse(name, "has a name that is too long", err);
	if (fstatat(walk->fd, name, &st, AT_SYMLINK_NOFOLLOW))
		return errno == ENOENT ? go_below(walk, name, path, err)
				       : apply_fail(path, err);
	if (S_ISLNK(st.st_mode))
		return follow(walk, walk->fd, name, err);
	if (th_is_whiteout(&st)) {
		walk->job->notes->again = true;
		if (walk->whiteout)
			return 0;
		if (unlinkat(walk->fd, name, 0))
			return apply_fail(path, err);
		return make_folder(walk, name, path, NULL, true, err);
	}
	fd = openat(walk->fd, name,
		O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	if (fd < 0 && errno == ENOTDIR)
		return apply_refuse(path,
			"is a file, but other entries are inside it", err);
	if (fd < 0)
		return apply_fail(path, err);
	th_close(&walk->fd);
	walk->fd = fd;
	snprintf(walk->here, sizeof(walk->here), "%s", path);
	return 1;
}

static int next_part(struct walk *walk, struct th_error *err)
{
	size_t skip = strspn(walk->rest, "/"), len;
	char name[256], *slash;

	len = strcspn(walk->rest + skip, "/");
	if (len >= sizeof(name))
		return apply_refuse(
			walk->rest + skip, "has a name that is too long", err);
	memcpy(name, walk->rest + skip, len);
	name[len] = '\0';
	memmove(walk->rest, walk->rest + skip + len,
		strlen(walk->rest + skip + len) + 1);
	if (len == 0 || strcmp(name, ".") == 0)
		return 1;
	if (strcmp(name, "..") != 0)
		return enter(walk, name, err);
	slash = strrchr(walk->here, '/');
	*(slash ? slash : walk->here) = '\0';
	walk->links--; /* it is none, and each has come from one */
	return go_to(walk, "", false, err);
}

/* ---- */

/* Part by part, and making what is missing. */
static int walk_to(
	struct job *job, const char *path, bool whiteout, struct th_error *err)
{
	struct walk walk = {.job = job, .whiteout = whiteout};
	int rc = 1;

	snprintf(walk.rest, sizeof(walk.rest), "%s", path);
	walk.fd = openat(job->tree, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (walk.fd < 0)
		return apply_fail(path, err);
	while (rc == 1 && walk.rest[strspn(walk.rest, "/")])
		rc = next_part(&walk, err);
	if (rc == 1)
		job->parent = walk.fd;
	else
		th_close(&walk.fd);
	return rc;
}

int apply_open_parent(
	struct job *job, const char *path, bool whiteout, struct th_error *err)
{
	struct stat st;
	int fd, rc = 1;

	if (job->parent_path && strcmp(job->parent_path, path) == 0)
		return 1;
	apply_forget_parent(job);
	fd = th_path_open_in_root(
		job->tree, *path ? path : ".", O_RDONLY | O_DIRECTORY, 0);
	if (fd >= 0)
		job->parent = fd;
	else if (errno == ENOENT || errno == ENOTDIR || errno == ELOOP)
		rc = walk_to(job, path, whiteout, err);
	else
		rc = apply_fail(path, err);
	if (rc != 1)
		return rc;
	job->inherits = fstat(job->parent, &st) || st.st_mode & S_ISGID;
	job->parent_path = strdup(path);
	return job->parent_path ? 1 : th_fail_memory(err);
}
