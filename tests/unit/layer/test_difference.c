#include "layer/difference.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/file.h"
#include "layer/attributes.h"
#include "lib/tar.h"
#include "unit/unit.h"

static int open_folder(const char *name)
{
	mkdirat(unit_folder_fd, name, 0755);
	return openat(unit_folder_fd, name, O_RDONLY | O_DIRECTORY);
}

static void put(int folder, const char *name, const char *text)
{
	int fd = openat(folder, name, O_WRONLY | O_CREAT | O_TRUNC, 0644);

	CHECK(write(fd, text, strlen(text)) == (ssize_t)strlen(text));
	close(fd);
}

struct listing {
	struct th_sink sink;
	struct th_buf archive;
};

static int keep(struct th_sink *sink, const void *data, size_t len,
	struct th_error *err)
{
	struct listing *listing = (struct listing *)(void *)sink;

	(void)err;
	th_buf_add(&listing->archive, data, len);
	return 0;
}

/* Writes the difference and lists it: a line for each entry, with its type and
 * mode, where a link leads, its size and its attributes. */
static void list(struct th_difference *difference, struct th_buf *text)
{
	struct listing listing = {.sink = {keep}};
	const struct th_tar_entry *entry;
	struct tar_source source;
	struct th_error err = {0};
	struct th_tar_out out;
	struct th_tar *tar;

	th_buf_init(&listing.archive, 64 << 20);
	th_tar_out_init_sink(&out, &listing.sink);
	CHECK_INT(th_layer_difference(difference, &out, &err), 0);
	CHECK_INT(th_tar_out_end(&out, &err), 0);
	th_tar_out_release(&out);
	th_buf_init(text, 1 << 20);
	tar_source_init(
		&source, listing.archive.data, listing.archive.len, 5000);
	tar = th_tar_new(&source.source);
	while (th_tar_next(tar, &entry, &err) == 1) {
		th_buf_addf(
			text, "%s %o", entry->name, (unsigned int)entry->mode);
		if (*entry->link)
			th_buf_addf(text, " %s %s",
				entry->type ? "->" : "==", entry->link);
		if (entry->size_bytes)
			th_buf_addf(text, " %llu%s",
				(unsigned long long)entry->size_bytes,
				entry->sparse ? "s" : "");
		if (entry->device)
			th_buf_addf(text, " dev");
		for (size_t i = 0; i < entry->attribute_count; i++)
			th_buf_addf(text, " %s", entry->attributes[i].name);
		th_buf_adds(text, "\n");
	}
	CHECK_INT(err.code, TH_OK);
	th_tar_free(tar);
	th_buf_release(&listing.archive);
}

static void expect(struct th_difference *difference, const char *wanted)
{
	struct th_buf text;

	difference->newest.tv_sec =
		difference->newest.tv_sec ? difference->newest.tv_sec : -1;
	list(difference, &text);
	CHECK_TEXT(text.data, wanted);
	th_buf_release(&text);
}

static void files_are_sorted_and_whole(void)
{
	int upper = open_folder("upper");
	struct th_difference difference = {.trees = &upper, .tree_count = 1};

	put(upper, "b", "two");
	mkdirat(upper, "a-b", 0755);
	mkdirat(upper, "a", 0755);
	CHECK_INT(fchmodat(upper, "a", 02750, 0), 0);
	put(upper, "a/z", "zed");
	put(upper, "a.c", "see");
	CHECK_INT(symlinkat("/nowhere", upper, "c"), 0);
	CHECK_INT(linkat(upper, "a/z", upper, "d", 0), 0);
	CHECK_INT(mknodat(upper, "e", S_IFIFO | 0600, 0), 0);
	CHECK_INT(mknodat(upper, "f", S_IFSOCK | 0600, 0), 0);
	CHECK_INT(mknodat(upper, "g", S_IFCHR | 0600, makedev(1, 3)), 0);
	put(upper, "h", "set");
	CHECK_INT(fchmodat(upper, "h", 06755, 0), 0);
	expect(&difference,
		"a/ 2750\na/z 644 3\na-b/ 755\na.c 644 3\nb 644 3\n"
		"c 777 -> /nowhere\nd 644 == a/z\ne 600\ng 600 dev\n"
		"h 6755 3\n");
	CHECK_INT(difference.sockets, 1);
	th_close(&upper);
}

