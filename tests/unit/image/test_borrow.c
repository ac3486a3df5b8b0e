#include "image/borrow.h"

#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "unit/unit.h"

static void folders_are_listed_and_links_are_none(void)
{
	static const char *const made[] = {
		"mole", "mole/crane", "mole/crane/a"};
	struct th_strings paths = {0};
	struct th_error err = {0};
	size_t found = 0;
	int fd;

	for (size_t i = 0; i < 3; i++)
		CHECK_INT(mkdirat(unit_folder_fd, made[i], 0755), 0);
	CHECK_INT(symlinkat("mole", unit_folder_fd, "pier"), 0);
	fd = openat(unit_folder_fd, "mole/log", O_CREAT | O_WRONLY, 0600);
	th_close(&fd);
	CHECK_INT(th_borrow_list_folders(unit_folder_fd, &paths, &err), 0);
	CHECK_INT(paths.count, 3);
	for (size_t i = 0; i < paths.count; i++) {
		for (size_t k = 0; k < 3; k++)
			found += strcmp(paths.items[i], made[k]) == 0;
	}
	CHECK_INT(found, 3);
	th_strings_release(&paths);
}

static CU_TestInfo tests[] = {{"folders are listed, and links are none",
				      folders_are_listed_and_links_are_none},
	CU_TEST_INFO_NULL};

const struct suite suite_borrow = {"image/borrow", tests};
