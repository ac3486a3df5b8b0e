#include "layer/difference.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "layer/attributes.h"
#include "layer/links.h"

#define ATTRIBUTES_BYTES (16u << 20)

/* A folder that is being walked through. */
struct level {
	size_t path_len; /* of the folder's own path */
	int *fds; /* the trees' own parts in it, the lowest first; owned */
	size_t fd_count;
	struct th_strings names; /* sorted */
	size_t next;
	bool hides; /* what is below is not seen */
	bool told; /* its entry is written */
	bool made; /* by a mount's place alone, as far as is known */
};

struct walk {
	struct th_difference *difference;
	struct th_tar_out *out;
	struct th_error *err;
	struct level *levels; /* owned; the innermost last */
	size_t depth, room;
	char path[TH_LAYER_PATH_MAX];
	struct th_links links; /* files with several names */
	struct th_buf attributes;
};

static int fail_read(const struct walk *walk)
{
	return th_fail_sys(
		walk->err, TH_FAILED, errno, "cannot read /%.300s", walk->path);
}

/* ---- entries ---- */

static void fill_entry(const struct walk *walk, const struct stat *st,
	struct th_tar_entry *entry)
{
	const struct timespec *newest = &walk->difference->newest;

	entry->name = walk->path;
	entry->link = "";
	entry->type = st->st_mode & S_IFMT;
	entry->mode = st->st_mode & 07777;
	entry->uid = st->st_uid;
	entry->gid = st->st_gid;
	entry->mtime = st->st_mtim;
	if (newest->tv_sec >= 0 &&
		(st->st_mtim.tv_sec > newest->tv_sec ||
			(st->st_mtim.tv_sec == newest->tv_sec &&
				st->st_mtim.tv_nsec > newest->tv_nsec)))
		entry->mtime = *newest;
	if (S_ISCHR(st->st_mode) || S_ISBLK(st->st_mode))
		entry->device = st->st_rdev;
}

/* fd: readable where it is a file, otherwise whatever stands for it. */
static int put_entry(struct walk *walk, int fd, const struct stat *st)
{
	struct th_tar_entry entry = {0};
	char target[TH_LAYER_PATH_MAX];
	ssize_t len;

	fill_entry(walk, st, &entry);
	if (!*walk->path)
		entry.name = ".";
	walk->difference->entries++;
	if (S_ISLNK(st->st_mode)) {
		len = readlinkat(fd, "", target, sizeof(target) - 1);
		if (len < 0)
			return fail_read(walk);
		target[len] = '\0';
		entry.link = target;
	} else if (th_layer_read_attributes(
			   fd, &entry, &walk->attributes, walk->err)) {
		return -1;
	}
	return th_layer_put_file(walk->out, &entry,
		S_ISREG(st->st_mode) ? fd : -1, walk->path, TH_LAYER_HOLE,
		walk->difference->cancel, walk->err);
}

/* A mark for unpackers: NAME in the folder whose path is so long. */
static int put_mark(struct walk *walk, size_t folder_len, const char *name)
{
	char path[TH_LAYER_PATH_MAX + 16];
	struct th_tar_entry entry = {.name = path,
		.link = "",
		.type = S_IFREG,
		.mtime = walk->difference->newest};

	if (entry.mtime.tv_sec < 0)
		entry.mtime = (struct timespec){0, 0};
	snprintf(path, sizeof(path), "%.*s%s%s", (int)folder_len, walk->path,
		folder_len ? "/" : "", name);
	walk->difference->entries++;
	return th_tar_out_entry(walk->out, &entry, NULL, 0, walk->err);
}

/* ---- what is below ---- */

/* 1 with *found (to be closed), 0, -1. */
static int look_below(
	struct walk *walk, const char *path, struct th_sight *found)
{
	found->fd = -1;
	if (!walk->difference->below)
		return 0;
	return th_view_look(walk->difference->below, path, found, walk->err);
}

