#include "image/stack.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/file.h"
#include "base/hash.h"
#include "base/path.h"
#include "base/random.h"
#include "image/borrow.h"
#include "image/stage.h"
#include "layer/attributes.h"

struct settling {
	struct th_store *store;
	struct th_stack *stack;
	struct th_view *view;
	/* of each layer; kept as long as the view is */
	struct th_layer_notes *notes;
	size_t lowest; /* the layer that is the view's first */
	char chain[TH_DIGEST_TEXT];
};

/* ---- chain IDs ---- */

static int add_to_chain(
	char chain[TH_DIGEST_TEXT], const char *diff_id, struct th_error *err)
{
	char both[2 * TH_DIGEST_TEXT];

	if (!*chain) {
		snprintf(chain, TH_DIGEST_TEXT, "%s", diff_id);
		return 0;
	}
	snprintf(both, sizeof(both), "%s %s", chain, diff_id);
	return th_hash_once(both, strlen(both), chain) ? th_fail_memory(err)
						       : 0;
}

int th_chain_id(char *const *diff_ids, size_t count, char chain[TH_DIGEST_TEXT],
	struct th_error *err)
{
	chain[0] = '\0';
	for (size_t i = 0; i < count; i++) {
		if (add_to_chain(chain, diff_ids[i], err))
			return -1;
	}
	return 0;
}

/* ---- what depends on lower layers ---- */

/* Whether the folder that the path lies in hides what is below, in the tree. */
static bool lies_in_opaque(int tree, const char *path)
{
	char folder[TH_LAYER_PATH_MAX];
	const char *at = path;

	while ((at = strchr(at, '/'))) {
		int fd;
		bool opaque;

		snprintf(
			folder, sizeof(folder), "%.*s", (int)(at - path), path);
		fd = th_path_open_beneath(
			tree, folder, O_RDONLY | O_DIRECTORY, 0);
		opaque = fd >= 0 && th_is_opaque(fd);
		th_close(&fd);
		if (opaque)
			return true;
		at++;
	}
	return false;
}

/* What the path, with links on its way or not, meets in lower layers: 1 with
 * *found, 0, -1. */
static int meet(struct settling *settling, int tree, const char *path,
	struct th_sight *found, struct th_error *err)
{
	char folder[TH_LAYER_PATH_MAX], resolved[TH_LAYER_PATH_MAX];
	const char *name = th_path_last(path);
	int rc;

	snprintf(folder, sizeof(folder), "%.*s",
		name > path ? (int)(name - path - 1) : 0, path);
	if (th_view_add(settling->view, tree, NULL, err))
		return -1;
	rc = th_view_resolve(settling->view, folder, resolved, err);
	th_view_drop(settling->view);
	if (rc <= 0 || !th_view_join(resolved, name))
		return rc < 0 ? -1 : 0;
	/* What the layer itself hides is not met. */
	if (lies_in_opaque(tree, resolved))
		return 0;
	return th_view_look(settling->view, resolved, found, err);
}

/* A folder that no entry names: 1 where it cannot stay as it is, as a lower
 * layer has a link or a file on the way there. */
static int is_displaced(struct settling *settling, int tree, const char *path,
	bool bare, struct th_error *err)
{
	char part[TH_LAYER_PATH_MAX];
	const char *at = path;

	if (lies_in_opaque(tree, path))
		return bare;
	for (;;) {
		size_t len = (size_t)(strchrnul(at, '/') - path);
		struct th_sight found;
		mode_t mode;
		int rc;

		snprintf(part, sizeof(part), "%.*s", (int)len, path);
		rc = th_view_look(settling->view, part, &found, err);
		if (rc < 0)
			return -1;
		/* Nothing there: it is as new as it looks. */
		if (rc == 0)
			return bare;
		mode = found.st.st_mode;
		th_close(&found.fd);
		if (!S_ISDIR(mode))
			return 1;
		if (!path[len])
			return 0;
		at = path + len + 1;
	}
}