/* What is below decides what has to be said. */
static void deletions_and_hidden_folders(void)
{
	int lower = open_folder("lower"), upper = open_folder("upper");
	struct th_view *below = th_view_new();
	struct th_difference difference = {
		.trees = &upper, .tree_count = 1, .below = below};
	struct th_error err = {0};

	mkdirat(lower, "kept", 0755);
	mkdirat(lower, "mode", 0755);
	mkdirat(lower, "gone", 0755);
	mkdirat(lower, "anew", 0755);
	put(lower, "anew/old", "x");
	put(lower, "file", "x");
	CHECK_INT(th_view_add(below, lower, NULL, &err), 0);
	mkdirat(upper, "kept", 0755);
	mkdirat(upper, "mode", 0700);
	CHECK_INT(mknodat(upper, "gone", S_IFCHR, makedev(0, 0)), 0);
	CHECK_INT(mknodat(upper, "never-was", S_IFCHR, makedev(0, 0)), 0);
	mkdirat(upper, "anew", 0755);
	put(upper, "anew/new", "y");
	CHECK_INT(mknodat(upper, "anew/old", S_IFCHR, makedev(0, 0)), 0);
	mkdirat(upper, "unhidden", 0755);
	for (int i = 0; i < 2; i++) {
		char path[80];

		snprintf(path, sizeof(path), "%s/upper/%s", unit_folder,
			i ? "unhidden" : "anew");
		CHECK_INT(setxattr(path, TH_OPAQUE, "y", 1, 0), 0);
	}
	expect(&difference,
		"anew/ 755\nanew/.wh..wh..opq 0\nanew/new 644 1\n.wh.gone 0\n"
		"mode/ 700\nunhidden/ 755\n");
	th_view_free(below);
	th_close(&lower);
	th_close(&upper);
}

static void places_for_mounts_are_left_out(void)
{
	int lower = open_folder("lower"), upper = open_folder("upper");
	struct th_view *below = th_view_new();
	struct th_strings mounts = {0};
	struct th_difference difference = {.trees = &upper,
		.tree_count = 1,
		.below = below,
		.mounts = &mounts};
	struct th_error err = {0};

	mkdirat(lower, "etc", 0755);
	mkdirat(lower, "srv", 0755);
	CHECK_INT(th_view_add(below, lower, NULL, &err), 0);
	th_strings_add(&mounts, "/etc/hosts");
	th_strings_add(&mounts, "/data/deep/er");
	th_strings_add(&mounts, "/proc");
	th_strings_add(&mounts, "/srv");
	th_strings_add(&mounts, "/used");
	mkdirat(upper, "etc", 0755);
	put(upper, "etc/hosts", "");
	mkdirat(upper, "data", 0755);
	mkdirat(upper, "data/deep", 0755);
	mkdirat(upper, "data/deep/er", 0755);
	mkdirat(upper, "proc", 0755);
	/* What is below, or holds something, is no mere place. */
	mkdirat(upper, "srv", 0700);
	mkdirat(upper, "used", 0755);
	put(upper, "used/by", "me");
	expect(&difference, "srv/ 700\nused/ 755\nused/by 644 2\n");
	th_strings_release(&mounts);
	th_view_free(below);
	th_close(&lower);
	th_close(&upper);
}

/* Two layers become one. */
static void trees_are_joined(void)
{
	int lower = open_folder("lower"), trees[2];
	struct th_view *below = th_view_new();
	struct th_difference difference = {
		.trees = trees, .tree_count = 2, .below = below};
	struct th_error err = {0};
	char path[80];

	trees[0] = open_folder("one");
	trees[1] = open_folder("two");
	put(lower, "base", "x");
	mkdirat(lower, "dir", 0755);
	put(lower, "dir/below", "x");
	CHECK_INT(th_view_add(below, lower, NULL, &err), 0);
	put(trees[0], "a", "1");
	put(trees[0], "b", "1");
	mkdirat(trees[0], "dir", 0755);
	put(trees[0], "dir/one", "1");
	CHECK_INT(mknodat(trees[0], "base", S_IFCHR, makedev(0, 0)), 0);
	put(trees[1], "a", "22");
	CHECK_INT(mknodat(trees[1], "b", S_IFCHR, makedev(0, 0)), 0);
	mkdirat(trees[1], "dir", 0750);
	put(trees[1], "dir/two", "2");
	expect(&difference,
		"a 644 2\n.wh.base 0\ndir/ 750\ndir/one 644 1\ndir/two 644 "
		"1\n");
	/* The upper one hides what both have below. */
	snprintf(path, sizeof(path), "%s/two/dir", unit_folder);
	CHECK_INT(setxattr(path, TH_OPAQUE, "y", 1, 0), 0);
	expect(&difference,
		"a 644 2\n.wh.base 0\ndir/ 750\ndir/.wh..wh..opq 0\n"
		"dir/two 644 1\n");
	th_view_free(below);
	th_close(&lower);
	th_close(&trees[0]);
	th_close(&trees[1]);
}