static bool same_attributes(struct walk *walk, int one, int other)
{
	struct th_tar_entry a = {.name = walk->path}, b = a;
	struct th_error ignored = {0}; /* what cannot be read differs */
	struct th_buf storage;
	bool same;

	th_buf_init(&storage, ATTRIBUTES_BYTES);
	same = th_layer_read_attributes(one, &a, &walk->attributes, &ignored) ==
			0 &&
		th_layer_read_attributes(other, &b, &storage, &ignored) == 0 &&
		a.attribute_count == b.attribute_count;
	for (size_t i = 0; same && i < a.attribute_count; i++)
		same = strcmp(a.attributes[i].name, b.attributes[i].name) ==
				0 &&
			a.attributes[i].len == b.attributes[i].len &&
			memcmp(a.attributes[i].value, b.attributes[i].value,
				a.attributes[i].len) == 0;
	th_buf_release(&storage);
	return same;
}

/* Of a folder: 1 where what is below is like it but for its time. The root of
 * nothing is like that of any image. */
static int is_like_below(struct walk *walk, int fd, const struct stat *st)
{
	struct th_sight found;
	int rc = look_below(walk, walk->path, &found);

	if (rc == 0)
		return !*walk->path && st->st_uid == 0 && st->st_gid == 0 &&
			(st->st_mode & 07777) == 0755;
	if (rc == 1) {
		rc = S_ISDIR(found.st.st_mode) &&
			found.st.st_uid == st->st_uid &&
			found.st.st_gid == st->st_gid &&
			found.st.st_mode == st->st_mode &&
			same_attributes(walk, fd, found.fd);
		th_close(&found.fd);
	}
	return rc;
}

/* ---- places for mounts ---- */

enum place { NO_PLACE, ABOVE_PLACE, PLACE };

static enum place place_of(const struct walk *walk)
{
	const struct th_strings *mounts = walk->difference->mounts;
	size_t len = strlen(walk->path);
	enum place found = NO_PLACE;

	for (size_t i = 0; mounts && i < mounts->count; i++) {
		const char *target = mounts->items[i];

		target += strspn(target, "/");
		if (strncmp(target, walk->path, len) != 0)
			continue;
		if (!target[len])
			return PLACE;
		if (target[len] == '/')
			found = ABOVE_PLACE;
	}
	return found;
}

/* An empty one that is not below: 1, 0, -1. */
static int is_made_place(struct walk *walk, const struct stat *st)
{
	enum place place = place_of(walk);
	struct th_sight found;
	int rc;

	if (place == NO_PLACE || (!S_ISDIR(st->st_mode) && place != PLACE) ||
		(!S_ISDIR(st->st_mode) &&
			(!S_ISREG(st->st_mode) || st->st_size)))
		return 0;
	rc = look_below(walk, walk->path, &found);
	th_close(&found.fd);
	return rc < 0 ? -1 : !rc;
}

/* ---- folders ---- */

/* The entries of all folders on the way that were held back. */
static int tell_folders(struct walk *walk)
{
	size_t len = strlen(walk->path);
	char kept[TH_LAYER_PATH_MAX];
	int rc = 0;

	memcpy(kept, walk->path, len + 1);
	/* The root's own is written where it differs, see begin_level. */
	for (size_t i = 1; rc == 0 && i < walk->depth; i++) {
		struct level *level = &walk->levels[i];
		int fd = level->fds[level->fd_count - 1];
		struct stat st;

		if (level->told)
			continue;
		level->told = true;
		walk->path[level->path_len] = '\0';
		rc = fstat(fd, &st) ? fail_read(walk)
				    : put_entry(walk, fd, &st);
		memcpy(walk->path, kept, len + 1);
	}
	return rc;
}

