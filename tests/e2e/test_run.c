/* run: a program in the foreground. */
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

static void its_exit_code_is_passed_on(void)
{
	static const struct {
		const char *command;
		int code;
	} cases[] = {{"true", 0}, {"false", 1}, {"sh -c 'exit 42'", 42},
		{"nosuch", 127}, {"/etc/motd", 126}, {"/etc", 126},
		{"sh -c 'kill -TERM $$; exit 3'", 143},

		/* The first process inside is immune to such signals. */
		{"sh -c 'kill -9 1; exit 4'", 4}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct result *result =
			hull("run selwick/base --network none -- %s",
				cases[i].command);

		CODE(result, cases[i].code);
	}
	SAYS(hull("list --all")->out, "there are no containers");
}

static void it_works_as_a_filter(void)
{
	size_t len = 3 * 1000 * 1000;
	char *input = malloc(len + 1);
	struct result *result;

	for (size_t i = 0; i < len; i++)
		input[i] = (char)(i % 64 == 63 ? '\n' : 'a' + i % 26);
	input[len] = '\0';
	result = hull_input(
		input, len, "run selwick/base --network none -- wc -c");
	CODE(result, 0);
	SAYS(result->out, "3000000");
	result = hull_input("b\na\n", 4, "run selwick/base -- sort");
	CHECK_TEXT(result->out, "a\nb\n");
	/* A program that does not read its input ends all the same. */
	CODE(hull_input(input, len, "run selwick/base -- true"), 0);
	free(input);
}

static void its_streams_stay_apart(void)
{
	struct result *result;

	result =
		hull("run selwick/base --network none -- sh -c 'echo out; echo "
		     "err >&2; printf end'");
	CHECK_TEXT(result->out, "out\nend");
	SAYS(result->err, "err\n");
}

static void much_output_comes_whole(void)
{
	struct result *result;

	result =
		other("sh -c 'TIDYHULL_ROOT=%s TIDYHULL_CONFIG=config.yaml "
		      "%s/tidyhull run selwick/base --network none -- seq "
		      "1 400000 >seq.out; seq 1 400000 | cmp - seq.out && echo "
		      "whole'",
			world_store, world_build);
	SAYS(result->out, "whole");
}

static bool has_begun(void *arg)
{
	return file_holds(arg, "begun");
}

static char out_file[] = "out";

static void signals_reach_the_program(void)
{
	pid_t pid;

	pid = hull_start(out_file,
		"run selwick/base --network none -- sh -c 'trap \"echo caught; "
		"exit 5\" INT; echo begun; while :; do sleep 0.1; done'");
	CHECK(wait_until(has_begun, out_file));
	signal_to(pid, SIGINT);
	CHECK_INT(wait_for(pid), 5);
	CHECK(file_holds(out_file, "caught"));
	/* One that has no handler ends as it would outside. */
	pid = hull_start(out_file,
		"run selwick/base --network none -- sh -c "
		"'echo begun; exec sleep 1000'");
	CHECK(wait_until(has_begun, out_file));
	signal_to(pid, SIGTERM);
	CHECK_INT(wait_for(pid), 128 + SIGTERM);
	/* One that was made before has them, too. */
	CODE(hull("create selwick/base --name lamp --network none -- sh -c "
		  "'trap \"echo caught; exit 6\" INT; echo begun; while :; do "
		  "sleep 0.1; done'"),
		0);
	pid = hull_start(out_file, "start --attach lamp");
	CHECK(wait_until(has_begun, out_file));
	signal_to(pid, SIGINT);
	CHECK_INT(wait_for(pid), 6);
	CODE(hull("remove lamp -q"), 0);
}

static void kept_when_asked_to(void)
{
	CODE(hull("run selwick/almanac --name table --keep -- --days 2"), 0);
	CHECK_TEXT(field("table", "outcome.exit-code"), "0");
	SAYS(hull("logs table")->out, "tide table for 2 days");
	CODE(hull("run selwick/base --name table -- true"), 125);
	CODE(hull("remove table"), 0);
}

