/* The mounts of a bundle, carried out below its root. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "sandbox/inside.h"

/* What the options of one mount come to. */
struct plan {
	bool bind;
	bool recursive;
	uint64_t attr_set, attr_clear;
	uint64_t propagation; /* MS_..., or 0 */
	bool recursive_attr;
};

static const struct {
	const char *word;
	uint64_t set, clear;
	bool recursive;
} attributes[] = {{"ro", MOUNT_ATTR_RDONLY, 0, false},
	{"rw", 0, MOUNT_ATTR_RDONLY, false},
	{"nosuid", MOUNT_ATTR_NOSUID, 0, false},
	{"suid", 0, MOUNT_ATTR_NOSUID, false},
	{"nodev", MOUNT_ATTR_NODEV, 0, false},
	{"dev", 0, MOUNT_ATTR_NODEV, false},
	{"noexec", MOUNT_ATTR_NOEXEC, 0, false},
	{"exec", 0, MOUNT_ATTR_NOEXEC, false},
	{"noatime", MOUNT_ATTR_NOATIME, MOUNT_ATTR__ATIME, false},
	{"relatime", MOUNT_ATTR_RELATIME, MOUNT_ATTR__ATIME, false},
	{"strictatime", MOUNT_ATTR_STRICTATIME, MOUNT_ATTR__ATIME, false},
	{"nodiratime", MOUNT_ATTR_NODIRATIME, 0, false},
	{"diratime", 0, MOUNT_ATTR_NODIRATIME, false},
	{"nosymfollow", MOUNT_ATTR_NOSYMFOLLOW, 0, false},
	{"rro", MOUNT_ATTR_RDONLY, 0, true},
	{"rnosuid", MOUNT_ATTR_NOSUID, 0, true},
	{"rnodev", MOUNT_ATTR_NODEV, 0, true},
	{"rnoexec", MOUNT_ATTR_NOEXEC, 0, true}};

static const struct {
	const char *word;
	uint64_t flags;
} propagations[] = {{"private", MS_PRIVATE}, {"rprivate", MS_PRIVATE},
	{"slave", MS_SLAVE}, {"rslave", MS_SLAVE}, {"shared", MS_SHARED},
	{"rshared", MS_SHARED}, {"unbindable", MS_UNBINDABLE},
	{"runbindable", MS_UNBINDABLE}};

/* True where the option is one that any mount can have. */
static bool take_option(const char *option, struct plan *plan)
{
	for (size_t i = 0; i < sizeof(attributes) / sizeof(*attributes); i++) {
		if (strcmp(option, attributes[i].word) != 0)
			continue;
		plan->attr_set &= ~attributes[i].clear;
		plan->attr_clear |= attributes[i].clear;
		plan->attr_set |= attributes[i].set;
		plan->attr_clear &= ~attributes[i].set |
			(attributes[i].clear & MOUNT_ATTR__ATIME);
		plan->recursive_attr |= attributes[i].recursive;
		return true;
	}
	for (size_t i = 0; i < sizeof(propagations) / sizeof(*propagations);
		i++) {
		if (strcmp(option, propagations[i].word) == 0) {
			plan->propagation = propagations[i].flags;
			return true;
		}
	}
	if (strcmp(option, "bind") == 0 || strcmp(option, "rbind") == 0) {
		plan->bind = true;
		plan->recursive |= option[0] == 'r';
		return true;
	}
	return strcmp(option, "defaults") == 0;
}

static int set_attributes(int fd, const struct plan *plan)
{
	struct mount_attr attr = {0};
	bool all = plan->recursive &&
		(plan->recursive_attr || plan->attr_set & MOUNT_ATTR_RDONLY);

	attr.attr_set = plan->attr_set;
	attr.attr_clr = plan->attr_clear;
	if ((attr.attr_set || attr.attr_clr) &&
		mount_setattr(fd, "", AT_EMPTY_PATH | (all ? AT_RECURSIVE : 0),
			&attr, sizeof(attr)))
		return -1;
	memset(&attr, 0, sizeof(attr));
	attr.propagation = plan->propagation ? plan->propagation : MS_PRIVATE;
	return mount_setattr(
		fd, "", AT_EMPTY_PATH | AT_RECURSIVE, &attr, sizeof(attr));
}

