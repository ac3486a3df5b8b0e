/* Layers one on the other: what a container sees is what extracting their
 * archives one after the other gives, whatever they leave to each other. A
 * thousand generated stacks are extracted by two programs that are not ours,
 * with the whiteouts carried out as the specification says. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/file.h"
#include "e2e/harness.h"
#include "e2e/layouts.h"

#define IMAGES 24
#define STACKS 42 /* in an image, each in a folder of its own */
#define LAYERS 3
#define ENTRIES 9 /* of a stack in a layer, at most */
#define ALL (STACKS * ENTRIES * 2 + STACKS + 1)

static unsigned int seed;

static unsigned int some(unsigned int below)
{
	seed = seed * 1103515245u + 12345u;
	return seed / 65536u % below;
}

/* ---- what a layer is made of ---- */

struct layer {
	struct tar_entry entries[ALL];
	char names[ALL][120], texts[ALL][120];
	size_t count;
	bool over_link[STACKS];
};

/* How much of what is odd there is: folders have entries and deletions hit;
 * folders are implied; and everything else. */
enum style { PLAIN, IMPLYING, ALL_THERE_IS, STYLES };

static void add(struct layer *layer, const char *name, unsigned int type,
	int mode, const char *text, int uid)
{
	struct tar_entry *entry = &layer->entries[layer->count];

	snprintf(layer->names[layer->count], sizeof(layer->names[0]), "%s",
		name);
	snprintf(layer->texts[layer->count], sizeof(layer->texts[0]), "%s",
		text);
	entry->name = layer->names[layer->count];
	entry->data = layer->texts[layer->count++];
	entry->type = type;
	entry->mode = mode;
	entry->uid = uid;
	entry->xattr = type == AE_IFREG && some(4) == 0 ? "user.tide" : NULL;
}

static bool has(const struct layer *layer, const char *name)
{
	for (size_t i = 0; i < layer->count; i++) {
		if (strcmp(layer->entries[i].name, name) == 0)
			return true;
	}
	return false;
}

/* Whether this layer has something that is no folder on the way. */
static bool is_blocked(const struct layer *layer, const char *name)
{
	for (size_t i = 0; i < layer->count; i++) {
		const struct tar_entry *entry = &layer->entries[i];
		size_t len = strlen(entry->name);

		if (entry->type != AE_IFDIR &&
			strncmp(name, entry->name, len) == 0 &&
			name[len] == '/')
			return true;
		/* Nor may it come to stand on the way of another. */
		if (strncmp(entry->name, name, strlen(name)) == 0 &&
			entry->name[strlen(name)] == '/')
			return true;
	}
	return false;
}

static bool look(const char *name, bool follow, struct stat *st)
{
	char path[300];

	snprintf(path, sizeof(path), "%s/refs/gnu/%s", world_folder, name);
	return fstatat(AT_FDCWD, path, st, follow ? 0 : AT_SYMLINK_NOFOLLOW) ==
		0;
}

/* The folder above is one, or may become one. */
static bool has_way(const char *name, enum style style)
{
	char part[120];
	struct stat st;

	for (const char *at = strchr(name, '/'); at; at = strchr(at + 1, '/')) {
		snprintf(part, sizeof(part), "%.*s", (int)(at - name), name);
		if (!look(part, false, &st))
			continue;
		if (S_ISLNK(st.st_mode) &&
			(style != ALL_THERE_IS || !look(part, true, &st)))
			return false;
		if (!S_ISDIR(st.st_mode))
			return false;
	}
	return true;
}

static bool goes_over_link(const char *name)
{
	char part[120];
	struct stat st;

	for (const char *at = strchr(name, '/'); at; at = strchr(at + 1, '/')) {
		snprintf(part, sizeof(part), "%.*s", (int)(at - name), name);
		if (look(part, false, &st) && S_ISLNK(st.st_mode))
			return true;
	}
	return false;
}

static void random_name(char name[120], int stack)
{
	static const char parts[] = "abcfgl";
	int used = snprintf(name, 120, "s%d", stack);
	unsigned int depth = 1 + some(3);

	for (unsigned int i = 0; i < depth; i++)
		used += snprintf(name + used, (size_t)(120 - used), "/%c",
			i + 1 < depth ? "abl"[some(3)] : parts[some(6)]);
}

