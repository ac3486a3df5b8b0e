/* The mounts of a bundle, carried out below its root. */
#include "sandbox/mounts.h"

#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "base/path.h"
#include "sandbox/copy_up.h"
#include "sandbox/idmap.h"
#include "sandbox/inside.h"
#include "sandbox/mount_options.h"

/* ---- sources: taken while the host's mounts are as they were ---- */

static int map_ids(int fd, const struct mount_plan *plan,
	const struct th_mount *mount, const struct th_bundle *bundle,
	int id_namespace, struct th_error *err)
{
	bool own = mount->uids.count > 0;
	struct mount_attr attr = {.attr_set = MOUNT_ATTR_IDMAP};
	int ns, rc;

	if (!own && !bundle->uids.count)
		return th_fail(err, TH_FAILED,
			"the mount at %s asks for mapped IDs, but neither it "
			"nor the container has a mapping",
			mount->target);
	ns = id_namespace > 0 && !own
		? id_namespace
		: th_idmap_namespace(own ? &mount->uids : &bundle->uids,
			  own ? &mount->gids : &bundle->gids, err);
	if (ns < 0)
		return -1;
	attr.userns_fd = (uint64_t)ns;
	rc = mount_setattr(fd, "",
		AT_EMPTY_PATH | (plan->id_mapped_all ? AT_RECURSIVE : 0), &attr,
		sizeof(attr));
	if (rc)
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot map the IDs of the mount at %s: its file "
			"system, or this user, does not support it",
			mount->target);
	if (ns != id_namespace)
		th_close(&ns);
	return rc;
}

static int open_source(const struct th_mount *mount,
	const struct mount_plan *plan, const struct th_bundle *bundle,
	const char *bundle_path, int id_namespace, struct th_error *err)
{
	char *path;
	int fd;

	if (!mount->source)
		return th_fail(err, TH_FAILED,
			"the mount at %s does not have a source",
			mount->target);
	path = th_path_absolute(bundle_path, mount->source);
	if (!path)
		return th_fail_memory(err);
	/* EINVAL here: in a user namespace the mounts below are locked to the
	 * one above, and may not be left out (mount_namespaces(7)). */
	fd = open_tree(AT_FDCWD, path,
		OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC |
			(plan->recursive ? AT_RECURSIVE : 0));
	if (fd < 0 && errno == EINVAL && !plan->recursive) {
		th_fail(err, TH_NOT_POSSIBLE,
			"cannot mount %s at %s without its submounts: only "
			"root may do that",
			path, mount->target);
		th_hint(err, "use rbind to include them");
	} else if (fd < 0) {
		th_fail_sys(err, TH_FAILED, errno, "cannot mount %s at %s",
			path, mount->target);
	}
	free(path);
	if (fd >= 0 && plan->id_mapped &&
		map_ids(fd, plan, mount, bundle, id_namespace, err))
		th_close(&fd);
	return fd;
}

int th_mounts_open(const struct th_bundle *bundle, const char *bundle_path,
	int id_namespace, int **fds, struct th_error *err)
{
	int *list, rc = 0;

	list = malloc((bundle->mount_count + 1) * sizeof(*list));
	if (!list)
		return th_fail_memory(err);
	for (size_t i = 0; i < bundle->mount_count; i++)
		list[i] = -1;
	for (size_t i = 0; rc == 0 && i < bundle->mount_count; i++) {
		struct mount_plan plan;

		rc = mount_plan_read(&bundle->mounts[i], &plan, err);
		if (rc == 0 && plan.bind && !plan.remount) {
			list[i] = open_source(&bundle->mounts[i], &plan, bundle,
				bundle_path, id_namespace, err);
			rc = list[i] < 0 ? -1 : 0;
		}
		th_strings_release(&plan.rest);
	}
	if (rc == 0)
		*fds = list;
	else
		th_mounts_close(bundle, list);
	return rc;
}

void th_mounts_close(const struct th_bundle *bundle, int *fds)
{
	for (size_t i = 0; fds && i < bundle->mount_count; i++)
		th_close(&fds[i]);
	free(fds);
}

bool th_mounts_need_parent(const struct th_bundle *bundle)
{
	if (bundle->namespaces & CLONE_NEWUSER)
		return true;
	for (size_t i = 0; i < bundle->mount_count; i++) {
		const struct th_mount *mount = &bundle->mounts[i];

		if (mount->uids.count)
			return true;
		for (size_t k = 0; k < mount->options.count; k++) {
			if (strstr(mount->options.items[k], "idmap"))
				return true;
		}
	}
	return false;
}

/* ---- inside ---- */

static int set_some(int fd, const struct mount_attributes *attributes, int flag)
{
	struct mount_attr attr = {
		.attr_set = attributes->set, .attr_clr = attributes->clear};

	if (!attr.attr_set && !attr.attr_clr)
		return 0;
	/* A change of the time-stamp mode has to clear the old one. */
	if ((attr.attr_set | attr.attr_clr) & MOUNT_ATTR__ATIME)
		attr.attr_clr |= MOUNT_ATTR__ATIME;
	return mount_setattr(fd, "", AT_EMPTY_PATH | flag, &attr, sizeof(attr));
}

