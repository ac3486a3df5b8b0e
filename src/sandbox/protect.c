/* Masked and read-only paths, and the root itself (OCI Runtime Specification,
 * config-linux.md, "Masked Paths", "Readonly Paths"). */
#include <errno.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "base/path.h"
#include "sandbox/inside.h"

static bool is_null(int fd)
{
	struct stat st;

	return fstat(fd, &st) == 0 && S_ISCHR(st.st_mode) &&
		st.st_rdev == makedev(1, 3);
}

/* Covers one path: a folder by an empty read-only one, a file by /dev/null. */
static int mask_path(
	int rootfd, const char *path, int *empty, struct th_error *err)
{
	struct mount_attr attr = {.attr_set = MOUNT_ATTR_RDONLY};
	struct stat st;
	int at, cover = -1, rc = -1;

	/* NOFOLLOW: a link of the image must not move the cover elsewhere. */
	at = th_path_open_in_root(rootfd, path, O_PATH | O_NOFOLLOW, 0);
	if (at < 0 && (errno == ENOENT || errno == ENOTDIR))
		return 0;
	if (at < 0 || fstat(at, &st))
		goto out;
	if (S_ISDIR(st.st_mode)) {
		if (*empty < 0) {
			int fs = fsopen("tmpfs", FSOPEN_CLOEXEC);

			fsconfig(fs, FSCONFIG_SET_STRING, "size", "4k", 0);
			fsconfig(fs, FSCONFIG_CMD_CREATE, NULL, NULL, 0);
			cover = fsmount(fs, FSMOUNT_CLOEXEC,
				MOUNT_ATTR_RDONLY | MOUNT_ATTR_NOEXEC |
					MOUNT_ATTR_NOSUID | MOUNT_ATTR_NODEV);
			th_close(&fs);
			*empty = cover < 0 ? -1 : dup(cover);
		} else {
			cover = open_tree(*empty, "",
				OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC |
					AT_EMPTY_PATH);
		}
	} else {
		/* The host's: whatever else lies there under that name would
		 * be shown to the container. */
		cover = open_tree(AT_FDCWD, "/dev/null",
			OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
		if (cover >= 0 && !is_null(cover)) {
			errno = ENODEV;
			goto out;
		}
		if (cover >= 0 &&
			mount_setattr(
				cover, "", AT_EMPTY_PATH, &attr, sizeof(attr)))
			goto out;
	}
	if (cover >= 0 &&
		move_mount(cover, "", at, "",
			MOVE_MOUNT_F_EMPTY_PATH | MOVE_MOUNT_T_EMPTY_PATH) == 0)
		rc = 0;
out:
	if (rc)
		th_fail_sys(err, TH_FAILED, errno, "cannot mask %s", path);
	th_close(&cover);
	th_close(&at);
	return rc;
}

static int protect_path(int rootfd, const char *path, struct th_error *err)
{
	struct mount_attr attr = {.attr_set = MOUNT_ATTR_RDONLY};
	int at, copy = -1, rc = -1;

	at = th_path_open_in_root(rootfd, path, O_PATH | O_NOFOLLOW, 0);
	if (at < 0 && (errno == ENOENT || errno == ENOTDIR))
		return 0;
	if (at >= 0)
		copy = open_tree(at, "",
			OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC | AT_EMPTY_PATH |
				AT_RECURSIVE);
	if (copy >= 0 &&
		mount_setattr(copy, "", AT_EMPTY_PATH | AT_RECURSIVE, &attr,
			sizeof(attr)) == 0 &&
		move_mount(copy, "", at, "",
			MOVE_MOUNT_F_EMPTY_PATH | MOVE_MOUNT_T_EMPTY_PATH) == 0)
		rc = 0;
	if (rc)
		th_fail_sys(err, TH_FAILED, errno, "cannot make %s read-only",
			path);
	th_close(&copy);
	th_close(&at);
	return rc;
}

int th_inside_protect(
	const struct th_bundle *bundle, int rootfd, struct th_error *err)
{
	struct mount_attr attr = {.attr_set = MOUNT_ATTR_RDONLY};
	int empty = -1, rc = 0;

	for (size_t i = 0; rc == 0 && i < bundle->readonly.count; i++)
		rc = protect_path(rootfd, bundle->readonly.items[i], err);
	for (size_t i = 0; rc == 0 && i < bundle->masked.count; i++)
		rc = mask_path(rootfd, bundle->masked.items[i], &empty, err);
	if (rc == 0 && bundle->root_readonly &&
		mount_setattr(rootfd, "", AT_EMPTY_PATH, &attr, sizeof(attr)))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot make the root read-only");
	th_close(&empty);
	return rc;
}