/* 1 where the layer's own tree is not what it must be on these layers. */
static int must_be_applied(struct settling *settling, int tree,
	const struct th_layer_notes *notes, struct th_error *err)
{
	const struct th_strings *paths = notes->paths;
	int rc = notes->again;

	for (int kind = TH_NOTE_IMPLIED; kind <= TH_NOTE_BARE; kind++) {
		for (size_t i = 0; rc == 0 && i < paths[kind].count; i++)
			rc = is_displaced(settling, tree, paths[kind].items[i],
				kind == TH_NOTE_BARE, err);
	}
	for (int kind = TH_NOTE_DELETED; kind <= TH_NOTE_NODE; kind++) {
		for (size_t i = 0; rc == 0 && i < paths[kind].count; i++) {
			struct th_sight found;

			rc = meet(settling, tree, paths[kind].items[i], &found,
				err);
			if (rc == 1)
				th_close(&found.fd);
			/* A deletion of nothing leaves a mark that is seen; a
			 * node that is left out shows what is below. */
			if (rc >= 0)
				rc = (rc == 1) == (kind == TH_NOTE_NODE);
		}
	}
	return rc;
}

/* The same tree twice is none for an overlay. */
static bool is_repeated(const struct settling *settling, size_t number)
{
	const struct th_stacked *layers = settling->stack->layers;
	const char *diff_id = layers[number].fetch->diff_id;

	for (size_t i = 0; i < number; i++) {
		if (strcmp(layers[i].tree, diff_id) == 0)
			return true;
	}
	return false;
}

/* ---- new trees ---- */

static int begin_tree(
	struct th_store *store, char path[64], int *tree, struct th_error *err)
{
	char id[TH_ID_LENGTH + 1];

	th_id_new(id);
	snprintf(path, 64, "tmp/%s.tree", id);
	*tree = mkdirat(store->root_fd, path, 0755)
		? -1
		: openat(store->root_fd, path,
			  O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	return *tree >= 0
		? 0
		: th_fail_sys(err, TH_FAILED, errno,
			  "cannot create a folder in %s", store->root);
}

static int end_tree(struct th_store *store, const char *path, int *tree,
	const char *name, int rc, struct th_error *err)
{
	th_close(tree);
	if (rc == 0)
		rc = th_stage_keep_tree(store, name, path, err);
	if (rc)
		th_tree_remove(store->root_fd, path, NULL);
	return rc;
}

static void forget_paths(struct th_layer_notes *notes)
{
	for (int kind = 0; kind < TH_NOTE_KINDS; kind++)
		th_strings_release(&notes->paths[kind]);
	notes->again = false;
}

static int apply_on_lower(struct settling *settling, struct th_stacked *layer,
	struct th_error *err)
{
	struct th_store *store = settling->store;
	struct th_layer_notes notes = {0};
	char path[64];
	int tree = -1, rc;

	if (th_stage_has_tree(store, layer->tree))
		return 0;
	rc = th_borrow_tree(store, layer->tree, err);
	if (rc)
		return rc < 0 ? -1 : 0;
	layer->fetch->phase(layer->fetch->owner, TH_LAYER_UNPACK);
	if (begin_tree(store, path, &tree, err))
		return -1;
	rc = th_layer_unpack_above(
		layer->fetch, settling->view, tree, &notes, err);
	/* It has nothing left to others but what is said about the root. */
	forget_paths(&notes);
	if (rc == 0)
		rc = th_stage_keep_notes(store, layer->tree, &notes, err);
	layer->tree_bytes = layer->fetch->tree_bytes;
	rc = end_tree(store, path, &tree, layer->tree, rc, err);
	if (rc == 0)
		layer->fetch->phase(layer->fetch->owner, TH_LAYER_DONE);
	return rc;
}

/* ---- folders as lower layers have them ---- */

static int compare(const void *a, const void *b)
{
	return strcmp(*(char *const *)a, *(char *const *)b);
}

/* The folder and those above it: all have to be there. */
static int add_with_parents(struct th_strings *paths, const char *path)
{
	for (const char *at = path; at; at = *at ? at + 1 : NULL) {
		char *part;

		at = strchrnul(at, '/');
		part = th_format("%.*s", (int)(at - path), path);
		if (th_strings_take(paths, part))
			return -1;
	}
	return 0;
}

/* Whether the layer of the view, counted from the lowest, is a lender's, and
 * its folders are nobody's in a container. */
static bool is_nobodys(const struct settling *settling, size_t layer)
{
	const struct th_stacked *layers = settling->stack->layers;

	return settling->store->unprivileged &&
		th_stage_is_borrowed(
			settling->store, layers[settling->lowest + layer].tree);
}

/* Adds those folders of borrowed layers that are seen. */
static int list_borrowed(struct settling *settling, struct th_strings *paths,
	struct th_error *err)
{
	struct th_strings found = {0};
	int rc = 0;

