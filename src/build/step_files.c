/* What a step puts or takes: found, and brought into one list. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "base/random.h"
#include "build/step.h"
#include "container/user.h"
#include "layer/apply.h"
#include "layer/archive.h"

/* ---- owners ---- */

static int find_owner(struct step_files *files, const char *text,
	struct th_gathering *gathering, struct th_error *err)
{
	struct th_buf passwd, group;
	struct th_user user;
	int rc = 0;

	th_buf_init(&passwd, 1 << 20);
	th_buf_init(&group, 1 << 20);
	if (files->below.view)
		rc = th_image_root_read(
			     &files->below, "etc/passwd", &passwd, err) ||
				th_image_root_read(
					&files->below, "etc/group", &group, err)
			? -1
			: 0;
	if (rc == 0)
		rc = th_user_resolve(text, passwd.data, group.data, &user, err);
	if (rc == 0) {
		gathering->has_owner = true;
		gathering->uid = user.uid;
		gathering->gid = user.gid;
	}
	th_buf_release(&passwd);
	th_buf_release(&group);
	return rc;
}

/* ---- archives ---- */

static int unpack_archive(int fd, int tree, struct th_error *err)
{
	struct th_archive *archive = th_archive_new(fd);
	struct th_layer_notes notes = {0};
	uint64_t bytes;
	int rc = archive ? th_layer_apply(th_archive_source(archive), tree,
				   &notes, &bytes, err)
			 : th_fail_memory(err);

	th_archive_free(archive);
	th_layer_notes_release(&notes);
	return rc;
}

/* A folder of its own below tmp/ for each archive. */
static int new_tree(struct stepping *stepping, struct step_files *files,
	struct th_error *err)
{
	int root = stepping->context->store->root_fd;
	size_t number = files->tree_count;
	char id[TH_ID_LENGTH + 1], *path;

	if (!files->trees) {
		files->trees = calloc(TH_RECIPE_STEPS, sizeof(*files->trees));
		files->tree_fds =
			calloc(TH_RECIPE_STEPS, sizeof(*files->tree_fds));
	}
	if (!files->trees || !files->tree_fds || number == TH_RECIPE_STEPS)
		return th_fail_memory(err);
	path = files->trees[number];
	th_id_new(id);
	snprintf(path, sizeof(*files->trees), "tmp/%s.tree", id);
	if (mkdirat(root, path, 0755))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot create a folder in the store");
	files->tree_fds[number] =
		openat(root, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	files->tree_count++;
	return files->tree_fds[number] >= 0
		? 0
		: th_fail_sys(err, TH_FAILED, errno,
			  "cannot open a folder in the store");
}

static int gather_archive(struct stepping *stepping, struct step_files *files,
	struct th_gathering *gathering, const struct th_recipe_pair *pair,
	struct th_error *err)
{
	const char *path;
	const struct th_build_folder *folder = th_build_folder_of(
		gathering->folders, pair->outside, &path, err);
	int fd, tree, rc;

	if (!folder || new_tree(stepping, files, err))
		return -1;
	fd = th_path_open_within(folder->fd, path, O_RDONLY | O_NONBLOCK);
	if (fd < 0)
		return th_fail_sys(err,
			errno == ENOENT ? TH_NOT_FOUND : TH_FAILED, errno,
			"cannot read the archive %.300s", pair->outside);
	tree = files->tree_fds[files->tree_count - 1];
	rc = unpack_archive(fd, tree, err);
	th_close(&fd);
	return rc ? -1 : th_gather_tree(gathering, tree, pair->inside, err);
}

/* ---- images ---- */

int step_source(struct stepping *stepping, const struct th_recipe_pair *pair,
	char image[TH_DIGEST_TEXT], const char **path, struct th_error *err)
{
	size_t len = 0;
	char name[TH_REFERENCE_MAX];
	int number;

	if (!th_recipe_split(pair->outside, &len) || len >= sizeof(name))
		return th_fail(err, TH_USAGE, "\"%.100s\" is not IMAGE:/PATH",
			pair->outside);
	snprintf(name, sizeof(name), "%.*s", (int)len, pair->outside);
	*path = pair->outside + len + 1;
	number = th_recipe_find(stepping->options->recipe, name);
	if (number < 0)
		return step_image(stepping->context, stepping->options,
			stepping->pulling, name, image, err);
	return stepping->await(stepping->owner, (size_t)number, image, err);
}

static int gather_image(struct stepping *stepping, struct step_files *files,
	struct th_gathering *gathering, const struct th_recipe_pair *pair,
	struct th_error *err)
{
	struct th_image_root *root = &files->from[files->from_count];
	char image[TH_DIGEST_TEXT];
	const char *path;

	if (step_source(stepping, pair, image, &path, err) ||
		th_image_root_open(stepping->context->store, image, root, err))
		return -1;
	files->from_count++;
	return th_gather_view(gathering, root->view, path, pair, err);
}

/* ---- */

int step_files_gather(struct stepping *stepping,
	const struct th_recipe_step *step, struct step_files *files,
	struct th_error *err)
{
	struct th_gathering gathering = {.folders = stepping->options->folders,
		.step = step,
		.time = {stepping->time_s, 0},
		.entries = &files->entries};
	int rc = 0;

	memset(files, 0, sizeof(*files));
	files->entries.newest.tv_sec = stepping->time_s;
	files->entries.cancel = stepping->cancel;
	files->from = calloc(step->pair_count + 1, sizeof(*files->from));
	if (!files->from)
		return th_fail_memory(err);
	if (stepping->parent[0])
		rc = th_image_root_open(stepping->context->store,
			stepping->parent, &files->below, err);
	gathering.below = files->below.view;
	if (rc == 0 && step->owner)
		rc = find_owner(files, step->owner, &gathering, err);
	if (rc)
		return step_blame(stepping, &step->place, err);
	for (size_t i = 0; rc == 0 && i < step->pair_count; i++) {
		const struct th_recipe_pair *pair = &step->pairs[i];

		rc = step->kind == TH_STEP_TAKE
			? gather_image(stepping, files, &gathering, pair, err)
			: step->unpack
			? gather_archive(stepping, files, &gathering, pair, err)
			: th_gather_put(&gathering, pair, err);
		if (rc)
			return step_blame(stepping, &pair->place, err);
	}
	files->sockets = gathering.sockets;
	return th_put_entries_finish(&files->entries, gathering.below, err)
		? step_blame(stepping, &step->place, err)
		: 0;
}

void step_files_release(struct stepping *stepping, struct step_files *files)
{
	th_put_entries_release(&files->entries);
	th_image_root_release(&files->below);
	for (size_t i = 0; i < files->from_count; i++)
		th_image_root_release(&files->from[i]);
	free(files->from);
	for (size_t i = 0; i < files->tree_count; i++) {
		th_close(&files->tree_fds[i]);
		th_tree_remove(stepping->context->store->root_fd,
			files->trees[i], NULL);
	}
	free(files->trees);
	free(files->tree_fds);
}
