#include "build/context.h"

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

/* ---- where it comes to ---- */

/* Follows the links that the image has on the way to the path; what is not
 * there yet stays as it is written. */
static int resolve_inside(struct th_view *below, const char *path,
	char resolved[TH_LAYER_PATH_MAX], struct th_error *err)
{
	char next[TH_LAYER_PATH_MAX], found[TH_LAYER_PATH_MAX], name[256];

	resolved[0] = '\0';
	while (*path) {
		size_t len = strcspn(path, "/");
		int rc = 0;

		if (len >= sizeof(name))
			return th_fail(err, TH_USAGE,
				"a part of the path is too long");
		snprintf(name, sizeof(name), "%.*s", (int)len, path);
		path += len;
		path += strspn(path, "/");
		if (!*name || strcmp(name, ".") == 0)
			continue;
		if (strcmp(name, "..") == 0)
			return th_fail(err, TH_USAGE,
				"a path inside must not contain \"..\"");
		memcpy(next, resolved, strlen(resolved) + 1);
		if (!th_view_join(next, name))
			return th_fail(
				err, TH_USAGE, "the path inside is too long");
		/* The last part is replaced, not followed. */
		if (below && *path)
			rc = th_view_resolve(below, next, found, err);
		if (rc < 0)
			return -1;
		memcpy(resolved, rc == 1 ? found : next,
			strlen(rc == 1 ? found : next) + 1);
	}
	return 0;
}

/* The path inside that a source of that name gets. */
static int target_of(struct th_gathering *gathering, const char *inside,
	bool into, const char *name, char target[TH_LAYER_PATH_MAX],
	struct th_error *err)
{
	char path[TH_LAYER_PATH_MAX];

	if (snprintf(path, sizeof(path), "%s%s%s", inside, into ? "/" : "",
		    into ? name : "") >= (int)sizeof(path))
		return th_fail(err, TH_USAGE, "the path inside is too long");
	return resolve_inside(
		gathering->below, path + strspn(path, "/"), target, err);
}

/* A file in the place of a folder, or the other way round, is a slip of the
 * keys rather than a wish. 1 where the folder is there, 0, -1. */
static int check_target(struct th_gathering *gathering, const char *target,
	bool folder, struct th_error *err)
{
	struct th_sight found;
	int rc = gathering->below && *target
		? th_view_look(gathering->below, target, &found, err)
		: 0;

	if (rc <= 0)
		return rc;
	if (S_ISDIR(found.st.st_mode) && !folder) {
		th_fail(err, TH_USAGE, "/%.200s is a folder in the image",
			target);
		th_hint(err, "write /%.150s/ to put something into it", target);
	} else if (!S_ISDIR(found.st.st_mode) && folder) {
		th_fail(err, TH_USAGE, "/%.200s is not a folder in the image",
			target);
	}
	th_close(&found.fd);
	return err->code ? -1 : folder;
}

/* ---- one entry ---- */

static bool is_left_out(const struct th_recipe_step *step, const char *path)
{
	const char *name = th_path_last(path);

	for (size_t i = 0; i < step->leave_out.count; i++) {
		const char *pattern = step->leave_out.items[i];

		/* One with a slash is about the whole path. */
		if (fnmatch(pattern, strchr(pattern, '/') ? path : name,
			    strchr(pattern, '/') ? FNM_PATHNAME : 0) == 0)
			return true;
	}
	return false;
}

static mode_t mode_of(
	const struct th_gathering *gathering, mode_t mode, bool kept)
{
	mode_t wanted;

	if (S_ISLNK(mode))
		return S_IFLNK | 0777;
	if (gathering->step->mode) {
		wanted = (mode_t)strtoul(gathering->step->mode, NULL, 8);
		/* Who may read a folder may look into it. */
		if (S_ISDIR(mode))
			wanted |= (wanted & 0444) >> 2;
		return (mode & S_IFMT) | wanted;
	}
	/* Who may write is an accident of the umask with which somebody copied
	 * the files; and no set-ID bit comes by accident. */
	return kept ? mode : mode & (S_IFMT | 0755);
}

static struct th_put_entry *new_entry(struct th_gathering *gathering,
	const char *path, const struct stat *st, bool kept)
{
	struct th_put_entry *entry = th_put_entries_add(gathering->entries);

	if (!entry)
		return NULL;
	entry->path = strdup(path);
	entry->mode = mode_of(gathering, st->st_mode, kept);
	entry->mtime = kept ? st->st_mtim : gathering->time;
	entry->uid = gathering->has_owner ? gathering->uid
		: kept			  ? st->st_uid
					  : 0;
	entry->gid = gathering->has_owner ? gathering->gid
		: kept			  ? st->st_gid
					  : 0;
	entry->attributes = kept;
	return entry->path ? entry : NULL;
}

