#include "build/context_parts.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <fnmatch.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"

#define DEPTH_MAX 200

/* ---- folders ---- */

int th_build_folders_add(struct th_build_folders *folders, const char *name,
	const char *path, struct th_error *err)
{
	struct th_build_folder *more =
		realloc(folders->list, (folders->count + 1) * sizeof(*more));
	struct th_build_folder *one;

	if (!more)
		return th_fail_memory(err);
	folders->list = more;
	one = &more[folders->count];
	one->name = strdup(name);
	one->path = strdup(path);
	one->fd = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	folders->count++;
	if (!one->name || !one->path)
		return th_fail_memory(err);
	if (one->fd >= 0)
		return 0;
	return th_fail_sys(err,
		errno == ENOENT || errno == ENOTDIR ? TH_NOT_FOUND : TH_FAILED,
		errno, "the folder %.300s", path);
}

void th_build_folders_release(struct th_build_folders *folders)
{
	for (size_t i = 0; i < folders->count; i++) {
		free(folders->list[i].name);
		free(folders->list[i].path);
		th_close(&folders->list[i].fd);
	}
	free(folders->list);
	memset(folders, 0, sizeof(*folders));
}

static const struct th_build_folder *find_folder(
	const struct th_build_folders *folders, const char *name, size_t len)
{
	for (size_t i = 0; i < folders->count; i++) {
		if (strncmp(folders->list[i].name, name, len) == 0 &&
			!folders->list[i].name[len])
			return &folders->list[i];
	}
	return NULL;
}

/* Whether a part of the path is "..". */
static bool climbs(const char *path)
{
	while (*path) {
		size_t len = strcspn(path, "/");

		if (len == 2 && strncmp(path, "..", 2) == 0)
			return true;
		path += len;
		path += strspn(path, "/");
	}
	return false;
}

const struct th_build_folder *th_build_folder_of(
	const struct th_build_folders *folders, const char *source,
	const char **path, struct th_error *err)
{
	size_t len = strcspn(source, ":/");
	const struct th_build_folder *folder = &folders->list[0];

	*path = source;
	if (source[len] == ':' && len > 0) {
		folder = find_folder(folders, source, len);
		*path = source + len + 1;
		if (!folder) {
			th_fail(err, TH_USAGE,
				"no folder was given for \"%.*s\"", (int)len,
				source);
			th_hint(err, "give it: --with %.*s=FOLDER", (int)len,
				source);
			return NULL;
		}
	}
	if (**path == '/' || climbs(*path)) {
		th_fail(err, TH_USAGE, "%.300s lies outside of the %s folder",
			source,
			folder == &folders->list[0] ? "recipe's" : "given");
		th_hint(err,
			"give the folder a name: --with NAME=FOLDER, and write "
			"NAME:PATH");
		return NULL;
	}
	while (strncmp(*path, "./", 2) == 0) {
		*path += 2;
		*path += strspn(*path, "/");
	}
	if (!**path)
		*path = ".";
	return folder;
}

/* ---- from a folder ---- */

/* What is being walked through. */
struct walk {
	struct th_gathering *gathering;
	int folder; /* that paths of sources begin in */
	bool kept; /* owners, modes and times are those of the source */
	struct th_error *err;
};

static int fail_source(struct walk *walk, const char *source)
{
	int sys = errno;

	if (sys == ENOENT)
		return th_fail(walk->err, TH_NOT_FOUND, "%.300s does not exist",
			source);
	if (sys == EXDEV || sys == ELOOP) {
		th_fail(walk->err, TH_USAGE,
			"%.300s leads out of its folder by a link", source);
		return th_hint(walk->err,
			"give the folder a name: --with NAME=FOLDER, and write "
			"NAME:PATH");
	}
	return th_fail_sys(
		walk->err, TH_FAILED, sys, "cannot read %.300s", source);
}

static int walk_folder(struct walk *walk, int fd, const char *source,
	const char *target, const char *from_top, int depth);

/* 1 for a folder that the image has and nobody wants otherwise, 0, -1. */
static int stays_as_it_is(struct th_gathering *gathering, const char *target,
	struct th_error *err)
{
	struct th_sight found;
	int rc;

	if (!gathering->below || gathering->has_owner || gathering->step->mode)
		return 0;
	rc = th_view_look(gathering->below, target, &found, err);
	if (rc == 1) {
		rc = S_ISDIR(found.st.st_mode);
		th_close(&found.fd);
	}
	return rc;
}

/* name in the folder fd; its path from the source's top decides what is left
 * out. */
