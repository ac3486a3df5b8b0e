#include "container/user.h"

#include <string.h>

#include "unit/unit.h"

static const char passwd[] = "root:x:0:0:root:/root:/bin/sh\n"
			     "broken line\n"
			     "pilot:x:1000:1001:Pilot:/home/pilot:/bin/sh\n"
			     "ghost:x:4294967295:0:stays root:/:/bin/sh\n"
			     "wrap:x:4294967296:4294967296::/:/bin/sh\n"
			     "minus:x:-5:1::/:/bin/sh\n"
			     "last:x:7:8:no line end:/srv:/bin/sh";
static const char group[] = "root:x:0:\nquayside:x:2000:cook,pilot\n"
			    "crew:x:2001:pilot\nghosts:x:4294967295:pilot\n";

static void users_are_found(void)
{
	static const struct {
		const char *text;
		uid_t uid;
		gid_t gid;
		size_t groups;
		const char *home;
	} cases[] = {{NULL, 0, 0, 0, "/root"}, {"", 0, 0, 0, "/root"},
		{"pilot", 1000, 1001, 2, "/home/pilot"},
		{"1000", 1000, 1001, 2, "/home/pilot"},
		{"pilot:crew", 1000, 2001, 0, "/home/pilot"},
		{"pilot:5", 1000, 5, 0, "/home/pilot"},
		{"4242", 4242, 0, 0, "/"}, {"4242:17", 4242, 17, 0, "/"},
		{"last", 7, 8, 0, "/srv"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_user user;
		struct th_error err = {0};

		CHECK_INT(th_user_resolve(
				  cases[i].text, passwd, group, &user, &err),
			0);
		CHECK_INT(user.uid, cases[i].uid);
		CHECK_INT(user.gid, cases[i].gid);
		CHECK_INT(user.group_count, cases[i].groups);
		CHECK_TEXT(user.home, cases[i].home);
	}
}

static void unknown_names_are_errors(void)
{
	static const char *const bad[] = {"cook", "pilot:cooks", "-1",
		"99999999999", ":crew", "ghost", "wrap", "minus", "4294967295",
		"pilot:ghosts", "pilot:4294967295", "0x0", "1 "};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_user user;
		struct th_error err = {0};

		CHECK_INT(th_user_resolve(bad[i], passwd, group, &user, &err),
			-1);
		CHECK_INT(err.code, TH_NOT_FOUND);
	}
}

static void an_image_without_accounts_has_root(void)
{
	struct th_user user;

	CHECK_INT(th_user_resolve(NULL, "", "", &user, NULL), 0);
	CHECK_INT(user.uid, 0);
	CHECK_TEXT(user.home, "/root");
}

static const CU_TestInfo tests[] = {{"users are found", users_are_found},
	{"unknown names are errors", unknown_names_are_errors},
	{"an image without accounts", an_image_without_accounts_has_root},
	CU_TEST_INFO_NULL};

const struct suite suite_user = {"user", tests};