/* Gives a detached mount of the source: a bind of what is there. */
static int open_bind(
	const struct th_mount *mount, struct plan *plan, struct th_error *err)
{
	int fd;

	if (!mount->source)
		return th_fail(err, TH_FAILED, "the mount at %s has no source",
			mount->target);
	fd = open_tree(AT_FDCWD, mount->source,
		OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC |
			(plan->recursive ? AT_RECURSIVE : 0));
	if (fd < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot mount %s at %s", mount->source, mount->target);
	return fd;
}

static int configure(int fs, const struct th_mount *mount)
{
	for (size_t i = 0; i < mount->options.count; i++) {
		struct plan ignored = {0};
		char word[256], *value;

		if (take_option(mount->options.items[i], &ignored))
			continue;
		snprintf(word, sizeof(word), "%s", mount->options.items[i]);
		value = strchr(word, '=');
		if (value)
			*value++ = '\0';
		if (fsconfig(fs,
			    value ? FSCONFIG_SET_STRING : FSCONFIG_SET_FLAG,
			    word, value, 0))
			return -1;
	}
	return fsconfig(fs, FSCONFIG_CMD_CREATE, NULL, NULL, 0);
}

/* Gives a detached mount of a new file system. */
static int open_new(const struct th_mount *mount, struct th_error *err)
{
	const char *type = mount->type;
	int fs, fd;

	/* Inside, the one hierarchy there is shown for either name. */
	if (strcmp(type, "cgroup") == 0)
		type = "cgroup2";
	fs = fsopen(type, FSOPEN_CLOEXEC);
	if (fs < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"the kernel cannot mount \"%s\" at %s", type,
			mount->target);
	if (mount->source)
		fsconfig(fs, FSCONFIG_SET_STRING, "source", mount->source, 0);
	fd = configure(fs, mount) ? -1 : fsmount(fs, FSMOUNT_CLOEXEC, 0);
	if (fd < 0)
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot mount %s at %s", type, mount->target);
	th_close(&fs);
	return fd;
}

static int attach(int fd, int rootfd, const char *target, bool folder,
	struct th_error *err)
{
	int at, rc;

	at = th_path_make_in_root(rootfd, target, folder);
	if (at < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot make the mount point %s inside", target);
	rc = move_mount(fd, "", at, "",
		MOVE_MOUNT_F_EMPTY_PATH | MOVE_MOUNT_T_EMPTY_PATH);
	if (rc && errno == ENOTDIR)
		th_fail(err, TH_FAILED,
			"cannot mount at %s: it is %s in the image, and the "
			"source is %s",
			target, folder ? "a file" : "a folder",
			folder ? "a folder" : "a file");
	else if (rc)
		th_fail_sys(
			err, TH_FAILED, errno, "cannot mount at %s", target);
	th_close(&at);
	return rc;
}

static int mount_one(
	const struct th_mount *mount, int rootfd, struct th_error *err)
{
	struct plan plan = {0};
	struct stat st;
	bool folder = true;
	int fd, rc = -1;

	for (size_t i = 0; i < mount->options.count; i++)
		take_option(mount->options.items[i], &plan);
	if (!mount->type || strcmp(mount->type, "bind") == 0)
		plan.bind = true;
	fd = plan.bind ? open_bind(mount, &plan, err) : open_new(mount, err);
	if (fd < 0)
		return -1;
	if (fstat(fd, &st) == 0)
		folder = S_ISDIR(st.st_mode);
	if (attach(fd, rootfd, mount->target, folder, err))
		goto out;
	if (set_attributes(fd, &plan)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot set the options of the mount at %s",
			mount->target);
		goto out;
	}
	rc = 0;
out:
	th_close(&fd);
	return rc;
}

int th_inside_mounts(
	const struct th_bundle *bundle, int rootfd, struct th_error *err)
{
	for (size_t i = 0; i < bundle->mount_count; i++) {
		const struct th_mount *mount = &bundle->mounts[i];

		/* A host without version 2 control groups has nothing to
		 * show there. */
		if (mount_one(mount, rootfd, err) == 0)
			continue;
		if (!mount->type || strncmp(mount->type, "cgroup", 6) != 0)
			return -1;
		th_error_clear(err);
	}
	return 0;
}

static int make_node(int dev, const char *name, const struct th_device *device,
	struct th_error *err)
{
	mode_t mask = umask(0);
	int rc = mknodat(dev, name, device->mode, device->dev);

	umask(mask);
	if (rc && errno == EEXIST)
		return 0;
	if (rc || fchownat(dev, name, device->uid, device->gid, 0))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot make the device /dev/%s", name);
	return 0;
}

/* The devices and links that every container has (OCI Runtime Specification,
 * config-linux.md "Default Devices"; runtime-linux.md "Dev symbolic links"). */
static int default_devices(int dev, struct th_error *err)
{
	static const struct {
		const char *name;
		unsigned int major_id, minor_id;
	} nodes[] = {{"null", 1, 3}, {"zero", 1, 5}, {"full", 1, 7},
		{"random", 1, 8}, {"urandom", 1, 9}, {"tty", 5, 0}};
	static const char *const links[][2] = {{"/proc/self/fd", "fd"},
		{"/proc/self/fd/0", "stdin"}, {"/proc/self/fd/1", "stdout"},
		{"/proc/self/fd/2", "stderr"}, {"pts/ptmx", "ptmx"}};

	for (size_t i = 0; i < sizeof(nodes) / sizeof(*nodes); i++) {
		struct th_device device = {.mode = S_IFCHR | 0666,
			.dev = makedev(nodes[i].major_id, nodes[i].minor_id)};

		if (make_node(dev, nodes[i].name, &device, err))
			return -1;
	}
	for (size_t i = 0; i < sizeof(links) / sizeof(*links); i++) {
		if (symlinkat(links[i][0], dev, links[i][1]) && errno != EEXIST)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot make /dev/%s", links[i][1]);
	}
	return 0;
}

int th_inside_devices(
	const struct th_bundle *bundle, int rootfd, struct th_error *err)
{
	int dev, rc;

	dev = th_path_open_in_root(
		rootfd, "dev", O_RDONLY | O_DIRECTORY | O_CLOEXEC, 0);
	if (dev < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "the root has no folder /dev");
	rc = default_devices(dev, err);
	for (size_t i = 0; rc == 0 && i < bundle->device_count; i++) {
		const struct th_device *device = &bundle->devices[i];
		char *folder = strdup(device->path);
		int at;

		if (!folder) {
			rc = th_fail_memory(err);
			break;
		}
		*strrchr(folder, '/') = '\0';
		at = th_path_make_in_root(rootfd, folder, true);
		rc = at < 0 ? th_fail_sys(err, TH_FAILED, errno,
				      "cannot make the folder %s", folder)
			    : make_node(at, th_path_last(device->path), device,
				      err);
		free(folder);
		th_close(&at);
	}
	th_close(&dev);
	return rc;
}

/* Covers one path: a folder by an empty read-only one, a file by /dev/null. */
static int mask_path(
	int rootfd, const char *path, int *empty, struct th_error *err)
{
	struct mount_attr attr = {.attr_set = MOUNT_ATTR_RDONLY};
	struct stat st;
	int at, cover = -1, rc = -1;

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
		cover = open_tree(AT_FDCWD, "/dev/null",
			OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
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
