#include "build/changes.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "container/image_root.h"
#include "container/secrets.h"
#include "oci/bundle.h"

#define READ_BYTES (64 * 1024)

/* Appends room for one more, cleared; NULL without memory. */
static void *more(void **list, size_t *count, size_t size)
{
	void *item = th_grow(list, *count, size);

	*count += item != NULL;
	return item ? memset(item, 0, size) : NULL;
}

/* ---- two entries ---- */

static int read_some(int fd, char *to, size_t *len)
{
	*len = 0;
	while (*len < READ_BYTES) {
		ssize_t got = read(fd, to + *len, READ_BYTES - *len);

		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0)
			return -1;
		if (got == 0)
			break;
		*len += (size_t)got;
	}
	return 0;
}

static int same_bytes(int one, int other, char *buffers)
{
	char *first = buffers, *second = buffers + READ_BYTES;
	size_t len, other_len;

	do {
		if (read_some(one, first, &len) ||
			read_some(other, second, &other_len))
			return -1;
		if (len != other_len || memcmp(first, second, len) != 0)
			return 0;
	} while (len == READ_BYTES);
	return 1;
}

/* 1 the same, 0, -1. The descriptors are such that cannot be read. */
static int same_files(int one, int other, struct th_error *err)
{
	char path[TH_FD_PATH], *buffers = malloc(2 * READ_BYTES);
	int a, b, rc = -1;

	a = open(th_fd_path(one, "", path), O_RDONLY | O_CLOEXEC);
	b = open(th_fd_path(other, "", path), O_RDONLY | O_CLOEXEC);
	if (!buffers)
		th_fail_memory(err);
	else if (a < 0 || b < 0 || (rc = same_bytes(a, b, buffers)) < 0)
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot compare two files of layers");
	th_close(&a);
	th_close(&b);
	free(buffers);
	return rc;
}

static int same_links(int one, int other)
{
	char a[4096], b[4096];
	ssize_t len = readlinkat(one, "", a, sizeof(a));

	return len == readlinkat(other, "", b, sizeof(b)) && len >= 0 &&
		memcmp(a, b, (size_t)len) == 0;
}

static int same_content(const struct th_sight *before,
	const struct th_sight *after, struct th_error *err)
{
	switch (before->st.st_mode & S_IFMT) {
	case S_IFREG:
		if (before->st.st_size != after->st.st_size)
			return 0;
		return same_files(before->fd, after->fd, err);
	case S_IFLNK:
		return same_links(before->fd, after->fd);
	case S_IFCHR:
	case S_IFBLK:
		return before->st.st_rdev == after->st.st_rdev;
	default:
		return 1;
	}
}

static int64_t time_of(const struct stat *st)
{
	return (int64_t)st->st_mtim.tv_sec * 1000000 +
		st->st_mtim.tv_nsec / 1000;
}

/* The set of aspects, -1. A folder's time says only that something in it has
 * changed. */
static int compare(const struct th_sight *before, const struct th_sight *after,
	struct th_error *err)
{
	const struct stat *a = &before->st, *b = &after->st;
	int aspects = 0, same;

	if ((a->st_mode & S_IFMT) != (b->st_mode & S_IFMT))
		return TH_ASPECT_KIND;
	if (a->st_uid != b->st_uid || a->st_gid != b->st_gid)
		aspects |= TH_ASPECT_OWNER;
	if ((a->st_mode & 07777) != (b->st_mode & 07777))
		aspects |= TH_ASPECT_MODE;
	same = same_content(before, after, err);
	if (same < 0)
		return -1;
	if (!same)
		aspects |= TH_ASPECT_CONTENT;
	if (!aspects && !S_ISDIR(a->st_mode) && time_of(a) != time_of(b))
		aspects = TH_ASPECT_TIME;
	return aspects;
}

/* ---- two roots ---- */

struct comparison {
	const struct th_context *context;
	struct th_view *before, *after;
	size_t common;
	struct th_file_changes *changes;
	struct th_strings folders; /* to be looked into, the next one last */
};

static int interrupted(const struct th_context *context, struct th_error *err)
{
	if (!context->cancel || !atomic_load(context->cancel))
		return 0;
	return th_fail(err, TH_FAILED, "it was interrupted");
}

