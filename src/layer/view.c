#include "layer/view.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "layer/attributes.h"

#define LAYERS_MAX 4096
#define LINKS_MAX 40

struct layer {
	int tree;
	const struct th_layer_notes *notes;
};

struct th_view {
	struct layer *layers; /* the lowest first */
	size_t count;
};

struct th_view *th_view_new(void)
{
	return calloc(1, sizeof(struct th_view));
}

int th_view_add(struct th_view *view, int tree,
	const struct th_layer_notes *notes, struct th_error *err)
{
	struct layer *bigger;
	int fd;

	if (view->count == LAYERS_MAX)
		return th_fail(err, TH_FAILED, "there are too many layers");
	bigger = realloc(view->layers, (view->count + 1) * sizeof(*bigger));
	if (!bigger)
		return th_fail_memory(err);
	view->layers = bigger;
	fd = fcntl(tree, F_DUPFD_CLOEXEC, 3);
	if (fd < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot open a layer's tree");
	view->layers[view->count].tree = fd;
	view->layers[view->count++].notes = notes;
	return 0;
}

void th_view_free(struct th_view *view)
{
	for (size_t i = 0; view && i < view->count; i++)
		th_close(&view->layers[i].tree);
	if (view)
		free(view->layers);
	free(view);
}

size_t th_view_count(const struct th_view *view)
{
	return view->count;
}

void th_view_drop(struct th_view *view)
{
	th_close(&view->layers[--view->count].tree);
}

int th_view_tree(const struct th_view *view, size_t layer)
{
	return view->layers[layer].tree;
}

bool th_is_opaque(int folder)
{
	char value, path[TH_FD_PATH];

	th_fd_path(folder, "", path);
	return (getxattr(path, TH_OPAQUE, &value, 1) == 1 && value == 'y') ||
		(getxattr(path, TH_OPAQUE_OF_USERS, &value, 1) == 1 &&
			value == 'y');
}

bool th_is_whiteout(const struct stat *st)
{
	return S_ISCHR(st->st_mode) && st->st_rdev == makedev(0, 0);
}

/* ---- one part of a path after the other ---- */

/* The layers that have the folder, the topmost first. */
struct members {
	int *fds; /* owned, and the descriptors unless they are the view's */
	bool borrowed;
	size_t *layers;
	size_t count;
};

static void members_release(struct members *members)
{
	for (size_t i = 0; !members->borrowed && i < members->count; i++)
		th_close(&members->fds[i]);
	free(members->fds);
	free(members->layers);
	memset(members, 0, sizeof(*members));
}

static int members_init(struct members *members, size_t room)
{
	members->count = 0;
	members->fds = calloc(room + 1, sizeof(*members->fds));
	members->layers = calloc(room + 1, sizeof(*members->layers));
	return members->fds && members->layers ? 0 : -1;
}

static int begin(const struct th_view *view, struct members *members,
	struct th_error *err)
{
	if (members_init(members, view->count))
		return th_fail_memory(err);
	members->borrowed = true;
	for (size_t i = view->count; i > 0; i--) {
		members->fds[members->count] = view->layers[i - 1].tree;
		members->layers[members->count++] = i - 1;
	}
	return 0;
}

/* Those members that make up what has the name in the folder: of a folder all
 * that have it, of something else the topmost one. */
static int step(const struct members *from, const char *name,
	struct members *to, struct stat *st, struct th_error *err)
{
	if (members_init(to, from->count))
		return th_fail_memory(err);
	for (size_t i = 0; i < from->count; i++) {
		struct stat one;
		int fd = openat(
			from->fds[i], name, O_PATH | O_NOFOLLOW | O_CLOEXEC);

		if (fd < 0 && errno == ENOENT)
			continue;
		if (fd < 0 || fstat(fd, &one)) {
			th_close(&fd);
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot look at \"%.200s\" in a layer", name);
		}
		/* What is no folder ends a folder, and is hidden by one. */
		if (th_is_whiteout(&one) ||
			(to->count && !S_ISDIR(one.st_mode))) {
			th_close(&fd);
			break;
		}
		if (!to->count)
			*st = one;
		to->fds[to->count] = fd;
		to->layers[to->count++] = from->layers[i];
		if (!S_ISDIR(one.st_mode) ||
			(i + 1 < from->count && th_is_opaque(fd)))
			break;
	}
	return to->count > 0;
}

