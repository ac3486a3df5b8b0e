#include "layer/apply.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/file.h"
#include "lib/tar.h"
#include "unit/unit.h"

static uint64_t disk_bytes;

#define DIR_ENTRY(name)                                                        \
	{                                                                      \
		name, AE_IFDIR, 0755, NULL, 0, NULL                            \
	}
#define FILE_ENTRY(name, data)                                                 \
	{                                                                      \
		name, AE_IFREG, 0644, data, 0, NULL                            \
	}
#define LINK_ENTRY(name, to)                                                   \
	{                                                                      \
		name, AE_IFLNK, 0777, to, 0, NULL                              \
	}
#define END_ENTRY                                                              \
	{                                                                      \
		NULL, 0, 0, NULL, 0, NULL                                      \
	}

/* Applies the entries to the folder "tree" of the test. */
static int apply(const struct tar_entry *entries, struct th_error *err)
{
	struct tar_source source;
	struct th_buf tar;
	int tree, rc;

	th_buf_init(&tar, 16 << 20);
	tar_make(&tar, entries);
	mkdirat(unit_folder_fd, "tree", 0755);
	tree = openat(unit_folder_fd, "tree", O_RDONLY | O_DIRECTORY);
	tar_source_init(&source, tar.data, tar.len, 1000);
	rc = th_layer_apply(&source.source, tree, &disk_bytes, err);
	th_close(&tree);
	th_buf_release(&tar);
	return rc;
}

static void check_content(const char *path, const char *content)
{
	struct th_error err = {0};
	struct th_buf buf;

	th_buf_init(&buf, 65536);
	CHECK_INT(th_file_read(unit_folder_fd, path, &buf, &err), 1);
	CHECK_TEXT(buf.data, content);
	th_buf_release(&buf);
}

static bool look(const char *path, struct stat *st)
{
	return fstatat(unit_folder_fd, path, st, AT_SYMLINK_NOFOLLOW) == 0;
}

static void all_types_come_out(void)
{
	static const struct tar_entry entries[] = {
		{"./", AE_IFDIR, 0711, NULL, 0, NULL}, DIR_ENTRY("bin"),
		{"bin/tool", AE_IFREG, 04755, "#!x", 12, NULL},
		{"bin/same", 0, 0755, "bin/tool", 12, NULL},
		LINK_ENTRY("bin/link", "/etc/nowhere"),
		{"dev/fifo", AE_IFIFO, 0600, NULL, 0, NULL},
		{"marked", AE_IFREG, 0644, "m", 0, "user.tide"},
		FILE_ENTRY("deep/er/and/deeper", "found"),
		FILE_ENTRY("f\303\274r", "utf-8"), END_ENTRY};
	struct th_error err = {0};
	struct stat st, other;
	char value[16];

	CHECK_INT(apply(entries, &err), 0);
	CHECK(look("tree", &st) && (st.st_mode & 07777) == 0711);
	CHECK(look("tree/bin/tool", &st));
	CHECK_INT(st.st_mode & 07777, 04755);
	CHECK_INT(st.st_uid, 12);
	CHECK_INT(st.st_mtim.tv_sec, 1772323200);
	CHECK_INT(st.st_mtim.tv_nsec, 500);
	CHECK(look("tree/bin/same", &other) && other.st_ino == st.st_ino);
	CHECK(look("tree/bin/link", &st) && S_ISLNK(st.st_mode));
	CHECK(look("tree/dev/fifo", &st) && S_ISFIFO(st.st_mode));
	/* A folder keeps its own time, whatever came into it later. */
	CHECK(look("tree/bin", &st) && st.st_mtim.tv_sec == 1772323200);
	check_content("tree/deep/er/and/deeper", "found");
	check_content("tree/f\303\274r", "utf-8");
	snprintf(value, sizeof(value), "%s", "");
	{
		char path[128];

		snprintf(path, sizeof(path), "%s/tree/marked", unit_folder);
		CHECK_INT(getxattr(path, "user.tide", value, sizeof(value)), 5);
	}
}

static bool is_whiteout(const char *path)
{
	struct stat st;

	return look(path, &st) && S_ISCHR(st.st_mode) &&
		st.st_rdev == makedev(0, 0);
}

static bool is_opaque(const char *path)
{
	char full[256], value[4] = "";

	snprintf(full, sizeof(full), "%s/%s", unit_folder, path);
	return getxattr(full, "trusted.overlay.opaque", value, 4) == 1 &&
		value[0] == 'y';
}

static void whiteouts_become_those_of_overlays(void)
{
	static const struct tar_entry entries[] = {DIR_ENTRY("a"),
		FILE_ENTRY("a/.wh.gone", ""), FILE_ENTRY("a/.wh..wh..opq", ""),
		FILE_ENTRY("b/.wh.deep", ""), FILE_ENTRY("a/.wh..wh.note", ""),
		/* Hidden and brought anew, in either order. */
		FILE_ENTRY(".wh.first", ""), FILE_ENTRY("first", "new"),
		FILE_ENTRY("second", "new"), FILE_ENTRY(".wh.second", ""),
		FILE_ENTRY(".wh.folder", ""), DIR_ENTRY("folder"),
		DIR_ENTRY("other"), FILE_ENTRY(".wh.other", ""), END_ENTRY};
	struct th_error err = {0};
	struct stat st;

	CHECK_INT(apply(entries, &err), 0);
	CHECK(is_whiteout("tree/a/gone"));
	CHECK(is_whiteout("tree/b/deep"));
	CHECK(is_opaque("tree/a"));
	CHECK(!is_opaque("tree/b"));
	CHECK(!look("tree/a/.wh..wh.note", &st));
	check_content("tree/first", "new");
	check_content("tree/second", "new");
	CHECK(is_opaque("tree/folder"));
	CHECK(is_opaque("tree/other"));
}

