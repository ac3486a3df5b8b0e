/* exec: further commands in a running container. */
#include <signal.h>
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

static void launch_box(const char *more)
{
	CODE(hull("launch selwick/base --name box --network none %s -- sh -c "
		  "'trap \"exit 0\" TERM; while :; do sleep 0.1; done'",
		     more),
		0);
}

static void remove_box(void)
{
	CODE(hull("remove --force box"), 0);
}

static void its_code_and_streams_are_passed(void)
{
	struct result *result;

	launch_box("");
	result = hull("exec box -- sh -c 'echo out; echo err >&2; exit 9'");
	CODE(result, 9);
	CHECK_TEXT(result->out, "out\n");
	CHECK_TEXT(result->err, "err\n");
	CODE(hull("exec box -- nosuch"), 127);
	CODE(hull("exec box -- /etc/motd"), 126);
	CODE(hull("exec box -- sh -c 'kill -9 $$'"), 137);
	CHECK_TEXT(
		hull_input("ledger\n", 7, "exec box -- cat")->out, "ledger\n");
	remove_box();
}

static void it_joins_everything(void)
{
	struct result *result;

	launch_box("--env STATION=north");
	result = hull("exec box -- sh -c 'echo $STATION; tr \"\\\\0\" \" \" "
		      "</proc/1/cmdline; echo; "
		      "ls /sys/class/net; cat /proc/self/cgroup'");
	SAYS(result->out, "north\nreaper");
	SAYS(result->out, "lo\n");
	/* Its own group is all that it sees of the host's. */
	SAYS(result->out, "0::/\n");
	SAYS(hull("exec box -- grep CapEff /proc/self/status")->out,
		"CapEff:\t00000000000405fb");
	remove_box();
}

static void user_folder_and_environment_can_differ(void)
{
	struct result *result;

	launch_box("");
	result = hull("exec box --user pilot --workdir /tmp --env A=b -- sh -c "
		      "'id -un; pwd; echo $A $HOME; grep CapEff "
		      "/proc/self/status'");
	CODE(result, 0);
	SAYS(result->out, "pilot\n/tmp\nb /home/pilot\n");
	SAYS(result->out, "CapEff:\t0000000000000000");
	result = hull("exec box --user captain -- true");
	CODE(result, 125);
	SAYS(result->err, "not have a user \"captain\"");
	CODE(hull("exec box --workdir tmp -- true"), 125);
	remove_box();
}

/* As much as run takes; one may have 128 KiB (the kernel's MAX_ARG_STRLEN). */
static void long_lines_are_passed(void)
{
	char script[1200];

	launch_box("");
	snprintf(script, sizeof(script),
		"exec %s/tidyhull exec --root %s box -- sh -c 'echo $# ${#1}' "
		"x $(head -c 130000 /dev/zero | tr '\\0' a) $(seq 1 100000)\n",
		world_build, world_store);
	put_file("words", script);
	SAYS(other("sh %s/words", world_folder)->out, "100001 130000\n");
	remove_box();
}

static void it_needs_a_running_container(void)
{
	struct result *result;

	result = hull("exec box -- true");
	CODE(result, 125);
	SAYS(result->err, "there is no container \"box\"");
	CODE(hull("create selwick/base --name box"), 0);
	result = hull("exec box -- true");
	CODE(result, 125);
	SAYS(result->err, "is not running: it is created");
	SAYS(result->err, "tidyhull start box");
	result = hull("exec selwick/base -- true");
	CODE(result, 125);
	SAYS(result->err, "it is an image");
	CODE(hull("exec box"), 125);
	CODE(hull("remove box"), 0);
}

static void a_terminal_of_its_own(void)
{
	struct result *result;

	launch_box("");
	result = hull("exec box --tty yes -- sh -c 'tty; echo done'");
	CODE(result, 0);
	SAYS(result->out, "/dev/pts/");
	SAYS(result->out, "done\r\n");
	remove_box();
}

static bool has_begun(void *arg)
{
	return file_holds(arg, "begun");
}

static char out_file[] = "out";

static void it_ends_with_its_container(void)
{
	pid_t pid;

	launch_box("");
	pid = hull_start(
		out_file, "exec box -- sh -c 'echo begun; exec sleep 1000'");
	CHECK(wait_until(has_begun, out_file));
	CODE(hull("stop box"), 0);
	CHECK_INT(wait_for(pid), 137);
	remove_box();
}

static void many_at_once(void)
{
	pid_t pids[20];
	char name[32];

	launch_box("");
	for (size_t i = 0; i < COUNT_OF(pids); i++) {
		snprintf(name, sizeof(name), "out%zu", i);
		pids[i] = hull_start(name, "exec box -- echo session-%zu", i);
	}
	for (size_t i = 0; i < COUNT_OF(pids); i++) {
		char wanted[32];

		CHECK_INT(wait_for(pids[i]), 0);
		snprintf(name, sizeof(name), "out%zu", i);
		snprintf(wanted, sizeof(wanted), "session-%zu\n", i);
		CHECK(file_holds(name, wanted));
	}
	remove_box();
}

static const CU_TestInfo tests[] = {
	{"its code and streams are passed", its_code_and_streams_are_passed},
	{"it joins everything", it_joins_everything},
	{"user, folder and environment",
		user_folder_and_environment_can_differ},
	{"long lines are passed", long_lines_are_passed},
	{"it needs a running container", it_needs_a_running_container},
	{"a terminal of its own", a_terminal_of_its_own},
	{"it ends with its container", it_ends_with_its_container},
	{"many at once", many_at_once}, CU_TEST_INFO_NULL};

const struct suite suite_exec = {"exec", tests};
