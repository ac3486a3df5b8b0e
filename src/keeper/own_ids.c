/* User IDs of a container's own, for root's containers: its root is nobody on
 * the host. The files of image, volumes and mounts keep their owners on the
 * disk and appear with them inside, by ID-mapped mounts. */
#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "keeper/keeper.h"
#include "network/network.h"
#include "sandbox/idmap.h"
#include "sandbox/mounts.h"

/* Above all that login.defs(5) and systemd give to users, and below the sign
 * bit that some programs stumble over. */
#define FIRST_ID 0x70000000u
#define RANGES 4095u
/* A byte for each range; whoever uses it holds a lock on that byte. */
#define RANGES_FILE "/run/tidyhull-ids"

void keeper_own_ids_init(struct own_ids *ids)
{
	ids->lock = ids->space = ids->store_mount = -1;
}

static int take_range(struct keeper *keeper)
{
	uint32_t number = 0;
	int fd = open(
		RANGES_FILE, O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600);

	if (fd < 0)
		return -1;
	/* Each container begins elsewhere: the first try is mostly right. */
	for (const char *at = keeper->id; *at; at++)
		number = number * 31 + (unsigned char)*at;
	for (uint32_t tries = 0; tries < RANGES; tries++) {
		uint32_t range = (number + tries) % RANGES;
		struct flock lock = {.l_type = F_WRLCK,
			.l_whence = SEEK_SET,
			.l_start = range,
			.l_len = 1};

		if (fcntl(fd, F_OFD_SETLK, &lock) == 0) {
			keeper->own_ids.lock = fd;
			keeper->own_ids.first = FIRST_ID + range * TH_OWN_IDS;
			return 0;
		}
	}
	close(fd);
	return -1;
}

static int set_map(struct th_id_maps *maps, uint32_t first)
{
	maps->items = calloc(1, sizeof(*maps->items));
	if (!maps->items)
		return -1;
	maps->items[0].outside = first;
	maps->items[0].size = TH_OWN_IDS;
	maps->count = 1;
	return 0;
}

/* A mount whose IDs are mapped already is mapped to those inside. */
static int map_mount(struct th_mount *mount, uint32_t first)
{
	struct th_id_maps *both[2] = {&mount->uids, &mount->gids};

	for (int i = 0; i < 2; i++) {
		for (size_t k = 0; k < both[i]->count; k++)
			both[i]->items[k].outside += first;
	}
	for (size_t i = 0; i < mount->options.count; i++) {
		const char *option = mount->options.items[i];

		if (strcmp(option, "bind") == 0 && !mount->uids.count)
			return th_strings_add(&mount->options, "idmap");
		if (strcmp(option, "rbind") == 0 && !mount->uids.count)
			return th_strings_add(&mount->options, "ridmap");
	}
	return 0;
}

static int change_bundle(struct keeper *keeper)
{
	struct th_bundle *bundle = &keeper->bundle;
	int rc = set_map(&bundle->uids, keeper->own_ids.first) |
		set_map(&bundle->gids, keeper->own_ids.first);

	bundle->namespaces |= CLONE_NEWUSER;
	for (size_t i = 0; rc == 0 && i < bundle->mount_count; i++)
		rc = map_mount(&bundle->mounts[i], keeper->own_ids.first);
	return rc;
}

/* The store, as the container's user namespace sees it: the overlay is made of
 * what lies in it. */
static int clone_store(struct keeper *keeper)
{
	char value;
	/* Nothing that is mounted on it is to appear on the host. */
	struct mount_attr attr = {.attr_set = MOUNT_ATTR_IDMAP,
		.propagation = MS_PRIVATE,
		.userns_fd = (uint64_t)keeper->own_ids.space};

	/* Without them the overlay of a user namespace has no marks for what is
	 * removed. */
	if (fgetxattr(keeper->folder_fd, "user.overlay.opaque", &value, 1) <
			0 &&
		errno == EOPNOTSUPP)
		return -1;
	keeper->own_ids.store_mount = open_tree(keeper->store->root_fd, "",
		OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC | AT_EMPTY_PATH);
	if (keeper->own_ids.store_mount >= 0 &&
		mount_setattr(keeper->own_ids.store_mount, "", AT_EMPTY_PATH,
			&attr, sizeof(attr)))
		th_close(&keeper->own_ids.store_mount);
	return keeper->own_ids.store_mount < 0 ? -1 : 0;
}