	for (size_t i = 0; rc == 0 && i < th_view_count(settling->view); i++) {
		if (is_nobodys(settling, i))
			rc = th_borrow_list_folders(
				th_view_tree(settling->view, i), &found, err);
	}
	for (size_t i = 0; rc == 0 && i < found.count; i++) {
		struct th_sight sight;

		rc = th_view_look(settling->view, found.items[i], &sight, err);
		if (rc <= 0)
			continue;
		th_close(&sight.fd);
		rc = S_ISDIR(sight.st.st_mode) &&
				add_with_parents(paths, found.items[i])
			? th_fail_memory(err)
			: 0;
	}
	th_strings_release(&found);
	return rc;
}

/* Those folders of which the topmost layer that has them does not say what they
 * are like, but a lower one does. */
static int list_folders(struct settling *settling, struct th_strings *paths,
	struct th_error *err)
{
	for (size_t i = 0; i < settling->stack->count; i++) {
		const struct th_strings *implied =
			&settling->notes[i].paths[TH_NOTE_IMPLIED];
		const struct th_strings *bare =
			&settling->notes[i].paths[TH_NOTE_BARE];

		for (size_t k = 0; k < implied->count + bare->count; k++) {
			const char *path = k < implied->count
				? implied->items[k]
				: bare->items[k - implied->count];
			struct th_sight found;
			int rc =
				th_view_look(settling->view, path, &found, err);

			if (rc < 0)
				return -1;
			if (rc == 0)
				continue;
			th_close(&found.fd);
			if (S_ISDIR(found.st.st_mode) && found.said &&
				found.layer != found.first &&
				add_with_parents(paths, path))
				return th_fail_memory(err);
		}
	}
	return 0;
}

static int fail_folder(const char *path, struct th_error *err)
{
	return th_fail_sys(err, TH_FAILED, errno,
		"cannot create the folder \"%.200s\" of the image", path);
}

/* A folder of nobody's becomes the user's; what is in one that nobody but its
 * owner may read is hidden, as an overlay could not list the two together. */
static int dress(
	struct settling *settling, const struct th_sight *found, int folder)
{
	struct stat st = found->st;
	char path[TH_FD_PATH];

	if (!is_nobodys(settling, found->layer))
		return th_layer_copy_attributes(found->fd, &st, folder);
	st.st_uid = st.st_gid = 0;
	if (access(th_fd_path(found->fd, "", path), R_OK | X_OK) &&
		fsetxattr(folder, TH_OPAQUE_OF_USERS, "y", 1, 0))
		return -1;
	return th_layer_copy_attributes(found->fd, &st, folder);
}

/* The last ones first: what comes into a folder changes its time. */
static int dress_folders(struct settling *settling, int tree,
	const struct th_strings *paths, struct th_error *err)
{
	for (size_t i = paths->count; i > 0; i--) {
		const char *path = paths->items[i - 1];
		struct th_sight found;
		int rc, fd;

		if (i > 1 && strcmp(path, paths->items[i - 2]) == 0)
			continue;
		rc = th_view_look(settling->view, path, &found, err);
		if (rc < 0)
			return -1;
		if (rc == 0)
			continue;
		fd = th_path_open_beneath(
			tree, path, O_RDONLY | O_DIRECTORY, 0);
		rc = fd < 0 || dress(settling, &found, fd)
			? fail_folder(path, err)
			: 0;
		th_close(&fd);
		th_close(&found.fd);
		if (rc)
			return -1;
	}
	return 0;
}

static int fill_folders(struct settling *settling, int tree,
	const struct th_strings *paths, struct th_error *err)
{
	for (size_t i = 0; i < paths->count; i++) {
		if (mkdirat(tree, paths->items[i], 0700) && errno != EEXIST)
			return fail_folder(paths->items[i], err);
	}
	return dress_folders(settling, tree, paths, err);
}

static int make_folders(struct settling *settling, struct th_error *err)
{
	struct th_stack *stack = settling->stack;
	struct th_strings paths = {0};
	char path[64];
	int tree = -1, rc = list_folders(settling, &paths, err);

	if (rc == 0)
		rc = list_borrowed(settling, &paths, err);
	if (rc == 0 && paths.count) {
		qsort(paths.items, paths.count, sizeof(*paths.items), compare);
		snprintf(stack->folders, sizeof(stack->folders),
			"%s" TH_TREE_FOLDERS, settling->chain);
		if (!th_stage_has_tree(settling->store, stack->folders)) {
			rc = begin_tree(settling->store, path, &tree, err);
			if (rc == 0)
				rc = end_tree(settling->store, path, &tree,
					stack->folders,
					fill_folders(
						settling, tree, &paths, err),
					err);
		}
	}
	th_strings_release(&paths);
	return rc;
}

/* ---- */

/* The layer hides all that is below. */
static void begin_anew(struct settling *settling, size_t number)
{
	while (th_view_count(settling->view))
		th_view_drop(settling->view);
	for (size_t i = 0; i < number; i++) {
		settling->stack->layers[i].tree[0] = '\0';
		th_layer_notes_release(&settling->notes[i]);
	}
	settling->stack->root[0] = '\0';
	settling->lowest = number;
}

static int settle_layer(
	struct settling *settling, size_t number, struct th_error *err)
{
	struct th_stacked *layer = &settling->stack->layers[number];
	struct th_layer_notes *notes = &settling->notes[number];
	const char *diff_id = layer->fetch->diff_id;
	int tree = -1, rc;

