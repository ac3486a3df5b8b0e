/* The nodes and links of /dev. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "base/path.h"
#include "sandbox/inside.h"

static bool is_device(const struct stat *st, const struct th_device *device)
{
	return (st->st_mode & S_IFMT) == (device->mode & S_IFMT) &&
		(S_ISFIFO(device->mode) || st->st_rdev == device->dev);
}

/* What is there already must be the device and nothing that only has its
 * name: other things are covered by /dev/null. */
static int check_node(int folder, const char *name,
	const struct th_device *device, struct th_error *err)
{
	struct stat st;

	if (fstatat(folder, name, &st, AT_SYMLINK_NOFOLLOW) == 0 &&
		is_device(&st, device))
		return 0;
	return th_fail(err, TH_FAILED,
		"cannot create a device at %.200s: the image has something "
		"else there",
		device->path);
}

/* In a user namespace no node can be made, but the host's own can be shown:
 * the old root is still there. */
static int bind_node(int folder, const char *name,
	const struct th_device *device, struct th_error *err)
{
	struct stat st;
	int at = -1, source = -1, rc = -1;

	source = open_tree(
		AT_FDCWD, device->path, OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
	if (source < 0 || fstat(source, &st) || !is_device(&st, device)) {
		th_fail(err, TH_NOT_POSSIBLE,
			"cannot provide the device %.200s: an unprivileged "
			"user can share only a device that the host has at the "
			"same path",
			device->path);
		goto out;
	}
	at = openat(folder, name,
		O_CREAT | O_EXCL | O_WRONLY | O_CLOEXEC | O_NOFOLLOW, 0644);
	if (at < 0 && errno == EEXIST) {
		rc = check_node(folder, name, device, err);
		goto out;
	}
	if (at < 0 ||
		move_mount(source, "", at, "",
			MOVE_MOUNT_F_EMPTY_PATH | MOVE_MOUNT_T_EMPTY_PATH)) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot show the device %.200s inside", device->path);
		goto out;
	}
	rc = 0;
out:
	th_close(&at);
	th_close(&source);
	return rc;
}

static int make_node(int folder, const char *name,
	const struct th_device *device, struct th_error *err)
{
	/* mknod(2) takes the mask off the mode. */
	mode_t mask = umask(0);
	int rc = mknodat(folder, name, device->mode, device->dev);
	int sys = errno;

	umask(mask);
	if (rc && sys == EEXIST)
		return check_node(folder, name, device, err);
	if (rc && sys == EPERM)
		return bind_node(folder, name, device, err);
	errno = sys;
	if (rc || fchownat(folder, name, device->uid, device->gid, 0))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot create the device %.200s", device->path);
	return 0;
}

/* The devices and links that every container has (OCI Runtime Specification,
 * config-linux.md "Default Devices"; runtime-linux.md "Dev symbolic links"). */
static int default_devices(int dev, struct th_error *err)
{
	static char paths[][16] = {"/dev/null", "/dev/zero", "/dev/full",
		"/dev/random", "/dev/urandom", "/dev/tty"};
	static const unsigned int numbers[][2] = {
		{1, 3}, {1, 5}, {1, 7}, {1, 8}, {1, 9}, {5, 0}};
	static const char *const links[][2] = {{"/proc/self/fd", "fd"},
		{"/proc/self/fd/0", "stdin"}, {"/proc/self/fd/1", "stdout"},
		{"/proc/self/fd/2", "stderr"}, {"pts/ptmx", "ptmx"}};

	for (size_t i = 0; i < sizeof(paths) / sizeof(*paths); i++) {
		struct th_device device = {.path = paths[i],
			.mode = S_IFCHR | 0666,
			.dev = makedev(numbers[i][0], numbers[i][1])};

		if (make_node(dev, paths[i] + 5, &device, err))
			return -1;
	}
	for (size_t i = 0; i < sizeof(links) / sizeof(*links); i++) {
		if (symlinkat(links[i][0], dev, links[i][1]) && errno != EEXIST)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot create /dev/%s", links[i][1]);
	}
	return 0;
}

static int own_device(
	int rootfd, const struct th_device *device, struct th_error *err)
{
	char *folder = strdup(device->path);
	int at = -1, rc = -1;

	if (!folder)
		return th_fail_memory(err);
	*strrchr(folder, '/') = '\0';
	at = th_path_make_in_root(rootfd, *folder ? folder : "/", true);
	if (at < 0)
		th_fail_sys(err, TH_FAILED, errno,
			"cannot create the folder %s", folder);
	else
		rc = make_node(at, th_path_last(device->path), device, err);
	free(folder);
	th_close(&at);
	return rc;
}

int th_inside_devices(
	const struct th_bundle *bundle, int rootfd, struct th_error *err)
{
	int at, dev, rc;

	at = th_path_make_in_root(rootfd, "/dev", true);
	th_close(&at);
	dev = th_path_open_in_root(
		rootfd, "dev", O_RDONLY | O_DIRECTORY | O_CLOEXEC, 0);
	if (dev < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"the root does not have a /dev folder");
	rc = default_devices(dev, err);
	for (size_t i = 0; rc == 0 && i < bundle->device_count; i++)
		rc = own_device(rootfd, &bundle->devices[i], err);
	th_close(&dev);
	return rc;
}