/* Entries for the folders above those that are not there yet. */
static void add_ways(struct layer *layer, const char *name)
{
	char part[120];
	struct stat st;

	for (const char *at = strchr(name, '/'); at; at = strchr(at + 1, '/')) {
		snprintf(part, sizeof(part), "%.*s", (int)(at - name), name);
		if (!has(layer, part) && !look(part, false, &st))
			add(layer, part, AE_IFDIR, 0750, "", 3);
		else if (!has(layer, part) && S_ISDIR(st.st_mode))
			add(layer, part, AE_IFDIR, (int)st.st_mode & 07777, "",
				(int)st.st_uid);
	}
}

static const int modes[] = {0755, 0700, 01777, 0640, 0444};

/* How many entries of a stack are there that are hard links, or none. */
static int count_of(const struct layer *layer, int stack, bool hard_link)
{
	char folder[16];
	int count = 0;

	snprintf(folder, sizeof(folder), "s%d/", stack);
	for (size_t i = 0; i < layer->count; i++) {
		const struct tar_entry *entry = &layer->entries[i];

		count += strncmp(entry->name, folder, strlen(folder)) == 0 &&
			(entry->type == 0) == hard_link;
	}
	return count;
}

static void add_whiteout(
	struct layer *layer, const char *name, enum style style)
{
	char mark[150], slot[120];
	const char *last = strrchr(name, '/') + 1;
	struct stat st;

	if (style == PLAIN && !look(name, false, &st))
		return;
	if (some(4) == 0)
		snprintf(mark, sizeof(mark), "%.*s/.wh..wh..opq",
			(int)(last - name - 1), name);
	else
		snprintf(mark, sizeof(mark), "%.*s.wh.%s", (int)(last - name),
			name, last);
	snprintf(slot, sizeof(slot), "%.119s", mark);
	if (style == PLAIN)
		add_ways(layer, name);
	if (!has(layer, slot))
		add(layer, slot, AE_IFREG, 0, "", 0);
}

static void add_link(struct layer *layer, const char *name, int stack)
{
	static const char *const targets[] = {"a", "b", "b/a", "c", "nowhere"};
	char target[120];
	struct stat st;

	if (!count_of(layer, stack, true) && some(2)) {
		add(layer, name, AE_IFLNK, 0777, targets[some(5)], 0);
		return;
	}
	/* A hard link to a file that a lower layer has. */
	random_name(target, stack);
	if (look(target, false, &st) && S_ISREG(st.st_mode) &&
		!has(layer, target) && !is_blocked(layer, target) &&
		!count_of(layer, stack, false) &&
		has_way(target, ALL_THERE_IS) && strcmp(target, name) != 0)
		add(layer, name, 0, 0, target, 0);
}

static int count_all(const struct layer *layer, int stack)
{
	return count_of(layer, stack, false) + count_of(layer, stack, true);
}

static void add_some(struct layer *layer, int stack, enum style style)
{
	char name[120], text[40];
	struct stat st;
	bool there;

	random_name(name, stack);
	if (has(layer, name) || is_blocked(layer, name) ||
		!has_way(name, style))
		return;
	/* A file with two names in one layer is what the two programs are at
	 * odds about, too: what goes over a link comes alone. */
	if (goes_over_link(name) ? count_all(layer, stack) > 0
				 : layer->over_link[stack])
		return;
	layer->over_link[stack] = goes_over_link(name);
	there = look(name, false, &st);
	if (style == PLAIN && (!there || some(4)))
		add_ways(layer, name);
	snprintf(text, sizeof(text), "%u\n", some(1000));
	/* Nothing else may take the target of a hard link away, by whatever
	 * name. */
	if (count_of(layer, stack, true)) {
		add_link(layer, name, stack);
		return;
	}
	switch (some(style == ALL_THERE_IS ? 8 : 6)) {
	case 0:
	case 1:
		/* The two programs are at odds about one over a link. */
		if (!there || !S_ISLNK(st.st_mode))
			add(layer, name, AE_IFDIR, modes[some(3)], "",
				(int)some(3) * 500);
		break;
	case 2:
	case 3:
		add(layer, name, AE_IFREG, modes[some(5)], text,
			(int)some(3) * 500);
		break;
	case 4:
	case 5:
		add_whiteout(layer, name, style);
		break;
	default:
		add_link(layer, name, stack);
		break;
	}
}

static void make_layer(struct layer *layer, enum style style)
{
	memset(layer, 0, sizeof(*layer));
	for (int stack = 0; stack < STACKS; stack++) {
		size_t most = layer->count + ENTRIES;

		for (int i = 0; i < ENTRIES * 2 && layer->count < most; i++)
			add_some(layer, stack, style);
	}
	if (!layer->count)
		add(layer, "s0", AE_IFDIR, 0755, "", 0);
}