/* All that a folder holds, itself not counted. */
static int add_up(const struct th_context *context, struct th_view *view,
	const char *path, uint64_t *bytes, struct th_error *err)
{
	struct th_strings left = {0};
	int rc = th_strings_add(&left, path) ? th_fail_memory(err) : 0;

	while (rc == 0 && left.count) {
		char *folder = left.items[--left.count];
		struct th_strings names = {0};

		rc = interrupted(context, err);
		if (rc == 0)
			rc = th_view_names(view, folder, 0, &names, err);
		rc = rc < 0 ? -1 : 0;
		for (size_t i = 0; rc == 0 && i < names.count; i++) {
			char inner[TH_LAYER_PATH_MAX];
			struct th_sight sight;

			snprintf(inner, sizeof(inner), "%s", folder);
			if (!th_view_join(inner, names.items[i]))
				continue;
			rc = th_view_look(view, inner, &sight, err);
			if (rc != 1)
				continue;
			rc = 0;
			th_close(&sight.fd);
			if (S_ISREG(sight.st.st_mode))
				*bytes += (uint64_t)sight.st.st_size;
			else if (S_ISDIR(sight.st.st_mode) &&
				th_strings_add(&left, inner))
				rc = th_fail_memory(err);
		}
		th_strings_release(&names);
		free(folder);
	}
	th_strings_release(&left);
	return rc < 0 ? -1 : 0;
}

static int note(struct comparison *comparison, const char *path,
	enum th_change_kind kind, int aspects, const struct stat *before,
	const struct stat *now, struct th_error *err)
{
	void *list = comparison->changes->list;
	struct th_file_change *change =
		more(&list, &comparison->changes->count, sizeof(*change));

	if (!change)
		return th_fail_memory(err);
	comparison->changes->list = list;
	change->kind = kind;
	change->aspects = aspects;
	change->path = strdup(path);
	change->mode = now->st_mode;
	change->time_us = time_of(now);
	if (S_ISREG(now->st_mode))
		change->bytes = (uint64_t)now->st_size;
	if (before && S_ISREG(before->st_mode))
		change->before_bytes = (uint64_t)before->st_size;
	if (!change->path)
		return th_fail_memory(err);
	if (kind != TH_FILE_GONE || !S_ISDIR(now->st_mode))
		return 0;
	return add_up(comparison->context, comparison->before, path,
		&change->bytes, err);
}

/* What both have from layers that are the same needs no look. */
static bool is_shared(const struct comparison *comparison,
	const struct th_sight *before, const struct th_sight *after)
{
	return before->first < comparison->common &&
		after->first < comparison->common;
}

static int compare_one(struct comparison *comparison, const char *path,
	const struct th_sight *before, const struct th_sight *after,
	struct th_error *err)
{
	const struct stat *was = before ? &before->st : NULL;
	const struct stat *is = after ? &after->st : NULL;
	int aspects = 0, rc = 0;

	if (before && after) {
		if (is_shared(comparison, before, after))
			return 0;
		aspects = compare(before, after, err);
		if (aspects < 0)
			return -1;
	}
	if (!after)
		return note(comparison, path, TH_FILE_GONE, 0, NULL, was, err);
	if (!before)
		rc = note(comparison, path, TH_FILE_NEW, 0, NULL, is, err);
	else if (aspects)
		rc = note(comparison, path, TH_FILE_CHANGED, aspects, was, is,
			err);
	if (rc == 0 && S_ISDIR(is->st_mode) &&
		th_strings_add(&comparison->folders, path))
		rc = th_fail_memory(err);
	return rc;
}

static int look(struct th_view *view, const char *path, struct th_sight *sight,
	struct th_error *err)
{
	sight->fd = -1;
	return th_view_look(view, path, sight, err);
}

static int compare_at(
	struct comparison *comparison, const char *path, struct th_error *err)
{
	struct th_sight before, after;
	int was = look(comparison->before, path, &before, err);
	int is = was < 0 ? -1 : look(comparison->after, path, &after, err);
	int rc = is < 0 ? -1 : 0;

	if (rc == 0 && (was || is))
		rc = compare_one(comparison, path, was ? &before : NULL,
			is ? &after : NULL, err);
	th_close(&before.fd);
	if (was >= 0)
		th_close(&after.fd);
	return rc;
}

static int compare_folder(
	struct comparison *comparison, const char *folder, struct th_error *err)
{
	struct th_view *const both[] = {comparison->before, comparison->after};
	struct th_strings names = {0};
	int rc = 0, alone = 0;

	for (int i = 0; i < 2 && rc >= 0; i++) {
		rc = th_view_names(
			both[i], folder, comparison->common, &names, err);
		alone |= rc == 1;
	}
	/* Where one of them hides what both have below, all counts. */
	for (int i = 0; i < 2 && rc >= 0 && alone; i++)
		rc = th_view_names(both[i], folder, 0, &names, err);
	rc = rc < 0 ? -1 : 0;
	for (size_t i = 0; rc == 0 && i < names.count; i++) {
		char path[TH_LAYER_PATH_MAX];

		snprintf(path, sizeof(path), "%s", folder);
		if (th_view_join(path, names.items[i]))
			rc = compare_at(comparison, path, err);
	}
	th_strings_release(&names);
	return rc;
}

