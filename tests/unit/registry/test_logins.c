#include "registry/logins.h"

#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

#include "base/file.h"
#include "unit/unit.h"

static char path[128];

static void set_path(void)
{
	snprintf(path, sizeof(path), "%s/deep/logins.json", unit_folder);
}

static void logins_are_kept_and_forgotten(void)
{
	struct th_logins logins;
	struct th_error err = {0};
	const struct th_login *found;
	struct stat st;

	set_path();
	CHECK_INT(th_logins_read(path, &logins, &err), 0);
	CHECK_INT(logins.count, 0);
	CHECK_INT(th_logins_forget(path, "a.example", &err), 0);
	CHECK_INT(th_logins_keep(path, "a.example", "pilot", "one", &err), 0);
	CHECK_INT(th_logins_keep(path, "b.example:5", "w", "t \"x\"", &err), 0);
	CHECK_INT(th_logins_keep(path, "a.example", "warden", "two", &err), 0);
	CHECK(stat(path, &st) == 0 && (st.st_mode & 07777) == 0600);
	CHECK_INT(th_logins_read(path, &logins, &err), 0);
	CHECK_INT(logins.count, 2);
	found = th_logins_find(&logins, "a.example");
	CHECK(found && strcmp(found->user, "warden") == 0 &&
		strcmp(found->password, "two") == 0);
	found = th_logins_find(&logins, "b.example:5");
	CHECK(found && strcmp(found->password, "t \"x\"") == 0);
	CHECK(th_logins_find(&logins, "b.example") == NULL);
	CHECK(th_logins_find(NULL, "b.example") == NULL);
	th_logins_release(&logins);
	CHECK_INT(th_logins_forget(path, "a.example", &err), 1);
	CHECK_INT(th_logins_forget(path, "a.example", &err), 0);
}

static void wrong_files_are_refused(void)
{
	static const char *const cases[] = {"", "[]", "{\"logins\":{}}",
		"{\"logins\":[1]}", "{\"logins\":[{}]}",
		"{\"logins\":[{\"host\":\"a\",\"user\":\"b\"}]}",
		"{\"logins\":[{\"host\":1,\"user\":\"b\"}]}"};

	set_path();
	mkdirat(unit_folder_fd, "deep", 0700);
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_logins logins;
		struct th_error err = {0};

		th_file_replace(AT_FDCWD, path, cases[i], strlen(cases[i]),
			0600, false, NULL);
		CHECK_INT(th_logins_read(path, &logins, &err), -1);
		CHECK(strstr(err.msg, "logins.json") != NULL);
		CHECK_INT(logins.count, 0);
		th_logins_release(&logins);
	}
}

static const CU_TestInfo tests[] = {
	{"logins are kept and forgotten", logins_are_kept_and_forgotten},
	{"wrong files are refused", wrong_files_are_refused},
	CU_TEST_INFO_NULL};

const struct suite suite_logins = {"logins", tests};