/* ---- the same by others ---- */

static void empty(const char *path)
{
	DIR *list = opendir(path);
	struct dirent *entry;

	while (list && (entry = readdir(list))) {
		if (strcmp(entry->d_name, ".") != 0 &&
			strcmp(entry->d_name, "..") != 0)
			th_tree_remove(dirfd(list), entry->d_name, NULL);
	}
	if (list)
		closedir(list);
}

/* Takes away what deletions and entries of another kind replace. */
static void prepare_reference(const char *folder, const struct layer *layer)
{
	for (int marks = 1; marks >= 0; marks--) {
		for (size_t i = 0; i < layer->count; i++) {
			const struct tar_entry *entry = &layer->entries[i];
			const char *last = strrchr(entry->name, '/');
			bool is_mark = last && strncmp(last, "/.wh.", 5) == 0;
			char path[400];
			struct stat st;

			if (is_mark != (marks == 1))
				continue;
			snprintf(path, sizeof(path), "%s/%s/%s", world_folder,
				folder, entry->name);
			if (is_mark && strcmp(last, "/.wh..wh..opq") == 0) {
				*strrchr(path, '/') = '\0';
				empty(path);
			} else if (is_mark) {
				snprintf(strrchr(path, '/'), 100, "/%s",
					last + 5);
				th_tree_remove(AT_FDCWD, path, NULL);
			} else if (lstat(path, &st) == 0 &&
				S_ISDIR(st.st_mode) !=
					(entry->type == AE_IFDIR)) {
				th_tree_remove(AT_FDCWD, path, NULL);
			}
		}
	}
}

static void extract(const char *folder, const char *program,
	const struct layer *layer, const struct layer *rest)
{
	struct result *result;

	prepare_reference(folder, layer);
	if (!rest->count)
		return;
	result = as_root("sh -c 'cd %s; umask 022; exec %s -C %s'",
		world_folder, program, folder);
	if (result->code)
		puts(result->err);
	CODE(result, 0);
}

/* ---- comparing ---- */

struct listing {
	struct th_buf text;
	/* The first name of each file: of those with several, a deleted one
	 * still counts in an overlay, but which belong together must be right.
	 */
	struct {
		ino_t inode;
		char name[120];
	} linked[8000];
	size_t linked_count;
	unsigned int ids[64][3]; /* inside, outside, count */
	size_t id_count;
};

static unsigned int inside(const struct listing *listing, unsigned int id)
{
	for (size_t i = 0; i < listing->id_count; i++) {
		const unsigned int *line = listing->ids[i];

		if (id >= line[1] && id - line[1] < line[2])
			return line[0] + (id - line[1]);
	}
	return listing->id_count ? 99999 : id;
}

static const char *first_name(
	struct listing *listing, const char *name, const struct stat *st)
{
	for (size_t i = 0; i < listing->linked_count; i++) {
		if (listing->linked[i].inode == st->st_ino)
			return listing->linked[i].name;
	}
	listing->linked[listing->linked_count].inode = st->st_ino;
	snprintf(listing->linked[listing->linked_count].name, 120, "%.119s",
		name);
	return listing->linked[listing->linked_count++].name;
}

