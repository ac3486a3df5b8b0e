/* Terminals: attach, leave, come back. */
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <termios.h>
#include <unistd.h>

#include "base/clock.h"
#include "e2e/harness.h"

static char screen[OUTPUT_BYTES];

static void launch_shell(void)
{
	CODE(hull("launch selwick/base --name box --network none --tty yes "
		  "--stop grace=200ms --env 'PS1=box> ' -- sh"),
		0);
}

static void come_and_go(void)
{
	int master;
	pid_t pid;

	launch_shell();
	pid = hull_terminal(&master, "attach box");
	CHECK(screen_until(master, screen, "Ctrl-T l leaves it running"));
	CHECK(screen_until(master, screen, "box>"));
	type_keys(master, "echo $((40+2))\r");
	CHECK(screen_until(master, screen, "42\r\nbox>"));
	/* The beginning of the keys alone is for the program. */
	type_keys(master, "echo a\024b\r");
	CHECK(screen_until(master, screen, "box>"));
	type_keys(master, "\024l");
	CHECK(screen_until(master, screen, "box is still running"));
	CHECK_INT(wait_for(pid), 0);
	close(master);
	CHECK_TEXT(field("box", "state"), "running");
	/* What was to be seen is to be seen again. */
	pid = hull_terminal(&master, "attach box");
	CHECK(screen_until(master, screen, "42\r\nbox>"));
	type_keys(master, "exit 3\r");
	CHECK_INT(wait_for(pid), 3);
	close(master);
	CODE(hull("remove box"), 0);
}

static void a_cleared_screen_is_where_it_begins(void)
{
	int master;
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none --tty yes -- "
		  "sh -c 'echo before; printf \"\\033[H\\033[2Jafter\\n\"; "
		  "read "
		  "x; echo end'"),
		0);
	usleep(300000);
	pid = hull_terminal(&master, "attach box");
	CHECK(screen_until(master, screen, "after"));
	CHECK(strstr(screen, "before") == NULL);
	type_keys(master, "\r");
	CHECK(screen_until(master, screen, "end"));
	CHECK_INT(wait_for(pid), 0);
	close(master);
	CODE(hull("remove box"), 0);
}

static void several_at_once(void)
{
	int one, other_one;
	pid_t first, second;

	launch_shell();
	first = hull_terminal(&one, "attach box --leave-keys 'Ctrl-X q'");
	CHECK(screen_until(one, screen, "Ctrl-X q leaves"));
	second = hull_terminal(&other_one, "attach --watch box");
	CHECK(screen_until(other_one, screen, "box>"));
	type_keys(one, "echo seen-by-both\r");
	CHECK(screen_until(one, screen, "seen-by-both\r\n"));
	CHECK(screen_until(other_one, screen, "\nseen-by-both"));
	type_keys(one, "\030q");
	CHECK_INT(wait_for(first), 0);
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("stop --grace 200ms box"), 0);
	CHECK(wait_for(second) >= 128);
	close(one);
	close(other_one);
	CODE(hull("remove box"), 0);
	CODE(hull("attach box"), 125);
}

static void the_size_is_passed_on(void)
{
	const struct winsize size = {.ws_row = 33, .ws_col = 99};
	int master;
	pid_t pid;

	launch_shell();
	pid = hull_terminal(&master, "attach box");
	CHECK(screen_until(master, screen, "box>"));
	type_keys(master, "stty size\r");
	CHECK(screen_until(master, screen, "24 80"));
	ioctl(master, TIOCSWINSZ, &size);
	usleep(100000);
	type_keys(master, "stty size\r");
	CHECK(screen_until(master, screen, "33 99"));
	type_keys(master, "\024l");
	wait_for(pid);
	close(master);
	CODE(hull("remove --force box"), 0);
}

static bool is_cooked(void *arg)
{
	struct termios mode;

	return tcgetattr(*(int *)arg, &mode) == 0 && mode.c_lflag & ICANON &&
		mode.c_lflag & ECHO;
}

/* Whatever ends the command, the terminal is as it was. */
static void the_terminal_comes_back(void)
{
	static const int numbers[] = {SIGTERM, SIGKILL};
	int master, slave;
	char name[64];

	launch_shell();
	for (size_t i = 0; i < COUNT_OF(numbers); i++) {
		pid_t pid = hull_terminal(&master, "attach box");

		CHECK(ptsname_r(master, name, sizeof(name)) == 0);
		slave = open(name, O_RDWR | O_NOCTTY | O_CLOEXEC);
		CHECK(screen_until(master, screen, "box>"));
		CHECK(!is_cooked(&slave));
		signal_to(pid, numbers[i]);
		wait_for(pid);
		CHECK(wait_until(is_cooked, &slave));
		close(slave);
		close(master);
		CHECK_TEXT(field("box", "state"), "running");
	}
	CODE(hull("remove --force box"), 0);
}

static void a_run_can_be_left(void)
{
	int master;
	pid_t pid = hull_terminal(&master,
		"run selwick/base --name box --network none --env 'PS1=box> ' "
		"-- sh");

	CHECK(screen_until(master, screen, "box>"));
	type_keys(master, "\024l");
	CHECK(screen_until(master, screen, "box is still running"));
	CHECK_INT(wait_for(pid), 0);
	close(master);
	CHECK_TEXT(field("box", "state"), "running");
	/* A hung-up terminal kills nothing either. */
	pid = hull_terminal(&master, "attach box");
	CHECK(screen_until(master, screen, "box>"));
	close(master);
	wait_for(pid);
	CHECK_TEXT(field("box", "state"), "running");
	/* A shell on a terminal does not heed TERM. */
	CODE(hull("stop box --grace 200ms"), 0);
	CODE(hull("show box"), 3);
}

/* Without a terminal, output goes on being passed, and Ctrl-C only leaves. */
static void without_a_terminal(void)
{
	struct result *result;
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'echo first; while :; do echo more; sleep 0.05; done'"),
		0);
	usleep(200000);
	pid = hull_start("out", "attach box");
	for (int i = 0; i < 500 && !file_holds("out", "more"); i++)
		usleep(10000);
	CHECK(file_holds("out", "first"));
	signal_to(pid, SIGINT);
	CHECK_INT(wait_for(pid), 0);
	CHECK(file_holds("out", "box is still running"));
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("attach box --leave-keys nonsense"), 125);
	CODE(hull("remove --force box"), 0);
	CODE(hull("create selwick/base --name box"), 0);
	result = hull("attach box");
	CODE(result, 125);
	SAYS(result->err, "is not running: it is created");
	CODE(hull("remove box"), 0);
}

/* cat x | tidyhull run image -- sort > y */
static void a_run_is_a_filter(void)
{
	struct result *result;

	CODE(hull("pull selwick/base"), 0);
	result = hull_input("pilot\nchart\ngauge\n", 18,
		"run selwick/base --network none -- sort");
	CODE(result, 0);
	CHECK_TEXT(result->out, "chart\ngauge\npilot\n");
	CHECK_TEXT(result->err, "");
}

static const CU_TestInfo tests[] = {{"come and go", come_and_go},
	{"a cleared screen is where it begins",
		a_cleared_screen_is_where_it_begins},
	{"several at once", several_at_once},
	{"the size is passed on", the_size_is_passed_on},
	{"the terminal comes back", the_terminal_comes_back},
	{"a run can be left", a_run_can_be_left},
	{"without a terminal", without_a_terminal},
	{"a run is a filter", a_run_is_a_filter}, CU_TEST_INFO_NULL};

const struct suite suite_attach = {"attach", tests};