static void later_entries_replace_earlier_ones(void)
{
	static const struct tar_entry entries[] = {FILE_ENTRY("f", "one"),
		FILE_ENTRY("f", "two"), FILE_ENTRY("x", "file"),
		FILE_ENTRY("x/inside", "no"), END_ENTRY};
	static const struct tar_entry turned[] = {DIR_ENTRY("d"),
		FILE_ENTRY("d/in", "x"), FILE_ENTRY("d", "a file now"),
		LINK_ENTRY("l", "/tmp"), FILE_ENTRY("l", "no link any more"),
		END_ENTRY};
	struct th_error err = {0};
	struct stat st;

	CHECK_INT(apply(turned, &err), 0);
	check_content("tree/d", "a file now");
	CHECK(look("tree/l", &st) && S_ISREG(st.st_mode));
	/* A file cannot hold others unless it is replaced first. */
	CHECK_INT(apply(entries, &err), -1);
	CHECK(strstr(err.msg, "\"x\" is a file") != NULL);
	check_content("tree/f", "two");
}

/* Each of these wants out, and must be refused or kept inside. */
static void nothing_gets_out(void)
{
	static const struct tar_entry refused[][3] = {
		{FILE_ENTRY("../escape", "x"), END_ENTRY, END_ENTRY},
		{FILE_ENTRY("a/../../escape", "x"), END_ENTRY, END_ENTRY},
		{{"h", 0, 0, "../../etc/passwd", 0, NULL}, END_ENTRY,
			END_ENTRY},
		{{"h", 0, 0, "/etc/passwd", 0, NULL}, END_ENTRY, END_ENTRY},
		{FILE_ENTRY(".wh.", ""), END_ENTRY, END_ENTRY},
		{FILE_ENTRY(".wh...", ""), END_ENTRY, END_ENTRY},
		{FILE_ENTRY("", "x"), END_ENTRY, END_ENTRY},
		{FILE_ENTRY("./", "x"), END_ENTRY, END_ENTRY}};
	static const struct tar_entry kept[] = {LINK_ENTRY("up", "../../.."),
		FILE_ENTRY("up/escape", "x"), LINK_ENTRY("abs", "/"),
		FILE_ENTRY("abs/escape2", "x"), FILE_ENTRY("/absolute", "x"),
		END_ENTRY};
	struct stat st;

	for (size_t i = 0; i < COUNT_OF(refused); i++) {
		struct th_error err = {0};

		CHECK_INT(apply(refused[i], &err), -1);
		CHECK(err.msg[0] != '\0');
	}
	CHECK(!look("escape", &st));
	CHECK_INT(apply(kept, NULL), 0);
	CHECK(!look("escape", &st) && !look("escape2", &st));
	CHECK(look("tree/escape", &st));
	CHECK(look("tree/escape2", &st));
	CHECK(look("tree/absolute", &st));
	CHECK(access("/escape", F_OK) != 0 && access("/absolute", F_OK) != 0);
}

static void attributes_cannot_steer_the_overlay(void)
{
	static const struct tar_entry entries[] = {
		{"d", AE_IFDIR, 0755, NULL, 0, "trusted.overlay.opaque"},
		{"e", AE_IFDIR, 0755, NULL, 0, "trusted.overlay.redirect"},
		END_ENTRY};
	char path[128], value[16];

	CHECK_INT(apply(entries, NULL), 0);
	CHECK(!is_opaque("tree/d"));
	snprintf(path, sizeof(path), "%s/tree/e", unit_folder);
	CHECK(getxattr(path, "trusted.overlay.redirect", value, 16) < 0);
}

static void damage_is_an_error(void)
{
	static const struct tar_entry entries[] = {
		FILE_ENTRY("f", "some content"), END_ENTRY};
	struct tar_source source;
	struct th_error err = {0};
	struct th_buf tar;
	int tree;

	th_buf_init(&tar, 1 << 20);
	tar_make(&tar, entries);
	mkdirat(unit_folder_fd, "tree", 0755);
	tree = openat(unit_folder_fd, "tree", O_RDONLY | O_DIRECTORY);
	/* Cut off in the middle of a file. */
	tar_source_init(&source, tar.data, 1030, 100);
	CHECK_INT(th_layer_apply(&source.source, tree, &disk_bytes, &err), -1);
	th_error_clear(&err);
	memset(tar.data, 'x', 700);
	tar_source_init(&source, tar.data, tar.len, 100);
	CHECK_INT(th_layer_apply(&source.source, tree, &disk_bytes, &err), -1);
	CHECK(err.msg[0] != '\0');
	th_close(&tree);
	th_buf_release(&tar);
}

static const CU_TestInfo tests[] = {{"all types come out", all_types_come_out},
	{"whiteouts become those of overlays",
		whiteouts_become_those_of_overlays},
	{"later entries replace earlier ones",
		later_entries_replace_earlier_ones},
	{"nothing gets out", nothing_gets_out},
	{"attributes cannot steer the overlay",
		attributes_cannot_steer_the_overlay},
	{"damage is an error", damage_is_an_error}, CU_TEST_INFO_NULL};

const struct suite suite_apply = {"apply", tests};