static void list_file(struct listing *listing, int folder, const char *entry,
	const char *name, const struct stat *st)
{
	int fd = openat(folder, entry, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
	char value[16] = "", content[64] = "";
	ssize_t len;

	CHECK(fd >= 0);
	len = fgetxattr(fd, "user.tide", value, sizeof(value) - 1);
	value[len < 0 ? 0 : len] = '\0';
	if (read(fd, content, sizeof(content) - 1) < 0)
		CU_FAIL("a file cannot be read");
	close(fd);
	th_buf_addf(&listing->text, " %ld.%ld is %s xattr %s: %.30s",
		(long)st->st_mtim.tv_sec, st->st_mtim.tv_nsec,
		first_name(listing, name, st), value, content);
}

static int compare_names(const void *a, const void *b)
{
	return strcmp(*(char *const *)a, *(char *const *)b);
}

static void list_folder(struct listing *listing, int folder, const char *path)
{
	struct th_strings names = {0};
	DIR *list = fdopendir(folder);
	struct dirent *entry;

	while (list && (entry = readdir(list))) {
		if (strcmp(entry->d_name, ".") != 0 &&
			strcmp(entry->d_name, "..") != 0)
			th_strings_add(&names, entry->d_name);
	}
	if (names.count)
		qsort(names.items, names.count, sizeof(*names.items),
			compare_names);
	for (size_t i = 0; list && i < names.count; i++) {
		char name[200], target[120] = "";
		struct stat st = {0};

		snprintf(name, sizeof(name), "%s/%s", path, names.items[i]);
		/* A mark of a deletion that shows: it is there and is not. */
		if (fstatat(dirfd(list), names.items[i], &st,
			    AT_SYMLINK_NOFOLLOW)) {
			th_buf_addf(&listing->text, "%s is %s\n", name,
				strerror(errno));
			continue;
		}
		th_buf_addf(&listing->text, "%s %o %u:%u", name,
			(unsigned int)st.st_mode, inside(listing, st.st_uid),
			inside(listing, st.st_gid));
		if (S_ISREG(st.st_mode)) {
			list_file(listing, dirfd(list), names.items[i], name,
				&st);
		} else if (S_ISLNK(st.st_mode)) {
			if (readlinkat(dirfd(list), names.items[i], target,
				    sizeof(target) - 1) < 0)
				CU_FAIL("a link cannot be read");
			th_buf_addf(&listing->text, " -> %s", target);
		}
		th_buf_adds(&listing->text, "\n");
		if (S_ISDIR(st.st_mode))
			list_folder(listing,
				openat(dirfd(list), names.items[i],
					O_RDONLY | O_DIRECTORY | O_CLOEXEC),
				name);
	}
	if (list)
		closedir(list);
	th_strings_release(&names);
}

static void list_stacks(struct listing *listing, const char *root)
{
	listing->text.len = 0;
	listing->linked_count = 0;
	for (int stack = 0; stack < STACKS; stack++) {
		char path[400], name[16];
		struct stat st;

		snprintf(name, sizeof(name), "s%d", stack);
		snprintf(path, sizeof(path), "%s/%s", root, name);
		if (lstat(path, &st))
			continue;
		th_buf_addf(&listing->text, "%s %o %u\n", name,
			(unsigned int)st.st_mode, inside(listing, st.st_uid));
		list_folder(listing,
			open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC), name);
	}
}

static void read_ids(struct listing *listing, int pid)
{
	const char *at = as_root("cat /proc/%d/uid_map", pid)->out;
	int used;

	listing->id_count = 0;
	while (listing->id_count < 64 &&
		sscanf(at, "%u %u %u%n", &listing->ids[listing->id_count][0],
			&listing->ids[listing->id_count][1],
			&listing->ids[listing->id_count][2], &used) == 3) {
		listing->id_count++;
		at += used;
	}
}

static bool are_alike(const struct listing *ours, const struct listing *theirs,
	const char *who)
{
	const char *a = ours->text.data, *b = theirs->text.data;

	if (strcmp(a, b) == 0)
		return true;
	while (*a && *b) {
		size_t one = strcspn(a, "\n"), other_len = strcspn(b, "\n");

		if (one != other_len || memcmp(a, b, one) != 0)
			break;
		a += one + (a[one] == '\n');
		b += one + (b[one] == '\n');
	}
	printf("\n    ours: %.*s\n    %s: %.*s\n", (int)strcspn(a, "\n"), a,
		who, (int)strcspn(b, "\n"), b);
	return false;
}

/* ---- */

static struct listing ours, theirs;
static struct layer layer, rest;

/* Without the deletions, which other programs would extract as files. */
static void write_archives(const char *all)
{
	rest.count = 0;
	for (size_t i = 0; i < layer.count; i++) {
		if (!strstr(layer.entries[i].name, "/.wh."))
			rest.entries[rest.count++] = layer.entries[i];
	}
	rest.entries[rest.count].name = NULL;
	layout_tar(all, layer.entries);
	layout_tar("rest.tar", rest.entries);
}

static void make_image(int number, enum style style, char files[][32])
{
	const char *list[LAYERS + 1] = {"base.gz"};
	char name[64];

	as_root("rm -rf %s/refs/gnu %s/refs/bsd", world_folder, world_folder);
	as_root("mkdir %s/refs/gnu %s/refs/bsd", world_folder, world_folder);
	for (int i = 0; i < LAYERS; i++) {
		snprintf(files[i], 32, "layer%d-%d.tar", number, i);
		list[i + 1] = files[i];
		make_layer(&layer, style);
		write_archives(files[i]);
		extract("refs/gnu",
			"tar --warning=no-unknown-keyword --numeric-owner "
			"--xattrs --xattrs-include=user.* "
			"-xpf rest.tar",
			&layer, &rest);
		extract("refs/bsd", "bsdtar -xpPf rest.tar --numeric-owner",
			&layer, &rest);
	}
	snprintf(name, sizeof(name), "selwick/stack%d:latest", number);
	layout_add_image("copy", name, list, LAYERS + 1);
}

