#include "base/path.h"

#include <errno.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "unit/unit.h"

static void absolute_paths_are_clean(void)
{
	static const char *const cases[][3] = {{"/srv", "site", "/srv/site"},
		{"/srv", "./site/", "/srv/site"}, {"/srv", "../x", "/x"},
		{"/srv", "../../../x", "/x"}, {"/srv", "/a//b/./c", "/a/b/c"},
		{"/", ".", "/"}, {"/srv", "..", "/"}, {"/a/b", "", "/a/b"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		char *path = th_path_absolute(cases[i][0], cases[i][1]);

		CHECK_TEXT(path, cases[i][2]);
		free(path);
	}
}

static int exists(const char *name)
{
	struct stat st;

	return fstatat(unit_folder_fd, name, &st, 0) == 0;
}

static void folders_and_files_are_made_inside(void)
{
	int fd = th_path_make_in_root(unit_folder_fd, "/a/b/c", true);

	CHECK(fd >= 0);
	th_close(&fd);
	CHECK(exists("a/b/c"));
	fd = th_path_make_in_root(unit_folder_fd, "a/d/file", false);
	CHECK(fd >= 0);
	th_close(&fd);
	CHECK(exists("a/d/file"));
	fd = th_path_make_in_root(unit_folder_fd, "/top", false);
	CHECK(fd >= 0);
	th_close(&fd);
	CHECK(exists("top"));
}

/* A link in an image must not lead a mount to the host. */
static void links_stay_inside(void)
{
	int fd;

	CHECK_INT(mkdirat(unit_folder_fd, "root", 0755), 0);
	CHECK_INT(mkdirat(unit_folder_fd, "outside", 0755), 0);
	CHECK_INT(symlinkat("../outside", unit_folder_fd, "root/up"), 0);
	CHECK_INT(symlinkat("/etc", unit_folder_fd, "root/etc"), 0);
	fd = openat(unit_folder_fd, "root", O_PATH | O_DIRECTORY);
	for (int i = 0; i < 2; i++) {
		int made = th_path_make_in_root(
			fd, i ? "/etc/hull-test" : "/up/hull-test", false);

		th_close(&made);
	}
	CHECK(!exists("outside/hull-test"));
	CHECK(access("/etc/hull-test", F_OK) != 0);
	CHECK_INT(th_path_open_beneath(fd, "up", O_RDONLY, 0), -1);
	CHECK_INT(th_path_open_beneath(fd, "../outside", O_RDONLY, 0), -1);
	th_close(&fd);
}

static const CU_TestInfo tests[] = {
	{"absolute paths are clean", absolute_paths_are_clean},
	{"folders and files are made inside",
		folders_and_files_are_made_inside},
	{"links stay inside", links_stay_inside}, CU_TEST_INFO_NULL};

const struct suite suite_path = {"path", tests};