static int by_path(const void *one, const void *other)
{
	const struct th_file_change *a = one, *b = other;
	const unsigned char *at = (const unsigned char *)a->path;
	const unsigned char *to = (const unsigned char *)b->path;

	while (*at && *at == *to) {
		at++;
		to++;
	}
	/* What lies in a folder stands behind it, before its neighbours. */
	return (*at == '/'	     ? 1
			       : *at ? *at + 1
				     : 0) -
		(*to == '/'	      ? 1
				: *to ? *to + 1
				      : 0);
}

int th_changes_between(const struct th_context *context, struct th_view *before,
	struct th_view *after, size_t common, struct th_file_changes *changes,
	struct th_error *err)
{
	struct comparison comparison = {.context = context,
		.before = before,
		.after = after,
		.common = common,
		.changes = changes};
	int rc = th_strings_add(&comparison.folders, "") ? th_fail_memory(err)
							 : 0;

	memset(changes, 0, sizeof(*changes));
	while (rc == 0 && comparison.folders.count) {
		char *folder =
			comparison.folders.items[--comparison.folders.count];

		rc = interrupted(context, err);
		if (rc == 0)
			rc = compare_folder(&comparison, folder, err);
		free(folder);
	}
	th_strings_release(&comparison.folders);
	if (rc)
		th_file_changes_release(changes);
	else if (changes->count)
		qsort(changes->list, changes->count, sizeof(*changes->list),
			by_path);
	return rc;
}

void th_file_changes_release(struct th_file_changes *changes)
{
	for (size_t i = 0; i < changes->count; i++)
		free(changes->list[i].path);
	free(changes->list);
	memset(changes, 0, sizeof(*changes));
}

/* ---- a container, two images ---- */

/* A place for a mount is made where the image has none: it is not the
 * program's, and what is mounted there is not in the root. */
static bool is_mount_point(
	const struct th_bundle *bundle, const struct th_file_change *change)
{
	bool empty = S_ISDIR(change->mode) ||
		(S_ISREG(change->mode) && !change->bytes);

	/* What the keeper mounts by itself. */
	if (change->kind == TH_FILE_NEW && empty &&
		strcmp(&TH_SECRETS_TARGET[1], change->path) == 0)
		return true;
	for (size_t i = 0;
		change->kind == TH_FILE_NEW && empty && i < bundle->mount_count;
		i++) {
		const char *target = bundle->mounts[i].target;

		if (strcmp(target + strspn(target, "/"), change->path) == 0)
			return true;
	}
	return false;
}

static int leave_out_mounts(
	int folder, struct th_file_changes *changes, struct th_error *err)
{
	struct th_bundle bundle;
	size_t kept = 0;

	if (th_bundle_read(folder, &bundle, err))
		return -1;
	for (size_t i = 0; i < changes->count; i++) {
		if (is_mount_point(&bundle, &changes->list[i]))
			free(changes->list[i].path);
		else
			changes->list[kept++] = changes->list[i];
	}
	changes->count = kept;
	th_bundle_release(&bundle);
	return 0;
}

int th_changes_of_container(const struct th_context *context,
	const struct th_container_row *row, struct th_file_changes *changes,
	struct th_error *err)
{
	struct th_image_root before, after;
	int folder = -1, upper = -1, rc = -1;
	size_t layers;

	memset(changes, 0, sizeof(*changes));
	if (th_image_root_open(context->store, row->image, &before, err))
		return -1;
	if (th_image_root_open(context->store, row->image, &after, err)) {
		th_image_root_release(&before);
		return -1;
	}
	layers = th_view_count(before.view);
	folder = th_container_folder(context, row, err);
	if (folder >= 0)
		upper = openat(folder, "upper",
			O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
	/* One that was never started has written nothing. */
	if (folder >= 0 && upper < 0 && errno == ENOENT)
		rc = 0;
	else if (folder >= 0 && upper < 0)
		th_fail_sys(err, TH_FAILED, errno,
			"cannot open what the container has written");
	if (upper >= 0 && th_view_add(after.view, upper, NULL, err) == 0)
		rc = th_changes_between(
			context, before.view, after.view, layers, changes, err);
	if (rc == 0 && leave_out_mounts(folder, changes, err)) {
		th_file_changes_release(changes);
		rc = -1;
	}
	th_close(&upper);
	th_close(&folder);
	th_image_root_release(&after);
	th_image_root_release(&before);
	return rc;
}

int th_changes_of_images(const struct th_context *context, const char *before,
	const char *after, struct th_file_changes *changes,
	struct th_error *err)
{
	struct th_image_root one, other;
	size_t common = 0;
	int rc;