static void compare_image(int number)
{
	char path[300], root[64];
	int pid;

	CODE(hull("unpack --quiet copy --only selwick/stack%d", number), 0);
	CODE(hull("launch selwick/stack%d --name box --network none %s -- "
		  "sleep 1000",
		     number, world_user ? "" : "--users host"),
		0);
	/* Its layers are what their archives say, too. */
	if (number % 7 == 0)
		CODE(hull("doctor --verify"), 0);
	pid = atoi(field("box", "pid"));
	read_ids(&ours, pid);
	snprintf(root, sizeof(root), "/proc/%d/root", pid);
	list_stacks(&ours, root);
	snprintf(path, sizeof(path), "%s/refs/gnu", world_folder);
	list_stacks(&theirs, path);
	CHECK(are_alike(&ours, &theirs, "GNU tar"));
	snprintf(path, sizeof(path), "%s/refs/bsd", world_folder);
	list_stacks(&theirs, path);
	CHECK(are_alike(&ours, &theirs, "bsdtar"));
	CODE(hull("remove --force box"), 0);
	CODE(hull("remove image:selwick/stack%d", number), 0);
}

static void a_thousand_stacks_are_as_extracted(void)
{
	char files[LAYERS][32];
	unsigned int failures = CU_get_number_of_failures();

	th_buf_init(&ours.text, 1 << 20);
	th_buf_init(&theirs.text, 1 << 20);
	copy_images("copy");
	CODE(other("cp copy/blobs/sha256/%s base.gz",
		     layout_layer("copy", "selwick/gauge:latest", 0) + 7),
		0);
	/* In memory: each pull waits until all that was written is on the
	 * disk. */
	CODE(as_root("mkdir %s/refs", world_folder), 0);
	CODE(as_root("mount -t tmpfs refs %s/refs", world_folder), 0);
	for (int i = 0; i < IMAGES; i++) {
		seed = (unsigned int)i * 7919u + 17u;
		make_image(i, (enum style)(i % STYLES), files);
		compare_image(i);
		if (CU_get_number_of_failures() != failures) {
			printf("    image %d (style %d)\n", i, i % STYLES);
			break;
		}
	}
	CODE(as_root("umount %s/refs", world_folder), 0);
	th_buf_release(&ours.text);
	th_buf_release(&theirs.text);
}

/* ---- one by one ---- */

#define DIR_ENTRY(name, mode, uid)                                             \
	{                                                                      \
		name, AE_IFDIR, mode, NULL, uid, NULL                          \
	}
#define FILE_ENTRY(name, data)                                                 \
	{                                                                      \
		name, AE_IFREG, 0644, data, 0, NULL                            \
	}
#define LINK_ENTRY(name, to)                                                   \
	{                                                                      \
		name, AE_IFLNK, 0777, to, 0, NULL                              \
	}
#define HARD_LINK_ENTRY(name, to)                                              \
	{                                                                      \
		name, 0, 0644, to, 0, NULL                                     \
	}
#define END_ENTRY                                                              \
	{                                                                      \
		NULL, 0, 0, NULL, 0, NULL                                      \
	}

static void begin(void)
{
	copy_images("copy");
	CODE(other("cp copy/blobs/sha256/%s base.gz",
		     layout_layer("copy", "selwick/gauge:latest", 0) + 7),
		0);
}

/* An image of the demo's lowest layer and those archives. */
static void add_image(
	const char *name, const char *one, const char *two, const char *three)
{
	const char *files[] = {"base.gz", one, two, three};
	char full[64];

	snprintf(full, sizeof(full), "selwick/%s:latest", name);
	layout_add_image(
		"copy", full, files, 2u + (two != NULL) + (three != NULL));
	CODE(hull("unpack --quiet copy --only selwick/%s", name), 0);
}

static const char *inside_of(const char *name, const char *script)
{
	struct result *result = hull("run --network none selwick/%s -- sh -c "
				     "'cd /; %s'",
		name, script);

	if (result->code)
		printf("\n    %s\n", result->err);
	return result->out;
}