/* Which of them says what the folder is like: the topmost whose archive has an
 * entry for it; without any, the lowest. */
static size_t speaker(const struct th_view *view, const struct members *members,
	const char *path, bool *said)
{
	*said = true;
	for (size_t i = 0; i < members->count; i++) {
		const struct th_layer_notes *notes =
			view->layers[members->layers[i]].notes;

		if (*path ? !notes || !th_layer_notes_imply(notes, path)
			  : notes && notes->root)
			return i;
	}
	*said = false;
	return members->count - 1;
}

static int report(const struct th_view *view, struct members *members,
	const char *path, struct stat *st, struct th_sight *found,
	struct th_error *err)
{
	size_t which = 0;

	found->said = true;
	if (S_ISDIR(st->st_mode)) {
		which = speaker(view, members, path, &found->said);
		if (fstat(members->fds[which], st))
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot look at \"%.200s\" in a layer", path);
	}
	found->st = *st;
	found->layer = members->layers[which];
	found->first = members->layers[0];
	found->fd = fcntl(members->fds[which], F_DUPFD_CLOEXEC, 3);
	return found->fd < 0
		? th_fail_sys(err, TH_FAILED, errno, "cannot look into a layer")
		: 1;
}

/* Goes down to what has the path: 1 with its members, 0, -1. */
static int descend(struct th_view *view, const char *path,
	struct members *members, struct stat *st, struct th_error *err)
{
	struct members here = {0}, next = {0};
	const char *at = path;
	int rc = begin(view, &here, err) ? -1 : view->count > 0;

	memset(st, 0, sizeof(*st));
	st->st_mode = S_IFDIR;
	while (rc == 1 && *at) {
		char name[256];
		size_t len = strcspn(at, "/");

		if (len >= sizeof(name) || !S_ISDIR(st->st_mode)) {
			rc = 0;
			break;
		}
		memcpy(name, at, len);
		name[len] = '\0';
		rc = step(&here, name, &next, st, err);
		members_release(&here);
		here = next;
		memset(&next, 0, sizeof(next));
		at += len + (at[len] == '/');
	}
	*members = here;
	return rc;
}

int th_view_look(struct th_view *view, const char *path, struct th_sight *found,
	struct th_error *err)
{
	struct members members;
	struct stat st;
	int rc = descend(view, path, &members, &st, err);

	if (rc == 1)
		rc = report(view, &members, path, &st, found, err);
	members_release(&members);
	return rc;
}

/* ---- what a folder holds ---- */