	layer->tree[0] = '\0';
	if (add_to_chain(settling->chain, diff_id, err))
		return -1;
	/* Where the tree is not there, the layer was applied on its lower ones
	 * by an earlier pull. */
	if (th_stage_has_tree(settling->store, diff_id)) {
		if (th_stage_read_notes(settling->store, diff_id, notes, err))
			return -1;
		tree = th_stage_open_tree(settling->store, diff_id, err);
		if (tree < 0)
			return -1;
	} else {
		snprintf(layer->tree, sizeof(layer->tree), "%s" TH_TREE_OWN,
			settling->chain);
		if (th_stage_read_notes(
			    settling->store, layer->tree, notes, err))
			return -1;
	}
	if (notes->opaque)
		begin_anew(settling, number);
	rc = tree < 0 || is_repeated(settling, number)
		? 1
		: must_be_applied(settling, tree, notes, err);
	if (rc == 1) {
		th_close(&tree);
		snprintf(layer->tree, sizeof(layer->tree), "%s" TH_TREE_OWN,
			settling->chain);
		rc = apply_on_lower(settling, layer, err);
		forget_paths(notes);
		if (rc == 0) {
			tree = th_stage_open_tree(
				settling->store, layer->tree, err);
			rc = tree < 0 ? -1 : 0;
		}
	} else if (rc == 0) {
		snprintf(layer->tree, sizeof(layer->tree), "%s", diff_id);
	}
	if (rc == 0)
		rc = th_view_add(settling->view, tree, notes, err);
	th_close(&tree);
	if (rc == 0 && notes->root)
		snprintf(settling->stack->root, sizeof(settling->stack->root),
			"%s", layer->tree);
	return rc;
}

int th_stack_settle(
	struct th_store *store, struct th_stack *stack, struct th_error *err)
{
	struct settling settling = {.store = store, .stack = stack};
	int rc = -1;

	stack->folders[0] = stack->root[0] = '\0';
	settling.view = th_view_new();
	settling.notes = calloc(stack->count + 1, sizeof(*settling.notes));
	if (!settling.view || !settling.notes) {
		th_fail_memory(err);
		goto out;
	}
	rc = 0;
	for (stack->reached = 0; stack->reached < stack->count;
		stack->reached++) {
		rc = settle_layer(&settling, stack->reached, err);
		if (rc)
			break;
	}
	if (rc == 0)
		rc = make_folders(&settling, err);
out:
	th_view_free(settling.view);
	for (size_t i = 0; settling.notes && i < stack->count; i++)
		th_layer_notes_release(&settling.notes[i]);
	free(settling.notes);
	return rc;
}