static void implied_folders_keep_what_they_are(void)
{
	static const struct tar_entry below[] = {DIR_ENTRY("wide", 01777, 0),
		DIR_ENTRY("private", 0700, 3), DIR_ENTRY("private/a", 0750, 4),
		DIR_ENTRY("open", 0755, 0), END_ENTRY};
	static const struct tar_entry above[] = {FILE_ENTRY("wide/x", "x"),
		FILE_ENTRY("private/a/x", "x"), FILE_ENTRY("new/x", "x"),
		FILE_ENTRY("wide/new/x", "x"), END_ENTRY};
	static const struct tar_entry named[] = {DIR_ENTRY("private", 0711, 5),
		FILE_ENTRY("private/b", "b"), END_ENTRY};

	begin();
	layout_tar("below.tar", below);
	layout_tar("above.tar", above);
	layout_tar("named.tar", named);
	add_image("kept", "below.tar", "above.tar", NULL);
	CHECK_TEXT(inside_of("kept",
			   "stat -c %n=%a=%u wide private private/a new "
			   "wide/new; stat -c %Y wide private/a"),
		"wide=1777=0\nprivate=700=3\nprivate/a=750=4\nnew=755=0\n"
		"wide/new=755=0\n1772323200\n1772323200\n");
	/* The layer's own tree serves another image, on other layers. */
	add_image("other", "above.tar", NULL, NULL);
	CHECK_TEXT(inside_of("other", "stat -c %n=%a=%u wide private"),
		"wide=755=0\nprivate=755=0\n");
	/* The last that names a folder has its say. */
	add_image("named", "below.tar", "above.tar", "named.tar");
	CHECK_TEXT(inside_of("named", "stat -c %n=%a=%u private private/a"),
		"private=711=5\nprivate/a=750=4\n");
	CHECK_TEXT(inside_of("kept", "stat -c %a private"), "700\n");
}

static void entries_go_where_links_lead(void)
{
	static const struct tar_entry below[] = {DIR_ENTRY("usr", 0755, 0),
		DIR_ENTRY("usr/lib", 0755, 0), FILE_ENTRY("usr/lib/old", "old"),
		LINK_ENTRY("lib", "usr/lib"), LINK_ENTRY("bin64", "/usr/bin64"),
		END_ENTRY};
	static const struct tar_entry above[] = {FILE_ENTRY("lib/new", "new"),
		FILE_ENTRY("bin64/tool", "tool"), FILE_ENTRY("lib/.wh.old", ""),
		END_ENTRY};
	static const struct tar_entry folder[] = {DIR_ENTRY("lib", 0711, 0),
		FILE_ENTRY("lib/own", "own"), END_ENTRY};

	begin();
	layout_tar("below.tar", below);
	layout_tar("above.tar", above);
	layout_tar("folder.tar", folder);
	add_image("led", "below.tar", "above.tar", NULL);
	CHECK_TEXT(inside_of("led",
			   "readlink lib; ls usr/lib; cat lib/new; cat "
			   "usr/bin64/tool"),
		"usr/lib\nnew\nnewtool");
	/* An entry for the folder itself replaces the link. */
	add_image("replaced", "below.tar", "folder.tar", NULL);
	CHECK_TEXT(inside_of("replaced", "ls lib usr/lib; stat -c %a lib"),
		"lib:\nown\n\nusr/lib:\nold\n711\n");
}

static void hard_links_lead_to_lower_layers(void)
{
	static const struct tar_entry below[] = {FILE_ENTRY("one", "one"),
		HARD_LINK_ENTRY("two", "one"), DIR_ENTRY("d", 0700, 2),
		FILE_ENTRY("d/far", "far"), LINK_ENTRY("way", "d"), END_ENTRY};
	static const struct tar_entry above[] = {
		HARD_LINK_ENTRY("three", "one"),
		HARD_LINK_ENTRY("near", "way/far"), END_ENTRY};
	static const struct tar_entry nowhere[] = {
		HARD_LINK_ENTRY("four", "never"), END_ENTRY};
	const char *files[] = {"base.gz", "nowhere.tar"};
	struct result *result;

	begin();
	layout_tar("below.tar", below);
	layout_tar("above.tar", above);
	layout_tar("nowhere.tar", nowhere);
	add_image("linked", "below.tar", "above.tar", NULL);
	CHECK_TEXT(inside_of("linked",
			   "stat -c %h one two three near d/far; stat -c %i "
			   "one two three | uniq | wc -l; cat three; stat -c "
			   "%a=%u d"),
		"3\n3\n3\n2\n2\n1\none700=2\n");
	layout_add_image("copy", "selwick/unled:latest", files, 2);
	result = hull("unpack copy --only selwick/unled");
	CODE(result, 1);
	SAYS(result->err,
		"\"four\" is a hard link to a file that does not "
		"exist");
	SAYS(result->err, "layer 2 of 2 (sha256:");
	CHECK_TEXT(other("find store/tmp -mindepth 1")->out, "");
}