/* Whoever is outside of the range owns nothing inside, and cannot be. */
static int check_owners(struct keeper *keeper, struct th_error *err)
{
	const struct th_bundle *bundle = &keeper->bundle;
	struct stat st;

	if (bundle->process.uid >= TH_OWN_IDS ||
		bundle->process.gid >= TH_OWN_IDS)
		return th_fail(err, TH_NOT_POSSIBLE,
			"its program's user %u is beyond the range of %u",
			bundle->process.uid, TH_OWN_IDS);
	for (size_t i = 0; i < bundle->mount_count; i++) {
		if (keeper->own_ids.mount_fds[i] >= 0 &&
			bundle->mounts[i].source &&
			stat(bundle->mounts[i].source, &st) == 0 &&
			!bundle->mounts[i].uids.count &&
			(st.st_uid >= TH_OWN_IDS || st.st_gid >= TH_OWN_IDS))
			return th_fail(err, TH_NOT_POSSIBLE,
				"the owner of %.200s, user %u, is beyond the "
				"range of %u",
				bundle->mounts[i].source, st.st_uid,
				TH_OWN_IDS);
	}
	return 0;
}

/* All that has to be mapped, so that it is known whether it can be. */
static int map_all(struct keeper *keeper, struct th_error *err)
{
	char path[4096];

	if (!th_overlay_takes_mapped())
		return th_fail(
			err, TH_NOT_POSSIBLE, "that takes Linux 5.19 or later");
	if (take_range(keeper) || change_bundle(keeper))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot take a range of user IDs");
	keeper->own_ids.space = th_idmap_namespace(
		&keeper->bundle.uids, &keeper->bundle.gids, err);
	if (keeper->own_ids.space < 0)
		return -1;
	if (clone_store(keeper))
		return th_fail(err, TH_NOT_POSSIBLE,
			"the store's file system cannot map IDs");
	snprintf(path, sizeof(path), "%s/containers/%s", keeper->store->root,
		keeper->id);
	return th_mounts_open(&keeper->bundle, path, keeper->own_ids.space,
		       &keeper->own_ids.mount_fds, err) ||
			check_owners(keeper, err)
		? -1
		: 0;
}

/* ---- an unprivileged user's containers ---- */

/* All that this namespace has, by the same numbers. */
static int same_ids(const char *path, struct th_id_maps *maps)
{
	struct th_id_map lines[TH_ID_MAP_LINES];
	size_t count = th_idmap_read(path, lines);

	for (size_t i = 0; i < count; i++)
		lines[i].outside = lines[i].inside;
	maps->items = calloc(count + 1, sizeof(*maps->items));
	if (!maps->items || !count)
		return -1;
	memcpy(maps->items, lines, count * sizeof(*lines));
	maps->count = count;
	return 0;
}

/* They share the user's IDs: the files of an image belong to these, and only
 * root may map the IDs of a mount. But each has a namespace of its own within
 * the one that they all begin in, so that the capabilities of one are none over
 * the mounts, networks and processes of another. */
static int part_capabilities(struct keeper *keeper, struct th_error *err)
{
	struct th_bundle *bundle = &keeper->bundle;

	/* As "--share user" has it; and who is on the network of another one
	 * must have a say in it. */
	if (bundle->namespaces & CLONE_NEWUSER ||
		th_network_is_with(keeper->plan.network))
		return 0;
	if (same_ids("/proc/self/uid_map", &bundle->uids) ||
		same_ids("/proc/self/gid_map", &bundle->gids))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot read the user's ID mappings");
	bundle->namespaces |= CLONE_NEWUSER;
	return 0;
}

/* ---- */

/* The bundle as it was before. */
static int take_back(struct keeper *keeper, struct th_error *err)
{
	keeper_share_users(keeper);
	th_bundle_release(&keeper->bundle);
	return keeper_load(keeper, err);
}

int keeper_own_users(struct keeper *keeper, struct th_error *err)
{
	struct th_cause cause = {.kind = TH_CAUSE_HOST_USERS};
	struct th_error why = {0};

	keeper_share_users(keeper);
	if (keeper->plan.unprivileged)
		return part_capabilities(keeper, err);
	if (!keeper->plan.own_users || map_all(keeper, &why) == 0)
		return 0;
	if (!keeper->plan.users_given) {
		snprintf(cause.text, sizeof(cause.text), "%.250s", why.msg);
		keeper_note(keeper, &cause);
		return take_back(keeper, err);
	}
	*err = why;
	return th_hint(err, "with --users host it has the host's user IDs");
}

void keeper_share_users(struct keeper *keeper)
{
	th_mounts_close(&keeper->bundle, keeper->own_ids.mount_fds);
	keeper->own_ids.mount_fds = NULL;
	th_close(&keeper->own_ids.lock);
	th_close(&keeper->own_ids.space);
	th_close(&keeper->own_ids.store_mount);
	keeper->own_ids.first = 0;
}
