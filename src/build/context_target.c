/* Where files come to in an image, and what becomes of them there. */
#include <errno.h>
#include <fnmatch.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "build/context_parts.h"

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

int context_target(struct th_gathering *gathering, const char *inside,
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

int context_check(struct th_gathering *gathering, const char *target,
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

bool context_leaves_out(const struct th_recipe_step *step, const char *path)
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

struct th_put_entry *context_entry(struct th_gathering *gathering,
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
	entry->has_links = kept && S_ISREG(st->st_mode) && st->st_nlink > 1;
	entry->device = st->st_dev;
	entry->number = st->st_ino;
	return entry->path ? entry : NULL;
}

int context_read_link(struct th_put_entry *entry, int fd, const char *name)
{
	char target[TH_LAYER_PATH_MAX];
	ssize_t len = readlinkat(fd, name, target, sizeof(target) - 1);

	if (len < 0)
		return -1;
	target[len] = '\0';
	entry->link = strdup(target);
	return entry->link ? 0 : -1;
}