static void the_root_is_one_folder_more(void)
{
	static const struct tar_entry below[] = {
		DIR_ENTRY("./", 0711, 7), FILE_ENTRY("below", "x"), END_ENTRY};
	static const struct tar_entry opaque[] = {
		FILE_ENTRY("./.wh..wh..opq", ""), FILE_ENTRY("only", "x"),
		END_ENTRY};
	const char *files[] = {"base.gz", "below.tar", "opaque.tar", "base.gz"};

	begin();
	layout_tar("below.tar", below);
	layout_tar("opaque.tar", opaque);
	add_image("rooted", "below.tar", NULL, NULL);
	CHECK_TEXT(inside_of("rooted", "stat -c %a=%u /"), "711=7\n");
	layout_add_image("copy", "selwick/anew:latest", files, 4);
	CODE(hull("unpack --quiet copy --only selwick/anew"), 0);
	CHECK_TEXT(inside_of("anew", "ls -d below only 2>/dev/null"), "only\n");
}

static void a_layer_may_come_twice(void)
{
	static const struct tar_entry one[] = {
		DIR_ENTRY("d", 0755, 0), FILE_ENTRY("d/one", "1"), END_ENTRY};
	static const struct tar_entry gone[] = {
		FILE_ENTRY("d/.wh.one", ""), END_ENTRY};
	static const struct tar_entry nothing[] = {END_ENTRY};
	const char *files[] = {"base.gz", "one.tar", "gone.tar", "one.tar",
		"nothing.tar", "nothing.tar", "gone.tar"};

	begin();
	layout_tar("one.tar", one);
	layout_tar("gone.tar", gone);
	layout_tar("nothing.tar", nothing);
	for (size_t count = 4; count <= 7; count++) {
		char name[64];

		snprintf(name, sizeof(name), "selwick/twice%zu:latest", count);
		layout_add_image("copy", name, files, count);
		CODE(hull("unpack --quiet copy --only %s", name), 0);
		snprintf(name, sizeof(name), "twice%zu", count);
		CHECK_TEXT(inside_of(name, "ls d"), count < 7 ? "one\n" : "");
	}
	/* Nothing is left of what only these images had. */
	for (size_t count = 4; count <= 7; count++)
		CODE(hull("remove image:selwick/twice%zu", count), 0);
	CODE(hull("sweep --yes"), 0);
	CHECK_TEXT(
		other("find store/trees store/partial -mindepth 1")->out, "");
}

static void marks_of_deletions_do_not_show(void)
{
	static const struct tar_entry odd[] = {DIR_ENTRY("new", 0755, 0),
		FILE_ENTRY("new/.wh.never", ""), FILE_ENTRY("new/x", "x"),
		FILE_ENTRY("far/.wh.never", ""),
		FILE_ENTRY("other/.wh..wh..opq", ""), END_ENTRY};

	begin();
	layout_tar("odd.tar", odd);
	add_image("odd", "odd.tar", NULL, NULL);
	CHECK_TEXT(inside_of("odd",
			   "ls -a new; ls -d far other 2>/dev/null; true"),
		".\n..\nx\n");
}

static void names_are_bytes(void)
{
	put_file("make.py",
		"import tarfile, io\n"
		"t = tarfile.open('bytes.tar', 'w', format=FORMAT)\n"
		"for n in (b'cafe\\xcc\\x81', b'caf\\xc3\\xa9', "
		"b'\\xff\\xfe', b'long' * 40 + b'\\xcc\\x81'):\n"
		"  i = tarfile.TarInfo(n.decode('utf-8', 'surrogateescape'))\n"
		"  t.addfile(i)\n"
		"t.close()\n");
	begin();
	for (int gnu = 0; gnu < 2; gnu++) {
		char name[16];

		CODE(other("sh -c 'sed -i s/FORMAT/tarfile.%s_FORMAT/ make.py; "
			   "LC_ALL=C.UTF-8 python3 make.py; sed -i "
			   "s/tarfile.[A-Z]*_FORMAT/FORMAT/ make.py'",
			     gnu ? "GNU" : "PAX"),
			0);
		snprintf(name, sizeof(name), "bytes%d", gnu);
		add_image(name, "bytes.tar", NULL, NULL);
		SAYS(inside_of(
			     name, "echo * | od -An -tx1 -v | tr -d \" \\n\""),
			"63616665cc8120");
		SAYS(inside_of(
			     name, "echo * | od -An -tx1 -v | tr -d \" \\n\""),
			"636166c3a920");
		SAYS(inside_of(
			     name, "echo * | od -An -tx1 -v | tr -d \" \\n\""),
			"20fffe0a");
		SAYS(inside_of(
			     name, "echo * | od -An -tx1 -v | tr -d \" \\n\""),
			"6c6f6e67cc8120");
	}
}