static int read_link(struct th_put_entry *entry, int fd, const char *name)
{
	char target[TH_LAYER_PATH_MAX];
	ssize_t len = readlinkat(fd, name, target, sizeof(target) - 1);

	if (len < 0)
		return -1;
	target[len] = '\0';
	entry->link = strdup(target);
	return entry->link ? 0 : -1;
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
		entry = new_entry(walk->gathering, target, &st, walk->kept);
		if (!entry)
			return th_fail_memory(walk->err);
		if (S_ISLNK(st.st_mode) && read_link(entry, fd, name))
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
			!is_left_out(walk->gathering->step,
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
	rc = target_of(gathering, pair->inside,
		into || (pair->into && !S_ISDIR(st.st_mode)),
		th_path_last(source), target, walk->err);
	if (rc == 0)
		rc = check_target(
			gathering, target, S_ISDIR(st.st_mode), walk->err);
	if (rc == 0 && !S_ISDIR(st.st_mode) && !S_ISREG(st.st_mode))
		rc = th_fail(walk->err, TH_USAGE,
			"%.300s is neither file nor folder", source);
	/* A folder that is there already stays as it is. */
	if (rc == 0 && *target) {
		entry = new_entry(gathering, target, &st, walk->kept);
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
		if (!is_left_out(gathering->step, found.items[i]))
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

	if (target_of(gathering, inside, false, "", target, err) ||
		check_target(gathering, target, true, err) < 0)
		return -1;
	return walk_folder(&walk, folder, "", target, "", 0);
}

/* ---- from an image ---- */

static int view_one(struct th_gathering *gathering, struct th_view *from,
	const char *source, const char *target, struct th_error *err)
{
	struct th_put_entry *entry;
	struct th_sight found;
	int rc = th_view_look(from, source, &found, err);

	if (rc <= 0)
		return rc < 0 ? -1
			      : th_fail(err, TH_NOT_FOUND,
					"the image has no /%.300s", source);
	entry = new_entry(gathering, target, &found.st, true);
	if (entry) {
		entry->view = from;
		entry->source = strdup(source);
	}
	if (!entry || !entry->source)
		rc = th_fail_memory(err);
	else if (S_ISLNK(found.st.st_mode) && read_link(entry, found.fd, ""))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot read /%.300s of the image", source);
	else
		rc = S_ISDIR(found.st.st_mode) ? 1 : 0;
	th_close(&found.fd);
	return rc;
}

/* Without recursion: the folders that are left stand in a list. */
static int view_all(struct th_gathering *gathering, struct th_view *from,
	const char *top, const char *target, struct th_error *err)
{
	struct th_strings left = {0}, names = {0};
	size_t top_len = strlen(top);
	int rc = th_strings_add(&left, top) ? th_fail_memory(err) : 0;

	while (rc == 0 && left.count) {
		char *folder = left.items[--left.count];

		rc = th_cancelled(gathering->entries->cancel)
			? th_fail(err, TH_FAILED, "it was interrupted")
			: th_view_names(from, folder, 0, &names, err);
		rc = rc < 0 ? -1 : 0;
		for (size_t i = 0; rc == 0 && i < names.count; i++) {
			char source[TH_LAYER_PATH_MAX], to[TH_LAYER_PATH_MAX];
			struct th_sight there;
			const char *rest;

			snprintf(source, sizeof(source), "%s", folder);
			if (!th_view_join(source, names.items[i]))
				continue;
			rest = source + top_len;
			rest += *rest == '/';
			if (is_left_out(gathering->step, rest) ||
				snprintf(to, sizeof(to), "%s%s%s", target,
					*target ? "/" : "",
					rest) >= (int)sizeof(to))
				continue;
			/* Names of what is deleted are among them. */
			rc = th_view_look(from, source, &there, err);
			if (rc <= 0)
				continue;
			th_close(&there.fd);
			rc = view_one(gathering, from, source, to, err);
			if (rc == 1)
				rc = th_strings_add(&left, source)
					? th_fail_memory(err)
					: 0;
		}
		th_strings_release(&names);
		memset(&names, 0, sizeof(names));
		free(folder);
	}
	th_strings_release(&left);
	return rc;
}

int th_gather_view(struct th_gathering *gathering, struct th_view *from,
	const char *path, const struct th_recipe_pair *pair,
	struct th_error *err)
{
	char source[TH_LAYER_PATH_MAX], target[TH_LAYER_PATH_MAX];
	struct th_sight found;
	int rc = th_view_resolve(from, path + strspn(path, "/"), source, err);

	if (rc == 1)
		rc = th_view_look(from, source, &found, err);
	if (rc <= 0)
		return rc < 0 ? -1
			      : th_fail(err, TH_NOT_FOUND,
					"the image has no %.300s", path);
	th_close(&found.fd);
	rc = target_of(gathering, pair->inside,
		pair->into && !S_ISDIR(found.st.st_mode), th_path_last(path),
		target, err);
	if (rc == 0)
		rc = check_target(
			gathering, target, S_ISDIR(found.st.st_mode), err);
	if (rc == 0 && *target)
		rc = view_one(gathering, from, source, target, err);
	if (rc >= 0 && S_ISDIR(found.st.st_mode))
		rc = view_all(gathering, from, source, target, err);
	return rc < 0 ? -1 : 0;
}
