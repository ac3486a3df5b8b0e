#include "store/lender.h"

#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "unit/unit.h"

static const char *place(const char *name)
{
	static char path[256];

	snprintf(path, sizeof(path), "%s/%s", unit_folder, name);
	return path;
}

/* It is refused with that code, and for that reason. */
static void refused(const char *path, enum th_code code, const char *reason)
{
	struct th_lender *lender = th_lender_open(path);

	CHECK(lender != NULL);
	if (!lender)
		return;
	CHECK_INT(lender->fd, -1);
	CHECK_INT(lender->why.code, code);
	CHECK(strstr(lender->why.msg, reason) != NULL);
	th_lender_close(lender);
}

static void what_is_no_lender_is_told(void)
{
	refused(place("nowhere"), TH_NOT_FOUND, "nowhere");
	CHECK_INT(mkdirat(unit_folder_fd, "bare", 0755), 0);
	refused(place("bare"), TH_NOT_FOUND, "there is no trees/ in it");
	refused("/proc/self/exe", TH_FAILED, "cannot use");
}

static void others_must_not_write(void)
{
	CHECK_INT(mkdirat(unit_folder_fd, "yard", 0755), 0);
	CHECK_INT(mkdirat(unit_folder_fd, "yard/lent", 0755), 0);
	CHECK_INT(mkdirat(unit_folder_fd, "yard/lent/trees", 0755), 0);
	refused(place("yard/lent"), TH_NOT_POSSIBLE, "not mounted read-only");
	/* Of a folder above it, the sticky bit is enough: nobody can put
	 * another one in its place. */
	CHECK_INT(chmod(place("yard"), 0777), 0);
	refused(place("yard/lent"), TH_NOT_POSSIBLE, "others may write to");
	CHECK_INT(chmod(place("yard"), 01777), 0);
	refused(place("yard/lent"), TH_NOT_POSSIBLE, "not mounted read-only");
	CHECK_INT(chmod(place("yard"), 0755), 0);
	CHECK_INT(chmod(place("yard/lent"), 01777), 0);
	refused(place("yard/lent"), TH_NOT_POSSIBLE, "others may write to");
	/* It counts where a link leads. */
	CHECK_INT(symlinkat("yard/lent", unit_folder_fd, "link"), 0);
	refused(place("link"), TH_NOT_POSSIBLE, "others may write to");
}

static CU_TestInfo tests[] = {
	{"what is no lender is told", what_is_no_lender_is_told},
	{"others must not write", others_must_not_write}, CU_TEST_INFO_NULL};

const struct suite suite_lender = {"store/lender", tests};