static int add_names(struct walk *walk, struct level *level, int fd)
{
	int copy = openat(fd, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *list = copy < 0 ? NULL : fdopendir(copy);
	struct dirent *entry;
	int rc = 0;

	if (!list) {
		th_close(&copy);
		return fail_read(walk);
	}
	while (rc == 0 && (errno = 0, entry = readdir(list))) {
		if (strcmp(entry->d_name, ".") != 0 &&
			strcmp(entry->d_name, "..") != 0 &&
			th_strings_add(&level->names, entry->d_name))
			rc = th_fail_memory(walk->err);
	}
	if (rc == 0 && errno)
		rc = fail_read(walk);
	closedir(list);
	return rc;
}

static int compare_names(const void *one, const void *other)
{
	return strcmp(*(char *const *)one, *(char *const *)other);
}

static void drop_repeated(struct th_strings *names)
{
	size_t kept = 0;

	if (!names->count)
		return;
	qsort(names->items, names->count, sizeof(*names->items), compare_names);
	for (size_t i = 1; i < names->count; i++) {
		if (strcmp(names->items[i], names->items[kept]) == 0)
			free(names->items[i]);
		else
			names->items[++kept] = names->items[i];
	}
	names->count = kept + 1;
}

static void end_level(struct walk *walk)
{
	struct level *level = &walk->levels[--walk->depth];

	for (size_t i = 0; i < level->fd_count; i++)
		th_close(&level->fds[i]);
	free(level->fds);
	th_strings_release(&level->names);
	memset(level, 0, sizeof(*level));
}

static struct level *new_level(struct walk *walk)
{
	size_t trees = walk->difference->tree_count;
	struct level *level;

	if (walk->depth == walk->room) {
		size_t room = walk->room ? 2 * walk->room : 32;
		struct level *more =
			realloc(walk->levels, room * sizeof(*more));

		if (!more)
			return NULL;
		walk->levels = more;
		walk->room = room;
	}
	level = &walk->levels[walk->depth];
	memset(level, 0, sizeof(*level));
	level->fds = malloc((trees + 1) * sizeof(*level->fds));
	level->path_len = strlen(walk->path);
	return level->fds ? level : NULL;
}

/* Opens the folder that the path stands for in all trees that have a part in
 * it; the last one is the topmost. from: the level it lies in, or NULL. */
static int open_parts(
	struct walk *walk, struct level *level, size_t from, const char *name)
{
	const struct level *outer = from ? &walk->levels[from - 1] : NULL;
	const int *fds = outer ? outer->fds : walk->difference->trees;
	size_t count = outer ? outer->fd_count : walk->difference->tree_count;

	level->hides = outer && outer->hides;
	for (size_t i = count; i > 0; i--) {
		int fd = openat(fds[i - 1], name,
			O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);

		if (fd < 0 && errno == ENOENT)
			continue;
		if (fd < 0 && (errno == ENOTDIR || errno == ELOOP)) {
			level->hides = true;
			break;
		}
		if (fd < 0)
			return fail_read(walk);
		level->fds[level->fd_count++] = fd;
		if (outer && th_is_opaque(fd)) {
			level->hides = true;
			break;
		}
	}
	/* The lowest first. */
	for (size_t i = 0; i < level->fd_count / 2; i++) {
		int fd = level->fds[i];

		level->fds[i] = level->fds[level->fd_count - 1 - i];
		level->fds[level->fd_count - 1 - i] = fd;
	}
	return 0;
}

/* An opaque folder over one that is below: its mark comes first in it. */
static int tell_hiding(
	struct walk *walk, const struct level *level, const struct level *outer)
{
	struct th_sight found;
	int rc;

	if (!level->hides || !outer || outer->hides)
		return 0;
	rc = look_below(walk, walk->path, &found);
	th_close(&found.fd);
	if (rc != 1 || !S_ISDIR(found.st.st_mode))
		return rc < 0 ? -1 : 0;
	if (tell_folders(walk))
		return -1;
	return put_mark(walk, level->path_len, ".wh..wh..opq");
}

static int begin_level(struct walk *walk, const char *name)
{
	size_t from = walk->depth;
	struct level *level = new_level(walk);
	struct stat st;
	int fd, rc;

	if (!level)
		return th_fail_memory(walk->err);
	walk->depth++;
	if (open_parts(walk, level, from, name))
		return -1;
	if (!level->fd_count)
		return 0;
	fd = level->fds[level->fd_count - 1];
	if (fstat(fd, &st))
		return fail_read(walk);
	for (size_t i = 0; i < level->fd_count; i++) {
		if (add_names(walk, level, level->fds[i]))
			return -1;
	}
	drop_repeated(&level->names);
	rc = is_made_place(walk, &st);
	level->made = rc == 1;
	if (rc == 0)
		rc = is_like_below(walk, fd, &st);
	if (rc == 0 && from)
		rc = tell_folders(walk);
	else if (rc == 0)
		rc = put_entry(walk, fd, &st);
	if (rc < 0)
		return -1;
	return tell_hiding(walk, level, from ? &walk->levels[from - 1] : NULL);
}

/* ---- what is no folder ---- */

/* Which tree has the name: the topmost. -1 with errno. */
static int find_tree(const struct level *level, const char *name,
	struct stat *st, size_t *tree)
{
	for (size_t i = level->fd_count; i > 0; i--) {
		if (fstatat(level->fds[i - 1], name, st, AT_SYMLINK_NOFOLLOW) ==
			0) {
			*tree = i - 1;
			return 0;
		}
		if (errno != ENOENT)
			return -1;
	}
	return -1;
}

static int put_whiteout(
	struct walk *walk, const struct level *level, const char *name)
{
	char mark[300];
	struct th_sight found;
	int rc;

	if (level->hides)
		return 0;
	rc = look_below(walk, walk->path, &found);
	th_close(&found.fd);
	if (rc <= 0)
		return rc;
	if (tell_folders(walk))
		return -1;
	snprintf(mark, sizeof(mark), ".wh.%.255s", name);
	return put_mark(walk, level->path_len, mark);
}

/* A further name of a file that is written: 1, 0, -1. */
static int put_link(struct walk *walk, const struct stat *st)
{
	struct th_tar_entry entry = {0};
	const char *first = NULL;
	int rc = st->st_nlink < 2
		? 0
		: th_links_look(&walk->links, st->st_dev, st->st_ino,
			  walk->path, &first, walk->err);

	if (rc <= 0)
		return rc;
	fill_entry(walk, st, &entry);
	entry.type = 0;
	entry.link = first;
	walk->difference->entries++;
	return th_tar_out_entry(walk->out, &entry, NULL, 0, walk->err) ? -1 : 1;
}

static int put_other(
	struct walk *walk, int folder, const char *name, const struct stat *st)
{
	int flags = S_ISREG(st->st_mode)
		? O_RDONLY | O_NONBLOCK | O_NOFOLLOW | O_CLOEXEC
		: O_PATH | O_NOFOLLOW | O_CLOEXEC;
	int fd, rc = tell_folders(walk);

	if (rc == 0)
		rc = put_link(walk, st);
	if (rc)
		return rc < 0 ? -1 : 0;
	fd = openat(folder, name, flags);
	rc = fd < 0 ? fail_read(walk) : put_entry(walk, fd, st);
	th_close(&fd);
	return rc;
}

static int take_name(struct walk *walk, const char *name)
{
	struct level *level = &walk->levels[walk->depth - 1];
	struct stat st;
	size_t tree;
	int rc;

	if (th_cancelled(walk->difference->cancel))
		return th_fail(walk->err, TH_FAILED, "it was interrupted");
	if (!th_view_join(walk->path, name))
		return th_fail(walk->err, TH_FAILED,
			"the path of a file is too long: /%.300s", walk->path);
	if (find_tree(level, name, &st, &tree))
		return fail_read(walk);
	if (S_ISDIR(st.st_mode))
		return begin_level(walk, name);
	if (th_is_whiteout(&st)) {
		rc = put_whiteout(walk, level, name);
	} else if (S_ISSOCK(st.st_mode)) {
		walk->difference->sockets++;
		rc = 0;
	} else {
		rc = is_made_place(walk, &st);
		if (rc == 0)
			rc = put_other(walk, level->fds[tree], name, &st);
		else if (rc == 1)
			rc = 0;
	}
	walk->path[level->path_len] = '\0';
	return rc;
}

/* ---- */

static int walk_all(struct walk *walk)
{
	if (begin_level(walk, "."))
		return -1;
	while (walk->depth) {
		struct level *level = &walk->levels[walk->depth - 1];

		if (level->next < level->names.count) {
			if (take_name(walk, level->names.items[level->next++]))
				return -1;
			continue;
		}
		end_level(walk);
		if (walk->depth)
			walk->path[walk->levels[walk->depth - 1].path_len] =
				'\0';
	}
	return 0;
}

int th_layer_difference(struct th_difference *difference,
	struct th_tar_out *out, struct th_error *err)
{
	struct walk walk = {.difference = difference, .out = out, .err = err};
	int rc;

	difference->entries = difference->sockets = 0;
	th_buf_init(&walk.attributes, ATTRIBUTES_BYTES);
	rc = walk_all(&walk);
	while (walk.depth)
		end_level(&walk);
	free(walk.levels);
	th_links_release(&walk.links);
	th_buf_release(&walk.attributes);
	return rc;
}