static void a_terminal_is_given(void)
{
	struct result *result;

	result =
		hull("run selwick/base --network none --tty yes -- sh -c 'tty; "
		     "stty size; ls -l /dev/console; echo done'");
	CODE(result, 0);
	SAYS(result->out, "/dev/pts/0");
	SAYS(result->out, "done\r\n");
	/* With a terminal of the caller's own, by script(1). */
	result = other("script -qec 'env TIDYHULL_ROOT=%s "
		       "TIDYHULL_CONFIG=%s/config.yaml %s/tidyhull run "
		       "selwick/base --network none -- tty' /dev/null",
		world_store, world_folder, world_build);
	SAYS(result->out, "/dev/pts/0");
}

static void the_command_may_die_and_the_program_lives_on(void)
{
	pid_t pid;

	pid = hull_start(out_file,
		"run selwick/base --name box --keep --network none -- sh -c "
		"'echo begun; exec sleep 1000'");
	CHECK(wait_until(has_begun, out_file));
	signal_to(pid, SIGKILL);
	wait_for(pid);
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("stop box"), 0);
	CODE(hull("remove box"), 0);
}

static void a_reader_that_goes_ends_nothing_badly(void)
{
	struct result *result;

	result = other("sh -c 'TIDYHULL_ROOT=%s TIDYHULL_CONFIG=config.yaml "
		       "timeout 20 %s/tidyhull run selwick/base --network none "
		       "-- seq 1 1000000 | head -n 1'",
		world_store, world_build);
	CHECK_TEXT(result->out, "1\n");
	hull("stop --all -q");
}

/* Whatever the caller has been set to: mask, signals, limits, folder, files,
 * environment. */
static void nothing_of_the_caller_leaks(void)
{
	static const char script[] =
		"umask; grep -E \"SigIgn|SigBlk\" /proc/self/status; pwd; ls "
		"/proc/self/fd | wc -l; echo x$LEAK";
	struct result *result;

	result =
		other("sh -c 'umask 077; trap \"\" CHLD USR1 HUP QUIT; "
		      "ulimit -f 4096; ulimit -t 100; exec 9</etc/hostname; "
		      "export LEAK=yes; %s/tidyhull run selwick/base --network "
		      "none --config config.yaml --root %s -- sh -c \"$0\"' "
		      "'%s'",
			world_build, world_store, script);
	CODE(result, 0);
	SAYS(result->out,
		"0022\nSigBlk:\t0000000000000000\n"
		"SigIgn:\t0000000000000000\n");
	SAYS(result->out, "\n/\n4\nx\n");
	/* Its root and files can be used by everybody inside. */
	result = other("sh -c 'umask 077; %s/tidyhull run selwick/base "
		       "--network none --user pilot --mount /kept=volume:kept "
		       "--config config.yaml --root %s -- sh -c \"ls / /kept; "
		       "cat /etc/hosts /etc/resolv.conf /etc/hostname; exit "
		       "7\"'",
		world_build, world_store);
	CODE(result, 7);
	SAYS(result->out, "localhost");
	CODE(hull("remove volume:kept"), 0);
	/* But what is the caller's own is as the caller wants it. */
	CODE(other("sh -c 'umask 077; %s/tidyhull pack selwick/base own.tar "
		   "--root %s'",
		     world_build, world_store),
		0);
	CHECK_TEXT(other("stat -c %%a own.tar")->out, "600\n");
}

static bool is_running(void *name)
{
	return strcmp(field(name, "state"), "running") == 0;
}

static bool attached_ended(void *arg)
{
	(void)arg;
	return file_holds("code2", "\n");
}

/* One that waits for news is attached; it gets nothing, as long as the other
 * one takes nothing. */
static bool is_attached(void *arg)
{
	(void)arg;
	return as_root("sh -c 'for p in /proc/[0-9]*; do grep -qs ^tidyhull "
		       "$p/comm && grep -qs attach $p/cmdline && grep poll "
		       "$p/wchan && exit 0; done; exit 1'")
		       ->code == 0;
}

