/* login, logout, and what they open. */
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

static int start_closed(const char *log, const char *options)
{
	char images[600];
	int port;

	snprintf(images, sizeof(images), "%s/demo-images", world_build);
	put_file("people", "pilot fairwinds\nwarden low tide\n");
	port = start_chandler(images, log, "--login people %s", options);
	write_config(&port, 1);
	return port;
}

static struct result *login(int port, const char *user, const char *password)
{
	return hull_input(password, strlen(password),
		"login localhost:%d --user %s --password @stdin", port, user);
}

static void check_file(bool there)
{
	struct stat st;
	char path[300];

	snprintf(path, sizeof(path), "%s/.config/tidyhull/logins.json",
		world_folder);
	CHECK_INT(stat(path, &st), there ? 0 : -1);
	if (there)
		CHECK_INT(st.st_mode & 07777, 0600);
}

static void opens_and_closes(const char *options)
{
	int port = start_closed(NULL, options);
	struct result *result = hull("pull selwick/gauge");

	CODE(result, 6);
	SAYS(result->err, "tidyhull login localhost:");
	/* What is wrong is not kept. */
	result = login(port, "pilot", "foulwinds\n");
	CODE(result, 6);
	SAYS(result->err, "does not accept the login of \"pilot\"");
	check_file(false);
	result = login(port, "warden", "low tide\n");
	CODE(result, 0);
	SAYS(result->out, "as warden");
	check_file(true);
	CHECK(!file_holds("out", "low tide"));
	CODE(hull("pull selwick/gauge"), 0);
	CODE(hull("find gauge"), 0);
	CODE(hull("peek selwick/gauge --tags"), 0);
	CODE(hull("logout localhost:%d", port), 0);
	CODE(hull("logout localhost:%d", port), 3);
	CODE(hull("pull selwick/ledger"), 6);
}

static void basic_logins_open(void)
{
	opens_and_closes("--auth basic");
}

static void bearer_logins_open(void)
{
	opens_and_closes("--auth bearer");
}

static void tokens_are_shared_and_renewed(void)
{
	int port = start_closed("log", "--auth bearer");

	CODE(login(port, "pilot", "fairwinds"), 0);
	CODE(hull("pull localhost:%d/selwick/gauge", port), 0);
	/* One to log in, one for the image and all its layers. */
	CHECK_INT(count_lines_with("log", "/token", "200"), 2);
	CODE(hull("remove selwick/gauge"), 0);
	/* It runs out while the registry makes the pull wait. */
	port = start_closed("log2",
		"--auth bearer --token-life 1 --fault "
		"status=503,times=1,retry=2,path=/blobs/");
	CODE(login(port, "pilot", "fairwinds"), 0);
	CODE(hull("pull localhost:%d/selwick/gauge", port), 0);
	CHECK(count_lines_with("log2", "/token", "200") >= 3);
}

static void a_token_service_may_stumble(void)
{
	int port = start_closed(
		"log", "--auth bearer --fault status=503,times=2,path=/token");

	CODE(login(port, "pilot", "fairwinds"), 0);
	CHECK_INT(count_lines_with("log", "/token", "503"), 2);
	port = start_closed(
		NULL, "--auth bearer --fault status=500,path=/token");
	CODE(login(port, "pilot", "fairwinds"), 6);
}

static void open_registries_need_none(void)
{
	start_closed(NULL, "--auth bearer --open-pull");
	CODE(hull("pull selwick/gauge"), 0);
}

static void an_unchecked_login_is_told(void)
{
	struct result *result =
		login(world_registry_port, "pilot", "fairwinds");

	CODE(result, 0);
	SAYS(result->out, "not verified");
}

static void passwords_stay_off_the_command_line(void)
{
	struct result *result = hull("login localhost:%d --user pilot "
				     "--password fairwinds",
		world_registry_port);

	CODE(result, 2);
	SAYS(result->err, "a password on the command line");
	result = hull("login localhost:%d --user pilot", world_registry_port);
	CODE(result, 2);
	SAYS(result->err, "@stdin");
	result = hull("login localhost:%d", world_registry_port);
	CODE(result, 2);
	SAYS(result->err, "--user NAME");
	CODE(hull("login charts"), 2);
	put_file("pw", "fairwinds\n");
	CODE(hull("login localhost:%d --user pilot --password @file:pw",
		     world_registry_port),
		0);
	CODE(hull("logout --all"), 0);
}

static void a_readable_file_is_refused(void)
{
	struct result *result;

	CODE(login(world_registry_port, "pilot", "fairwinds"), 0);
	CODE(other("chmod 644 .config/tidyhull/logins.json"), 0);
	result = hull("pull selwick/gauge");
	CODE(result, 1);
	SAYS(result->err, "others can read it");
	SAYS(result->err, "chmod 600");
	CODE(other("chmod 600 .config/tidyhull/logins.json"), 0);
	put_file(".config/tidyhull/logins.json", "{\"logins\": [7]}");
	CODE(other("chmod 600 .config/tidyhull/logins.json"), 0);
	result = hull("pull selwick/gauge");
	CODE(result, 1);
	SAYS(result->err, "logins.json");
}

static const CU_TestInfo tests[] = {{"basic logins open", basic_logins_open},
	{"bearer logins open", bearer_logins_open},
	{"tokens are shared and renewed", tokens_are_shared_and_renewed},
	{"a token service may stumble", a_token_service_may_stumble},
	{"open registries need none", open_registries_need_none},
	{"an unchecked login is told", an_unchecked_login_is_told},
	{"passwords stay off the command line",
		passwords_stay_off_the_command_line},
	{"a readable file is refused", a_readable_file_is_refused},
	CU_TEST_INFO_NULL};

const struct suite suite_access = {"access", tests};
