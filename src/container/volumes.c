#include "container/volumes.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "base/random.h"
#include "container/copy.h"
#include "container/root.h"
#include "oci/bundle.h"
#include "store/volume_state.h"

static bool is_set(const struct th_settings *settings, const char *target)
{
	for (size_t i = 0; i < settings->mount_count; i++) {
		if (strcmp(settings->mounts[i].target, target) == 0)
			return true;
	}
	return false;
}

/* Of the container whose place it takes: what is in it stays. 1, 0, -1. */
static int inherit(struct th_store *store, const struct th_settings *settings,
	struct th_mount_setting *mount, struct th_error *err)
{
	char name[TH_NAME_MAX];
	int rc = settings->replaces ? th_volume_of(store, settings->replaces,
					      mount->target, name, err)
				    : 0;

	if (rc <= 0)
		return rc;
	mount->volume = strdup(name);
	return mount->volume ? 1 : th_fail_memory(err);
}

int volumes_declare(struct th_store *store, struct th_settings *settings,
	const struct th_image_config *image, struct th_error *err)
{
	size_t count = settings->mount_count + image->volumes.count;
	struct th_mount_setting *mounts;

	mounts = realloc(settings->mounts, (count + 1) * sizeof(*mounts));
	if (!mounts)
		return th_fail_memory(err);
	settings->mounts = mounts;
	for (size_t i = 0; i < image->volumes.count; i++) {
		struct th_mount_setting *mount =
			&settings->mounts[settings->mount_count];
		char id[TH_ID_LENGTH + 1];
		char *target = th_path_absolute("/", image->volumes.items[i]);
		int rc;

		if (!target)
			return th_fail_memory(err);
		if (is_set(settings, target) || strcmp(target, "/") == 0) {
			free(target);
			continue;
		}
		memset(mount, 0, sizeof(*mount));
		mount->kind = TH_MOUNT_VOLUME;
		mount->target = target;
		settings->mount_count++;
		rc = inherit(store, settings, mount, err);
		if (rc < 0)
			return -1;
		if (rc == 1)
			continue;
		th_id_new(id);
		mount->volume = strdup(id);
		mount->own = true;
		if (!mount->volume)
			return th_fail_memory(err);
	}
	return 0;
}

/* Where it will lie: it need not be there yet. */
int volumes_place(struct th_store *store, struct th_settings *settings,
	struct th_error *err)
{
	for (size_t i = 0; i < settings->mount_count; i++) {
		struct th_mount_setting *mount = &settings->mounts[i];

		if (!mount->volume || mount->source)
			continue;
		mount->source = th_volume_path(store, mount->volume);
		if (!mount->source)
			return th_fail_memory(err);
	}
	return 0;
}

/* What the image has there, with its owners; a new volume of nothing belongs to
 * the program's user, who could not write to it otherwise. */
static int fill(int root, const struct th_mount_setting *mount, int volume,
	const struct th_process *process, struct th_error *err)
{
	struct th_copy copy = {.owner = TH_OWNER_KEEP};
	int from = th_path_open_in_root(root, mount->target + 1,
		O_RDONLY | O_DIRECTORY | O_NONBLOCK, 0);
	struct stat st;
	int rc;

	if (from < 0) {
		if (fchown(volume, process->uid, process->gid)) {
			/* It stays root's. */
		}
		return 0;
	}
	rc = th_copy_entries(from, volume, &copy, err);
	if (rc == 0 && fstat(from, &st) == 0 &&
		(fchown(volume, st.st_uid, st.st_gid) ||
			fchmod(volume, st.st_mode & 07777)))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot set the owner of the volume \"%s\"",
			mount->volume);
	th_close(&from);
	return rc;
}