static int set_attributes(int fd, const struct mount_plan *plan)
{
	struct mount_attr attr = {.propagation = MS_PRIVATE};

	if (set_some(fd, &plan->all, AT_RECURSIVE) ||
		set_some(fd, &plan->top, 0))
		return -1;
	if (plan->remount && !plan->propagation)
		return 0;
	if (!plan->remount && plan->propagation != MS_SHARED &&
		plan->propagation != MS_SLAVE &&
		mount_setattr(fd, "", AT_EMPTY_PATH | AT_RECURSIVE, &attr,
			sizeof(attr)))
		return -1;
	if (!plan->propagation)
		return 0;
	attr.propagation = plan->propagation;
	return mount_setattr(fd, "",
		AT_EMPTY_PATH | (plan->propagation_all ? AT_RECURSIVE : 0),
		&attr, sizeof(attr));
}

static int configure(int fs, const struct th_mount *mount,
	const struct mount_plan *plan, struct th_error *err)
{
	for (size_t i = 0; i < plan->rest.count; i++) {
		char word[256], *value;

		snprintf(word, sizeof(word), "%s", plan->rest.items[i]);
		value = strchr(word, '=');
		if (value)
			*value++ = '\0';
		if (fsconfig(fs,
			    value ? FSCONFIG_SET_STRING : FSCONFIG_SET_FLAG,
			    word, value, 0))
			return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"the mount at %s cannot have the option "
				"\"%.100s\"",
				mount->target, plan->rest.items[i]);
	}
	if (fsconfig(fs, FSCONFIG_CMD_CREATE, NULL, NULL, 0))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot mount %s at %s", mount->type, mount->target);
	return 0;
}

/* Gives a detached mount of a new file system. */
static int open_new(const struct th_mount *mount, const struct mount_plan *plan,
	const char *label, struct th_error *err)
{
	const char *type = mount->type;
	int fs, fd = -1;

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
	if (label && fsconfig(fs, FSCONFIG_SET_STRING, "context", label, 0) &&
		strcmp(type, "proc") != 0 && strcmp(type, "sysfs") != 0 &&
		strcmp(type, "cgroup2") != 0) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"the mount at %s cannot have the label \"%.100s\"",
			mount->target, label);
	} else if (configure(fs, mount, plan, err) == 0) {
		fd = fsmount(fs, FSMOUNT_CLOEXEC, 0);
		if (fd < 0)
			th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot mount %s at %s", type, mount->target);
	}
	th_close(&fs);
	return fd;
}

/* A window into the kernel must stand where it is looked for: what is masked
 * there would not be masked elsewhere. */
static int open_plain_target(
	int rootfd, const struct th_mount *mount, struct th_error *err)
{
	const char *path = mount->target + strspn(mount->target, "/");
	int at = th_path_make_in_root(rootfd, mount->target, true);

	th_close(&at);
	at = *path ? th_path_open_beneath(
			     rootfd, path, O_PATH | O_DIRECTORY | O_CLOEXEC, 0)
		   : -1;
	if (at < 0)
		return th_fail(err, TH_FAILED,
			"cannot mount %s at %s: the image has a link there",
			mount->type, mount->target);
	return at;
}

static bool is_groups(const struct th_mount *mount)
{
	return mount->type && strncmp(mount->type, "cgroup", 6) == 0;
}

static bool is_kernel_window(const struct th_mount *mount)
{
	return is_groups(mount) ||
		(mount->type &&
			(strcmp(mount->type, "proc") == 0 ||
				strcmp(mount->type, "sysfs") == 0));
}

static int attach(int fd, int rootfd, const struct th_mount *mount,
	const struct mount_plan *plan, struct th_error *err)
{
	const char *target = mount->target;
	bool folder = true;
	struct stat st;
	int at, rc;

	if (fstat(fd, &st) == 0)
		folder = S_ISDIR(st.st_mode);
	if (is_kernel_window(mount) && !plan->bind) {
		at = open_plain_target(rootfd, mount, err);
		if (at < 0)
			return -1;
	} else {
		at = th_path_make_in_root(rootfd, target, folder);
		if (at < 0)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot create the mount point %s inside",
				target);
	}
	/* While the tmpfs is still detached: nobody inside sees it half full.
	 */
	if (plan->copy_up && th_copy_up(at, fd, err)) {
		th_close(&at);
		return -1;
	}
	rc = move_mount(fd, "", at, "",
		MOVE_MOUNT_F_EMPTY_PATH | MOVE_MOUNT_T_EMPTY_PATH);
	if (rc && errno == ENOTDIR)
		th_fail(err, TH_FAILED,
			"cannot mount at %s: it is %s in the image, but the "
			"source is %s",
			target, folder ? "a file" : "a folder",
			folder ? "a folder" : "a file");
	else if (rc)
		th_fail_sys(
			err, TH_FAILED, errno, "cannot mount at %s", target);
	th_close(&at);
	return rc;
}