	memset(changes, 0, sizeof(*changes));
	if (th_image_root_open(context->store, before, &one, err))
		return -1;
	if (th_image_root_open(context->store, after, &other, err)) {
		th_image_root_release(&one);
		return -1;
	}
	while (common < one.trees.count && common < other.trees.count &&
		strcmp(one.trees.items[common], other.trees.items[common]) == 0)
		common++;
	rc = th_changes_between(
		context, one.view, other.view, common, changes, err);
	th_image_root_release(&other);
	th_image_root_release(&one);
	return rc;
}

/* ---- what nobody can see ---- */

struct search {
	const struct th_context *context;
	struct th_view *whole, *layer;
	size_t number;
	struct th_hidden *hidden;
	struct th_strings folders;
};

static int note_hidden(struct search *search, const char *path, uint64_t bytes,
	struct th_error *err)
{
	void *list = search->hidden->list;
	struct th_hidden_file *file =
		more(&list, &search->hidden->count, sizeof(*file));

	if (!file)
		return th_fail_memory(err);
	search->hidden->list = list;
	search->hidden->bytes += bytes;
	file->path = strdup(path);
	file->layer = search->number;
	file->bytes = bytes;
	return file->path ? 0 : th_fail_memory(err);
}

static int search_at(
	struct search *search, const char *path, struct th_error *err)
{
	struct th_sight own, seen = {.fd = -1};
	int rc = look(search->layer, path, &own, err), there;

	if (rc <= 0)
		return rc;
	th_close(&own.fd);
	if (S_ISDIR(own.st.st_mode))
		return th_strings_add(&search->folders, path)
			? th_fail_memory(err)
			: 0;
	if (!S_ISREG(own.st.st_mode) || own.st.st_size == 0)
		return 0;
	there = look(search->whole, path, &seen, err);
	th_close(&seen.fd);
	if (there < 0)
		return -1;
	return there && seen.layer == search->number
		? 0
		: note_hidden(search, path, (uint64_t)own.st.st_size, err);
}

static int search_layer(struct search *search, struct th_error *err)
{
	int rc = th_strings_add(&search->folders, "") ? th_fail_memory(err) : 0;

	while (rc == 0 && search->folders.count) {
		char *folder = search->folders.items[--search->folders.count];
		struct th_strings names = {0};

		rc = interrupted(search->context, err);
		if (rc == 0)
			rc = th_view_names(
				search->layer, folder, 0, &names, err);
		rc = rc < 0 ? -1 : 0;
		for (size_t i = 0; rc == 0 && i < names.count; i++) {
			char path[TH_LAYER_PATH_MAX];

			snprintf(path, sizeof(path), "%s", folder);
			if (th_view_join(path, names.items[i]))
				rc = search_at(search, path, err);
		}
		th_strings_release(&names);
		free(folder);
	}
	return rc;
}

static int by_bytes(const void *one, const void *other)
{
	const struct th_hidden_file *a = one, *b = other;

	if (a->bytes != b->bytes)
		return a->bytes < b->bytes ? 1 : -1;
	return strcmp(a->path, b->path);
}

int th_hidden_of_image(const struct th_context *context, const char *digest,
	struct th_hidden *hidden, struct th_error *err)
{
	struct th_image_root root;
	int rc = 0;

	memset(hidden, 0, sizeof(*hidden));
	if (th_image_root_open(context->store, digest, &root, err))
		return -1;
	hidden->layers = th_view_count(root.view);
	/* Nothing can hide what is on top. */
	for (size_t i = 0; rc == 0 && i + 1 < hidden->layers; i++) {
		struct search search = {.context = context,
			.whole = root.view,
			.layer = th_view_new(),
			.number = i,
			.hidden = hidden};

		rc = search.layer
			? th_view_add(search.layer, th_view_tree(root.view, i),
				  NULL, err)
			: th_fail_memory(err);
		if (rc == 0)
			rc = search_layer(&search, err);
		th_strings_release(&search.folders);
		th_view_free(search.layer);
	}
	th_image_root_release(&root);
	if (rc)
		th_hidden_release(hidden);
	else if (hidden->count)
		qsort(hidden->list, hidden->count, sizeof(*hidden->list),
			by_bytes);
	return rc;
}

void th_hidden_release(struct th_hidden *hidden)
{
	for (size_t i = 0; i < hidden->count; i++)
		free(hidden->list[i].path);
	free(hidden->list);
	memset(hidden, 0, sizeof(*hidden));
}
