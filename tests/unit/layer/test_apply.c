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

static int open_tree_folder(void)
{
	mkdirat(unit_folder_fd, "tree", 0755);
	return openat(unit_folder_fd, "tree", O_RDONLY | O_DIRECTORY);
}

/* As the lowest layer, where the first reading has left something to those
 * below. */
static int apply_again(const struct th_buf *tar, struct th_error *err)
{
	struct th_layer_notes notes = {0};
	struct th_view *nothing = th_view_new();
	struct tar_source source;
	int tree, rc;

	th_tree_remove(unit_folder_fd, "tree", err);
	tree = open_tree_folder();
	tar_source_init(&source, tar->data, tar->len, 1000);
	rc = th_layer_apply_whiteouts(
		&source.source, tree, nothing, &notes, err);
	tar_source_init(&source, tar->data, tar->len, 1000);
	if (rc == 0)
		rc = th_layer_apply_above(&source.source, tree, nothing, &notes,
			&disk_bytes, err);
	CHECK(notes.paths[TH_NOTE_IMPLIED].count == 0);
	th_layer_notes_release(&notes);
	th_view_free(nothing);
	th_close(&tree);
	return rc;
}

/* Applies the entries to the folder "tree" of the test. */
static int apply(const struct tar_entry *entries, struct th_error *err)
{
	struct th_layer_notes notes = {0};
	struct th_error ignored = {0};
	struct tar_source source;
	struct th_buf tar;
	int tree = open_tree_folder(), rc;

	th_buf_init(&tar, 16 << 20);
	tar_make(&tar, entries);
	tar_source_init(&source, tar.data, tar.len, 1000);
	rc = th_layer_apply(&source.source, tree, &notes, &disk_bytes,
		err ? err : &ignored);
	th_close(&tree);
	if (rc == 0 && notes.again && !notes.paths[TH_NOTE_DELETED].count)
		rc = apply_again(&tar, err ? err : &ignored);
	th_layer_notes_release(&notes);
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
	struct th_layer_notes notes = {0};
	struct tar_source source;
	struct th_error err = {0};
	struct th_buf tar;
	int tree = open_tree_folder();

	th_buf_init(&tar, 1 << 20);
	tar_make(&tar, entries);
	/* Cut off in the middle of a file. */
	tar_source_init(&source, tar.data, 1030, 100);
	CHECK_INT(
		th_layer_apply(&source.source, tree, &notes, &disk_bytes, &err),
		-1);
	th_layer_notes_release(&notes);
	th_error_clear(&err);
	memset(tar.data, 'x', 700);
	tar_source_init(&source, tar.data, tar.len, 100);
	CHECK_INT(
		th_layer_apply(&source.source, tree, &notes, &disk_bytes, &err),
		-1);
	th_layer_notes_release(&notes);
	CHECK(err.msg[0] != '\0');
	th_close(&tree);
	th_buf_release(&tar);
}

static void entries_come_in_any_order(void)
{
	static const struct tar_entry entries[] = {
		/* What is in a folder before the folder, a link before what
		 * it leads to, a file that is a folder and one again. */
		FILE_ENTRY("late/file", "in"),
		{"late", AE_IFDIR, 0750, NULL, 7, NULL},
		{"first", 0, 0644, "second", 0, NULL},
		{"deep/link", 0, 0644, "./second", 0, NULL},
		FILE_ENTRY("second", "linked"), FILE_ENTRY("turn", "file"),
		DIR_ENTRY("turn"), FILE_ENTRY("turn/in", "x"),
		FILE_ENTRY("turn", "file again"),
		{"stands", 0, 0644, "second", 0, NULL},
		FILE_ENTRY("stands", "its own"), END_ENTRY};
	static const struct tar_entry unled[] = {
		{"link", 0, 0644, "never", 0, NULL}, END_ENTRY};
	struct th_error err = {0};
	struct stat st, other;

	CHECK_INT(apply(entries, &err), 0);
	CHECK(look("tree/late", &st));
	CHECK_INT(st.st_mode & 07777, 0750);
	CHECK_INT(st.st_uid, 7);
	CHECK(look("tree/first", &st) && look("tree/second", &other));
	CHECK(st.st_ino == other.st_ino);
	CHECK(look("tree/deep/link", &st) && st.st_ino == other.st_ino);
	check_content("tree/turn", "file again");
	check_content("tree/stands", "its own");
	CHECK_INT(apply(unled, &err), -1);
	CHECK(strstr(err.msg, "\"link\" is a hard link to a file") != NULL);
}