/* By their large holes only, so that the file system's blocks do not show. */
static void holes_and_attributes(void)
{
	static const unsigned char capability[20] = {
		1, 0, 0, 2, 0, 4, 0, 0, 0, 4};
	int upper = open_folder("upper");
	struct th_difference difference = {.trees = &upper, .tree_count = 1};
	char path[80];
	int fd;

	fd = openat(upper, "all", O_WRONLY | O_CREAT, 0644);
	CHECK_INT(ftruncate(fd, 5 << 20), 0);
	close(fd);
	fd = openat(upper, "middle", O_WRONLY | O_CREAT, 0644);
	CHECK_INT(pwrite(fd, "x", 1, 0), 1);
	CHECK_INT(pwrite(fd, "y", 1, 4 << 20), 1);
	close(fd);
	fd = openat(upper, "small", O_WRONLY | O_CREAT, 0644);
	CHECK_INT(ftruncate(fd, 100000), 0);
	close(fd);
	snprintf(path, sizeof(path), "%s/upper/small", unit_folder);
	CHECK_INT(setxattr(path, "user.pilot", "v", 1, 0), 0);
	CHECK_INT(setxattr(path, "user.berth", "v", 1, 0), 0);
	CHECK_INT(setxattr(path, "trusted.not", "v", 1, 0), 0);
	CHECK_INT(setxattr(path, "security.capability", capability,
			  sizeof(capability), 0),
		0);
	expect(&difference,
		"all 644 5242880s\nmiddle 644 4194305s\n"
		"small 644 100000 security.capability user.berth "
		"user.pilot\n");
	th_close(&upper);
}

static void times_are_bounded(void)
{
	int upper = open_folder("upper");
	struct th_difference difference = {
		.trees = &upper, .tree_count = 1, .newest = {1000, 0}};
	struct timespec old[2] = {{500, 7}, {500, 7}};
	struct listing listing = {.sink = {keep}};
	const struct th_tar_entry *entry;
	struct tar_source source;
	struct th_error err = {0};
	struct th_tar_out out;
	struct th_tar *tar;

	put(upper, "a", "new");
	put(upper, "b", "old");
	CHECK_INT(utimensat(upper, "b", old, 0), 0);
	th_buf_init(&listing.archive, 1 << 20);
	th_tar_out_init_sink(&out, &listing.sink);
	CHECK_INT(th_layer_difference(&difference, &out, &err), 0);
	CHECK_INT(th_tar_out_end(&out, &err), 0);
	th_tar_out_release(&out);
	tar_source_init(
		&source, listing.archive.data, listing.archive.len, 5000);
	tar = th_tar_new(&source.source);
	CHECK_INT(th_tar_next(tar, &entry, &err), 1);
	CHECK_INT(entry->mtime.tv_sec, 1000);
	CHECK_INT(th_tar_next(tar, &entry, &err), 1);
	CHECK_INT(entry->mtime.tv_sec, 500);
	CHECK_INT(entry->mtime.tv_nsec, 7);
	th_tar_free(tar);
	th_buf_release(&listing.archive);
	th_close(&upper);
}

static const CU_TestInfo tests[] = {
	{"files are sorted and whole", files_are_sorted_and_whole},
	{"deletions and hidden folders", deletions_and_hidden_folders},
	{"places for mounts are left out", places_for_mounts_are_left_out},
	{"trees are joined", trees_are_joined},
	{"holes and attributes", holes_and_attributes},
	{"times are bounded", times_are_bounded}, CU_TEST_INFO_NULL};

const struct suite suite_difference = {"difference", tests};