/* A folder cannot be mounted over a file, nor a file over a folder. */
static int check_target(
	int root, const struct th_mount_setting *mount, struct th_error *err)
{
	int fd = th_path_open_in_root(root, mount->target + 1, O_PATH, 0);
	struct stat inside, outside = {.st_mode = S_IFDIR};
	bool fits = fd < 0 || !mount->source || fstat(fd, &inside) ||
		(!mount->volume && stat(mount->source, &outside)) ||
		S_ISDIR(inside.st_mode) == S_ISDIR(outside.st_mode);

	th_close(&fd);
	if (fits)
		return 0;
	th_fail(err, TH_USAGE,
		"mount target %s is a %s in the image, but %s is a %s",
		mount->target, S_ISDIR(inside.st_mode) ? "folder" : "file",
		mount->source, S_ISDIR(outside.st_mode) ? "folder" : "file");
	return th_hint(err, "choose another target");
}

/* Fills one that is empty; the lock keeps out another one that does the same.
 */
static int fill_folder(const char *path, int root,
	const struct th_mount_setting *mount, const struct th_process *process,
	struct th_error *err)
{
	int folder = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	int rc = 0;

	if (folder < 0 || flock(folder, LOCK_EX))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot open the volume \"%s\"", mount->volume);
	else if (th_dir_is_empty(folder))
		rc = fill(root, mount, folder, process, err);
	/* A power cut must not leave a volume that is known, with files that
	 * are empty. */
	if (rc == 0 && !th_dir_is_empty(folder))
		syncfs(folder);
	th_close(&folder);
	return rc;
}

/* One that is there is filled where it lies, a new one where it is made. */
static int prepare(struct th_store *store, const char *container, int root,
	const struct th_mount_setting *mount, const struct th_process *process,
	struct th_error *err)
{
	int rc = th_volume_known(store, mount->volume, err);
	char *path;

	if (rc < 0)
		return -1;
	path = rc == 1 ? strdup(mount->source)
		       : th_volume_staged_path(store, container, mount->volume);
	if (!path)
		return th_fail_memory(err);
	rc = rc == 1 ? th_volume_mend(store, mount->volume, err)
		     : th_volume_stage(store, container, mount->volume, err);
	if (rc == 0)
		rc = fill_folder(path, root, mount, process, err);
	free(path);
	return rc;
}

int volumes_prepare(struct th_store *store, const struct th_settings *settings,
	const char *container, int folder, struct th_error *err)
{
	struct th_bundle bundle;
	struct th_plan plan;
	int root = -1, rc;
	bool any = false;

	for (size_t i = 0; i < settings->mount_count; i++)
		any |= settings->mounts[i].source != NULL;
	if (!any)
		return 0;
	if (th_plan_read(folder, &plan, err))
		return -1;
	rc = th_bundle_read(folder, &bundle, err);
	if (rc == 0) {
		rc = th_plan_open_root(
			&plan, store, container, false, &root, err);
		for (size_t i = 0; rc == 0 && i < settings->mount_count; i++)
			rc = check_target(root, &settings->mounts[i], err);
		for (size_t i = 0; rc == 0 && i < settings->mount_count; i++) {
			if (settings->mounts[i].volume)
				rc = prepare(store, container, root,
					&settings->mounts[i], &bundle.process,
					err);
		}
		th_bundle_release(&bundle);
	}
	th_plan_release(&plan);
	th_close(&root);
	return rc;
}

/* True where volumes_prepare has made a folder for it. */
static bool is_staged(
	struct th_store *store, const char *container, const char *volume)
{
	char *path = th_volume_staged_path(store, container, volume);
	bool staged = path && access(path, F_OK) == 0;

	free(path);
	return staged;
}

int volumes_record(struct th_store *store, const struct th_settings *settings,
	const char *container, struct th_error *err)
{
	for (size_t i = 0; i < settings->mount_count; i++) {
		const struct th_mount_setting *mount = &settings->mounts[i];
		int placed = 1;

		if (!mount->volume)
			continue;
		/* The same one may be mounted twice. */
		if (is_staged(store, container, mount->volume))
			placed =
				th_volume_place(store, container, mount->volume,
					mount->own ? container : "", err);
		if (placed <= 0)
			return placed < 0 ? -1 : 1;
		if (th_volume_use(store, mount->volume, container,
			    mount->target, err))
			return -1;
	}
	return 0;
}