static void modes_and_devices_are_kept(void)
{
	static const struct tar_entry entries[] = {
		{"box", AE_IFDIR, 02775, NULL, 3, NULL},
		{"box/plain", AE_IFREG, 0640, "x", 0, NULL},
		{"box/set", AE_IFREG, 06711, "x", 0, NULL},
		{"box/mine", AE_IFREG, 02711, "", 9, NULL},
		{"wide", AE_IFDIR, 01777, NULL, 0, NULL},
		{"full", AE_IFREG, 0666, "x", 0, NULL},
		{"able", AE_IFREG, 0755, "x", 4, "security.capability"},
		{"char", AE_IFCHR, 0666, NULL, 0, NULL},
		{"block", AE_IFBLK, 0660, NULL, 6, NULL}, END_ENTRY};
	static const struct {
		const char *path;
		unsigned int mode, uid, gid;
	} wanted[] = {{"tree/box", 042775, 3, 0},
		{"tree/box/plain", 0100640, 0, 0},
		{"tree/box/set", 0106711, 0, 0},
		{"tree/box/mine", 0102711, 9, 0}, {"tree/wide", 041777, 0, 0},
		{"tree/full", 0100666, 0, 0}, {"tree/able", 0100755, 4, 0},
		{"tree/char", 020666, 0, 0}, {"tree/block", 060660, 6, 0}};
	struct th_error err = {0};
	char path[128], value[64];
	struct stat st;

	CHECK_INT(apply(entries, &err), 0);
	for (size_t i = 0; i < COUNT_OF(wanted); i++) {
		CHECK(look(wanted[i].path, &st));
		CHECK_INT(st.st_mode, wanted[i].mode);
		CHECK_INT(st.st_uid, wanted[i].uid);
		CHECK_INT(st.st_gid, wanted[i].gid);
	}
	CHECK(look("tree/char", &st) && st.st_rdev == makedev(1, 5));
	snprintf(path, sizeof(path), "%s/tree/able", unit_folder);
	CHECK_INT(getxattr(path, "security.capability", value, 64), 20);
	CHECK_INT(value[5], 0x20);
}

static void names_may_be_long(void)
{
	char name[256], deep[1200] = "";
	struct tar_entry entries[] = {
		FILE_ENTRY(name, "long"), FILE_ENTRY(deep, "deep"), END_ENTRY};
	struct th_error err = {0};
	char path[1300];

	memset(name, 'n', 255);
	name[255] = '\0';
	for (int i = 0; i < 90; i++)
		strcat(deep, "elevenchars/");
	deep[strlen(deep) - 1] = '\0';
	CHECK_INT(apply(entries, &err), 0);
	snprintf(path, sizeof(path), "tree/%s", name);
	check_content(path, "long");
	snprintf(path, sizeof(path), "tree/%s", deep);
	check_content(path, "deep");
}

static const CU_TestInfo tests[] = {{"all types come out", all_types_come_out},
	{"whiteouts become those of overlays",
		whiteouts_become_those_of_overlays},
	{"later entries replace earlier ones",
		later_entries_replace_earlier_ones},
	{"nothing gets out", nothing_gets_out},
	{"attributes cannot steer the overlay",
		attributes_cannot_steer_the_overlay},
	{"damage is an error", damage_is_an_error},
	{"entries come in any order", entries_come_in_any_order},
	{"modes and devices are kept", modes_and_devices_are_kept},
	{"names may be long", names_may_be_long}, CU_TEST_INFO_NULL};

const struct suite suite_apply = {"apply", tests};