static int add_names(int folder, struct th_strings *names, struct th_error *err)
{
	int fd = openat(folder, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;
	int rc = 0;

	if (!dir) {
		th_close(&fd);
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot read a folder of a layer");
	}
	while (rc == 0 && (entry = readdir(dir))) {
		if (strcmp(entry->d_name, ".") != 0 &&
			strcmp(entry->d_name, "..") != 0 &&
			th_strings_add(names, entry->d_name))
			rc = th_fail_memory(err);
	}
	closedir(dir);
	return rc;
}

static int by_name(const void *one, const void *other)
{
	return strcmp(*(char *const *)one, *(char *const *)other);
}

static void sort_once(struct th_strings *names)
{
	size_t kept = 0;

	if (names->count)
		qsort(names->items, names->count, sizeof(*names->items),
			by_name);
	for (size_t i = 0; i < names->count; i++) {
		if (kept &&
			strcmp(names->items[kept - 1], names->items[i]) == 0)
			free(names->items[i]);
		else
			names->items[kept++] = names->items[i];
	}
	names->count = kept;
}

int th_view_names(struct th_view *view, const char *path, size_t from,
	struct th_strings *names, struct th_error *err)
{
	struct members members;
	struct stat st;
	int rc = descend(view, path, &members, &st, err);
	bool alone;

	if (rc == 1 && !S_ISDIR(st.st_mode))
		rc = 0;
	alone = rc != 1 || members.layers[members.count - 1] >= from;
	for (size_t i = 0; rc == 1 && i < members.count; i++) {
		if (members.layers[i] >= from &&
			add_names(members.fds[i], names, err))
			rc = -1;
	}
	members_release(&members);
	sort_once(names);
	return rc < 0 ? -1 : alone;
}

/* ---- with links ---- */

/* Takes the last part off. */
static void go_up(char *path)
{
	char *slash = strrchr(path, '/');

	*(slash ? slash : path) = '\0';
}

static int add_part(char *path, const char *name, size_t len)
{
	size_t used = strlen(path);

	if (used + len + 2 > TH_LAYER_PATH_MAX)
		return -1;
	if (used)
		path[used++] = '/';
	memcpy(path + used, name, len);
	path[used + len] = '\0';
	return 0;
}

/* Puts a link's target before what is left of the path. */
static int put_before(
	const struct th_sight *link, char *rest, struct th_error *err)
{
	char target[TH_LAYER_PATH_MAX];
	ssize_t len = readlinkat(link->fd, "", target, sizeof(target) - 1);
	size_t rest_len = strlen(rest);

	if (len < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot read a link in a layer");
	if ((size_t)len + rest_len + 2 > TH_LAYER_PATH_MAX)
		return 0;
	memmove(rest + len + 1, rest, rest_len + 1);
	memcpy(rest, target, (size_t)len);
	rest[len] = '/';
	return 1;
}

bool th_view_join(char path[TH_LAYER_PATH_MAX], const char *name)
{
	size_t len = strlen(path), more = strlen(name) + 1;
	size_t slash = len > 0;

	if (len + slash + more > TH_LAYER_PATH_MAX)
		return false;
	if (slash)
		path[len] = '/';
	memcpy(path + len + slash, name, more);
	return true;
}

int th_view_resolve(struct th_view *view, const char *path,
	char here[TH_LAYER_PATH_MAX], struct th_error *err)
{
	char rest[TH_LAYER_PATH_MAX];
	int links = 0, rc;

	here[0] = '\0';
	if (strlen(path) >= sizeof(rest))
		return 0;
	memcpy(rest, path, strlen(path) + 1);
	for (;;) {
		size_t skip = strspn(rest, "/"), len;
		struct th_sight one;

		memmove(rest, rest + skip, strlen(rest + skip) + 1);
		len = strcspn(rest, "/");
		if (len == 0)
			return 1;
		if (len == 1 && rest[0] == '.') {
			/* leads nowhere */
		} else if (len == 2 && memcmp(rest, "..", 2) == 0) {
			go_up(here);
		} else {
			if (add_part(here, rest, len))
				return 0;
			rc = th_view_look(view, here, &one, err);
			if (rc <= 0)
				return rc;
			if (S_ISLNK(one.st.st_mode)) {
				go_up(here);
				memmove(rest, rest + len,
					strlen(rest + len) + 1);
				rc = ++links > LINKS_MAX
					? 0
					: put_before(&one, rest, err);
				if (rest[0] == '/')
					here[0] = '\0';
				th_close(&one.fd);
				if (rc <= 0)
					return rc;
				continue;
			}
			th_close(&one.fd);
		}
		memmove(rest, rest + len, strlen(rest + len) + 1);
	}
}

int th_view_find(struct th_view *view, const char *path, struct th_sight *found,
	struct th_error *err)
{
	char resolved[TH_LAYER_PATH_MAX];
	int rc = th_view_resolve(view, path, resolved, err);

	return rc == 1 ? th_view_look(view, resolved, found, err) : rc;
}