static int change_mounted(int rootfd, const struct th_mount *mount,
	const struct mount_plan *plan, struct th_error *err)
{
	int at = th_path_open_in_root(
		rootfd, mount->target, O_PATH | O_CLOEXEC, 0);
	int rc = at < 0 || set_attributes(at, plan)
		? th_fail_sys(err, TH_FAILED, errno,
			  "cannot change the mount at %s", mount->target)
		: 0;

	th_close(&at);
	return rc;
}

static int mount_one(const struct th_bundle *bundle,
	const struct th_mount *mount, const struct mount_plan *plan, int *fd,
	int rootfd, struct th_error *err)
{
	if (plan->remount)
		return change_mounted(rootfd, mount, plan, err);
	if (!plan->bind)
		*fd = open_new(mount, plan, bundle->mount_label, err);
	if (*fd < 0 || attach(*fd, rootfd, mount, plan, err))
		return -1;
	if (set_attributes(*fd, plan))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot set the options of the mount at %s",
			mount->target);
	return 0;
}

/* One hierarchy, in a folder of the tmpfs. */
static int show_view(int folder, const struct th_cgroup_view *view,
	const struct mount_plan *plan)
{
	char names[sizeof(view->name)], *rest = NULL;
	int fd = -1, at = -1, rc = -1;

	if (mkdirat(folder, view->name, 0755))
		return -1;
	fd = open_tree(
		AT_FDCWD, view->folder, OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
	at = openat(folder, view->name, O_PATH | O_CLOEXEC);
	if (fd >= 0 && at >= 0)
		rc = move_mount(fd, "", at, "",
			     MOVE_MOUNT_F_EMPTY_PATH |
				     MOVE_MOUNT_T_EMPTY_PATH) ||
				set_attributes(fd, plan)
			? -1
			: 0;
	th_close(&fd);
	th_close(&at);
	/* Of several controllers, each is found by its own name, too. */
	snprintf(names, sizeof(names), "%s", view->name);
	for (char *name = strtok_r(names, ",", &rest); rc == 0 && name;
		name = strtok_r(NULL, ",", &rest)) {
		if (strcmp(name, view->name) != 0)
			rc = symlinkat(view->name, folder, name);
	}
	return rc;
}

/* Where version 1 keeps the limits: a folder for each hierarchy, as programs
 * expect it, with the container's own group in it. */
static int mount_views(const struct th_cgroup *group,
	const struct th_mount *mount, const struct mount_plan *plan, int rootfd,
	struct th_error *err)
{
	static char type[] = "tmpfs", mode[] = "mode=755";
	char *options[] = {mode};
	struct th_mount tmpfs = {.type = type, .source = type};
	struct mount_plan how = {.rest = {.items = options, .count = 1}};
	struct th_cgroup_view *views;
	size_t count;
	int fd, rc;

	views = calloc(TH_CGROUP_V1_MAX + 1, sizeof(*views));
	if (!views)
		return th_fail_memory(err);
	count = th_cgroup_views(group, views);
	tmpfs.target = mount->target;
	fd = open_new(&tmpfs, &how, NULL, err);
	rc = fd < 0 ? -1 : attach(fd, rootfd, mount, plan, err);
	for (size_t i = 0; rc == 0 && i < count; i++)
		rc = show_view(fd, &views[i], plan);
	if (rc == 0)
		rc = set_attributes(fd, plan);
	if (rc)
		th_fail_sys(err, TH_FAILED, errno,
			"cannot show the control groups at %s", mount->target);
	th_close(&fd);
	free(views);
	return rc;
}

int th_inside_mounts(const struct th_bundle *bundle,
	const struct th_cgroup *group, int *fds, int rootfd,
	struct th_error *err)
{
	for (size_t i = 0; i < bundle->mount_count; i++) {
		const struct th_mount *mount = &bundle->mounts[i];
		struct mount_plan plan;
		int rc = mount_plan_read(mount, &plan, err);

		if (rc == 0 && group && group->shown && is_groups(mount) &&
			!plan.bind && !plan.remount)
			rc = mount_views(group, mount, &plan, rootfd, err);
		else if (rc == 0)
			rc = mount_one(
				bundle, mount, &plan, &fds[i], rootfd, err);
		th_strings_release(&plan.rest);
		th_close(&fds[i]);
		if (rc == 0)
			continue;
		/* A host without version 2 control groups has nothing to
		 * show there. */
		if (!is_groups(mount) ||
			(err->sys != ENODEV && err->sys != EPERM))
			return -1;
		th_error_clear(err);
	}
	return 0;
}