static void nodes_are_left_out_with_a_note(void)
{
	static const struct tar_entry below[] = {DIR_ENTRY("dev", 0755, 0),
		FILE_ENTRY("covered", "x"), END_ENTRY};
	static const struct tar_entry nodes[] = {
		{"box", AE_IFCHR, 0666, NULL, 0, NULL},
		{"covered", AE_IFBLK, 0660, NULL, 0, NULL},
		FILE_ENTRY("after", "all else is right\n"), END_ENTRY};
	const char *files[] = {"base.gz", "below.tar", "nodes.tar"};
	struct result *result;

	begin();
	layout_tar("below.tar", below);
	layout_tar("nodes.tar", nodes);
	layout_add_image("copy", "selwick/nodes:latest", files, 3);
	result = hull("unpack copy --only selwick/nodes");
	CODE(result, 0);
	if (world_user) {
		SAYS(result->err,
			"left out 2 device nodes, which only root "
			"can create");
		CHECK_TEXT(inside_of("nodes",
				   "cat after; ls -d box covered "
				   "2>/dev/null; true"),
			"all else is right\n");
	} else {
		CHECK(!strstr(result->err, "left out"));
		CHECK_TEXT(inside_of("nodes",
				   "cat after; stat -c %t:%T box "
				   "covered"),
			"all else is right\n1:5\n1:5\n");
	}
}

/* Files that are marked with capabilities, as distributions install ping. */
static void marked_files_run_or_are_told(void)
{
	struct result *result;

	put_file("make.py",
		"import tarfile\n"
		"t = tarfile.open('marked.tar', 'w', "
		"format=tarfile.PAX_FORMAT, dereference=True)\n"
		"def add(n, caps):\n"
		"  i = t.gettarinfo('/bin/busybox', n); i.mode = 0o755\n"
		"  i.uid = i.gid = 0\n"
		"  i.pax_headers = {'SCHILY.xattr.security.capability': "
		"''.join(chr(b) for b in (0x02000001).to_bytes(4, 'little') + "
		"caps.to_bytes(4, 'little') + bytes(12))}\n"
		"  t.addfile(i, open('/bin/busybox', 'rb'))\n"
		"add('ping/busybox', 1 << 13)\n"
		"add('tune/busybox', 1 << 14 | 1 << 22)\n"
		"t.close()\n");
	begin();
	CODE(other("python3 make.py"), 0);
	add_image("marked", "marked.tar", NULL, NULL);
	result = hull("run --network none selwick/marked -- /ping/busybox grep "
		      "CapPrm /proc/self/status");
	CODE(result, 0);
	/* It runs, and has nothing of it. */
	SAYS(result->out, "CapPrm:\t00000000000405fb");
	result = hull("run --network none selwick/marked -- /tune/busybox "
		      "true");
	CODE(result, 126);
	SAYS(result->err,
		"the file /tune/busybox needs CAP_IPC_LOCK, "
		"CAP_SYS_BOOT, which the container does not have");
	SAYS(result->err,
		"recreate the container with --capability +IPC_LOCK "
		"--capability +SYS_BOOT");
}

static const CU_TestInfo tests[] = {
	{"marked files run or are told", marked_files_run_or_are_told},
	{"implied folders keep what they are",
		implied_folders_keep_what_they_are},
	{"entries go where links lead", entries_go_where_links_lead},
	{"hard links lead to lower layers", hard_links_lead_to_lower_layers},
	{"the root is one folder more", the_root_is_one_folder_more},
	{"a layer may come twice", a_layer_may_come_twice},
	{"marks of deletions do not show", marks_of_deletions_do_not_show},
	{"names are bytes", names_are_bytes},
	{"nodes are left out with a note", nodes_are_left_out_with_a_note},
	{"a thousand stacks are as extracted",
		a_thousand_stacks_are_as_extracted},
	CU_TEST_INFO_NULL};

const struct suite suite_stacks = {"stacks", tests};
