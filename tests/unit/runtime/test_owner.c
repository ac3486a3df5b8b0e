/* Whose a container of the runtime is. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "runtime/owner.h"
#include "unit/unit.h"

static char folder[] = "/var/tmp/hull-owner-XXXXXX";

static void begin(void)
{
	strcpy(folder + strlen(folder) - 6, "XXXXXX");
	CHECK(mkdtemp(folder) != NULL);
}

static void end(void)
{
	struct th_error ignored = {0};

	th_tree_remove(AT_FDCWD, folder, &ignored);
}

static void one_of_two_gets_the_id(void)
{
	struct th_error err = {0};
	int lock = -1, other = -1;

	begin();
	CHECK_INT(owner_make_folder(folder, "box", "1-1", &lock, &err), 1);
	CHECK_INT(owner_make_folder(folder, "box", "2-2", &other, &err), 0);
	CHECK(lock >= 0 && other < 0);
	/* While it lives it is nobody else's, nor lost. */
	CHECK(!owner_take_over(folder, "box", "2-2", &other));
	CHECK(!owner_is_lost(folder, "box", &other));
	/* Its guard holds it beside it, and on. */
	CHECK(owner_take_over(folder, "box", "1-1", &other));
	th_close(&lock);
	CHECK(!owner_is_lost(folder, "box", &lock));
	th_close(&other);
	CHECK(owner_is_lost(folder, "box", &lock));
	/* Of two that find it, one has it. */
	CHECK(!owner_is_lost(folder, "box", &other));
	CHECK_INT(owner_remove_folder(folder, "box", &err), 0);
	th_close(&lock);
	CHECK(!owner_is_lost(folder, "box", &lock));
	CHECK_INT(rmdir(folder), 0);
	end();
}

static void what_is_not_a_runs_is_left(void)
{
	char path[80];
	int lock = -1;

	begin();
	snprintf(path, sizeof(path), "%s/box", folder);
	CHECK_INT(mkdir(path, 0700), 0);
	CHECK(!owner_is_lost(folder, "box", &lock));
	CHECK(!owner_take_over(folder, "box", "1-1", &lock));
	/* Nobody waits for a FIFO in its place. */
	snprintf(path, sizeof(path), "%s/box/run", folder);
	CHECK_INT(mkfifo(path, 0600), 0);
	CHECK(!owner_take_over(folder, "box", "1-1", &lock));
	th_close(&lock);
	end();
}

static const CU_TestInfo tests[] = {
	{"one of two gets the ID", one_of_two_gets_the_id},
	{"what is not a run's is left", what_is_not_a_runs_is_left},
	CU_TEST_INFO_NULL};

const struct suite suite_owner = {"owner", tests};