/* One that begins to read long after the program has ended: all comes, and the
 * code with it. */
static void a_slow_reader_gets_all(void)
{
	struct result *result;
	pid_t reader, writer, other_reader;

	result = other("sh -c '(%s/tidyhull run selwick/base --network none "
		       "--config config.yaml --root %s -- sh -c \"head -c "
		       "5000000 /dev/zero; echo end; exit 9\"; echo $? >code) "
		       "| (sleep 11; tail -c 4 | tr -d \"\\\\n\"; cat) ; cat "
		       "code'",
		world_build, world_store);
	CODE(result, 0);
	CHECK_TEXT(result->out, "end9\n");
	CHECK(!strstr(result->err, "tidyhull:"));
	/* But nobody waits for it where the container is to go. */
	CODE(other("mkfifo pipe"), 0);
	reader = other_start("rest", "sh -c 'exec sleep 1000 <pipe'");
	writer = other_start("rest2",
		"sh -c 'exec %s/tidyhull run selwick/base --name stuck "
		"--network none --config config.yaml --root %s -- yes >pipe'",
		world_build, world_store);
	CHECK(wait_until(is_running, (void *)(uintptr_t) "stuck"));
	/* Nor does one that never reads keep others from what is theirs. */
	other_reader = other_start("rest3",
		"sh -c '(%s/tidyhull attach stuck --config config.yaml --root "
		"%s 2>said2; echo $? >code2) | (while [ ! -e go ]; do sleep "
		"0.05; "
		"done; cat >attached)'",
		world_build, world_store);
	CHECK(wait_until(is_attached, NULL));
	CODE(hull("stop stuck --grace 0s"), 0);
	put_file("go", "");
	CHECK(wait_until(attached_ended, NULL));
	/* The signal that asks, or the one that does not: whichever is first.
	 */
	result = other("cat code2 said2");
	CHECK(strcmp(result->out, "137\n") == 0 || says(result->out, "143\n"));
	signal_to(writer, SIGKILL);
	wait_for(other_reader);
	signal_to(reader, SIGKILL);
	wait_for(writer);
	wait_for(reader);
}

/* A name that nobody gave is told, or it could not be found again. */
static void what_is_kept_has_a_name(void)
{
	struct result *result = hull(
		"run --keep selwick/base --network none -- sh -c 'exit 3'");
	char name[80] = "", *at = strstr(result->err, "note: it is kept as ");

	CODE(result, 3);
	CHECK(at && sscanf(at, "note: it is kept as %70[^:]", name) == 1);
	CHECK_TEXT(field(name, "outcome.exit-code"), "3");
	CODE(hull("remove %s", name), 0);
	result = hull("run --keep selwick/base --network none --name box -- "
		      "true");
	CHECK_TEXT(result->err, "");
	CHECK_TEXT(
		hull("run --keep -q selwick/base --network none -- true")->err,
		"");
	CODE(hull("remove --all --yes"), 0);
}

static const CU_TestInfo tests[] = {
	{"what is kept has a name", what_is_kept_has_a_name},
	{"a slow reader gets all", a_slow_reader_gets_all},
	{"nothing of the caller leaks", nothing_of_the_caller_leaks},
	{"its exit code is passed on", its_exit_code_is_passed_on},
	{"it works as a filter", it_works_as_a_filter},
	{"its streams stay apart", its_streams_stay_apart},
	{"much output comes whole", much_output_comes_whole},
	{"signals reach the program", signals_reach_the_program},
	{"kept when asked to", kept_when_asked_to},
	{"a terminal is given", a_terminal_is_given},
	{"the command may die", the_command_may_die_and_the_program_lives_on},
	{"a reader that goes", a_reader_that_goes_ends_nothing_badly},
	CU_TEST_INFO_NULL};

const struct suite suite_run = {"run", tests};