static int walk_one(struct walk *walk, int fd, const char *name,
	const char *source, const char *target, const char *from_top, int depth)
{
	struct th_put_entry *entry;
	struct stat st;
	int inner, rc;

	if (fstatat(fd, name, &st, AT_SYMLINK_NOFOLLOW))
		return fail_source(walk, source);
	if (S_ISSOCK(st.st_mode)) {
		walk->gathering->sockets++;
		return 0;
	}
	if (!S_ISREG(st.st_mode) && !S_ISDIR(st.st_mode) &&
		!S_ISLNK(st.st_mode) && !walk->kept)
		return th_fail(walk->err, TH_USAGE,
			"%.300s is neither file, folder nor link", source);
	rc = S_ISDIR(st.st_mode) && !walk->kept
		? stays_as_it_is(walk->gathering, target, walk->err)
		: 0;
	if (rc == 0) {
		entry = context_entry(walk->gathering, target, &st, walk->kept);
		if (!entry)
			return th_fail_memory(walk->err);
		if (S_ISLNK(st.st_mode) && context_read_link(entry, fd, name))
			return fail_source(walk, source);
		entry->folder = walk->folder;
		entry->source = strdup(source);
		if (!entry->source)
			rc = th_fail_memory(walk->err);
	}
	if (rc < 0 || !S_ISDIR(st.st_mode))
		return rc;
	inner = openat(
		fd, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	if (inner < 0)
		return fail_source(walk, source);
	rc = walk_folder(walk, inner, source, target, from_top, depth + 1);
	th_close(&inner);
	return rc;
}

static int join(char path[TH_LAYER_PATH_MAX], const char *folder,
	const char *name, struct walk *walk)
{
	if (snprintf(path, TH_LAYER_PATH_MAX, "%s%s%s",
		    strcmp(folder, ".") == 0 ? "" : folder,
		    *folder && strcmp(folder, ".") != 0 ? "/" : "",
		    name) < TH_LAYER_PATH_MAX)
		return 0;
	return th_fail(
		walk->err, TH_USAGE, "the path of %.200s is too long", name);
}

static int walk_folder(struct walk *walk, int fd, const char *source,
	const char *target, const char *from_top, int depth)
{
	int copy = openat(fd, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *list = copy < 0 ? NULL : fdopendir(copy);
	struct dirent *entry;
	int rc = 0;

	if (!list || depth > DEPTH_MAX) {
		if (list)
			closedir(list);
		else
			th_close(&copy);
		return depth > DEPTH_MAX
			? th_fail(walk->err, TH_USAGE,
				  "%.200s is nested too deeply", source)
			: fail_source(walk, source);
	}
	while (rc == 0 && (entry = readdir(list))) {
		char *paths = NULL;
		const char *name = entry->d_name;

		if (strcmp(name, ".") == 0 || strcmp(name, "..") == 0)
			continue;
		if (th_cancelled(walk->gathering->entries->cancel)) {
			rc = th_fail(
				walk->err, TH_FAILED, "it was interrupted");
			break;
		}
		/* Not on the stack: it is deep. */
		paths = malloc(3 * TH_LAYER_PATH_MAX);
		if (!paths) {
			rc = th_fail_memory(walk->err);
			break;
		}
		rc = join(paths, source, name, walk) ||
			join(paths + TH_LAYER_PATH_MAX, target, name, walk) ||
			join(paths + 2 * TH_LAYER_PATH_MAX, from_top, name,
				walk);
		if (rc == 0 &&
			!context_leaves_out(walk->gathering->step,
				paths + 2 * TH_LAYER_PATH_MAX))
			rc = walk_one(walk, fd, name, paths,
				paths + TH_LAYER_PATH_MAX,
				paths + 2 * TH_LAYER_PATH_MAX, depth);
		rc = rc ? -1 : 0;
		free(paths);
	}
	closedir(list);
	return rc;
}

/* One source, whose last part may be a link that stays in the folder. */
static int put_source(struct walk *walk, const struct th_recipe_pair *pair,
	const char *source, bool into)
{
	struct th_gathering *gathering = walk->gathering;
	char target[TH_LAYER_PATH_MAX];
	struct th_put_entry *entry;
	struct stat st;
	int fd, rc;

	fd = th_path_open_within(walk->folder, source, O_RDONLY | O_NONBLOCK);
	if (fd < 0 || fstat(fd, &st)) {
		th_close(&fd);
		return fail_source(walk, source);
	}
	/* A folder's contents come to the place; a file gets its name. */
	rc = context_target(gathering, pair->inside,
		into || (pair->into && !S_ISDIR(st.st_mode)),
		th_path_last(source), target, walk->err);
	if (rc == 0)
		rc = context_check(
			gathering, target, S_ISDIR(st.st_mode), walk->err);
	if (rc == 0 && !S_ISDIR(st.st_mode) && !S_ISREG(st.st_mode))
		rc = th_fail(walk->err, TH_USAGE,
			"%.300s is neither file nor folder", source);
	/* A folder that is there already stays as it is. */
	if (rc == 0 && *target) {
		entry = context_entry(gathering, target, &st, walk->kept);
		if (entry) {
			entry->folder = walk->folder;
			entry->source = strdup(source);
		}
		if (!entry || !entry->source)
			rc = th_fail_memory(walk->err);
	}
	if (rc >= 0 && S_ISDIR(st.st_mode))
		rc = walk_folder(walk, fd, source, target, "", 0);
	th_close(&fd);
	return rc < 0 ? -1 : 0;
}

/* ---- patterns ---- */

static bool is_pattern(const char *text)
{
	return strpbrk(text, "*?[") != NULL;
}

static int compare_names(const void *one, const void *other)
{
	return strcmp(*(char *const *)one, *(char *const *)other);
}

/* Names of the folder that fit the pattern's part, behind what is before. */
static int match_part(struct walk *walk, const char *before, const char *part,
	struct th_strings *found)
{
	int fd = th_path_open_within(
		walk->folder, *before ? before : ".", O_RDONLY | O_DIRECTORY);
	DIR *list = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = 0;

	if (!list) {
		th_close(&fd);
		return errno == ENOTDIR || errno == ENOENT
			? 0
			: fail_source(walk, before);
	}
	while (rc == 0 && (entry = readdir(list))) {
		if (strcmp(entry->d_name, ".") != 0 &&
			strcmp(entry->d_name, "..") != 0 &&
			fnmatch(part, entry->d_name, FNM_PERIOD) == 0)
			rc = th_strings_take(found,
				th_format("%s%s%s", before, *before ? "/" : "",
					entry->d_name));
	}
	closedir(list);
	return rc ? th_fail_memory(walk->err) : 0;
}

/* All paths that fit the pattern, sorted. */
static int expand(
	struct walk *walk, const char *pattern, struct th_strings *found)
{
	struct th_strings now = {0};
	int rc = th_strings_add(&now, "") ? th_fail_memory(walk->err) : 0;

	while (rc == 0 && *pattern) {
		struct th_strings next = {0};
		size_t len = strcspn(pattern, "/");
		char part[300];

		if (len >= sizeof(part))
			rc = th_fail(
				walk->err, TH_USAGE, "a pattern is too long");
		snprintf(part, sizeof(part), "%.*s", (int)len, pattern);
		pattern += len;
		pattern += strspn(pattern, "/");
		for (size_t i = 0; rc == 0 && i < now.count; i++) {
			const char *before = now.items[i];

			if (is_pattern(part))
				rc = match_part(walk, before, part, &next);
			else if (th_strings_take(&next,
					 th_format("%s%s%s", before,
						 *before ? "/" : "", part)))
				rc = th_fail_memory(walk->err);
		}
		th_strings_release(&now);
		now = next;
	}
	if (now.count)
		qsort(now.items, now.count, sizeof(*now.items), compare_names);
	*found = now;
	return rc;
}

int th_gather_put(struct th_gathering *gathering,
	const struct th_recipe_pair *pair, struct th_error *err)
{
	const char *path;
	const struct th_build_folder *folder = th_build_folder_of(
		gathering->folders, pair->outside, &path, err);
	struct walk walk = {.gathering = gathering, .err = err};
	struct th_strings found = {0};
	int rc;

	if (!folder)
		return -1;
	walk.folder = folder->fd;
	if (!is_pattern(path))
		return put_source(&walk, pair, path, false);
	rc = expand(&walk, path, &found);
	if (rc == 0 && !found.count)
		rc = th_fail(err, TH_NOT_FOUND, "nothing fits %.300s",
			pair->outside);
	for (size_t i = 0; rc == 0 && i < found.count; i++) {
		if (!context_leaves_out(gathering->step, found.items[i]))
			rc = put_source(&walk, pair, found.items[i], true);
	}
	th_strings_release(&found);
	return rc;
}

int th_gather_tree(struct th_gathering *gathering, int folder,
	const char *inside, struct th_error *err)
{
	struct walk walk = {.gathering = gathering,
		.folder = folder,
		.kept = true,
		.err = err};
	char target[TH_LAYER_PATH_MAX];

	if (context_target(gathering, inside, false, "", target, err) ||
		context_check(gathering, target, true, err) < 0)
		return -1;
	return walk_folder(&walk, folder, "", target, "", 0);
}
