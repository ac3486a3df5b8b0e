/* why: each case is told apart, and its sentence is read. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

/* The kind that programs read. */
static void check_kind(const char *kind)
{
	json_t *doc = hull_json("why box --json"), *one;

	one = json_array_get(json_object_get(doc, "containers"), 0);
	CHECK_TEXT(json_string_value(json_object_get(one, "kind")), kind);
	json_decref(doc);
}

static void remove_box(void)
{
	CODE(hull("remove --force box"), 0);
}

static void run_keep(const char *more, const char *command, int code)
{
	CODE(hull("run selwick/base --keep --name box --network none %s -- %s",
		     more, command),
		code);
}

static void create_and_start(const char *more, const char *command)
{
	CODE(hull("create selwick/base --name box --network none %s -- %s",
		     more, command),
		0);
	CHECK(hull("start box")->code != 0);
}

static void not_found_and_not_executable(void)
{
	struct result *result;

	create_and_start("", "tide-tables --year 2026");
	result = hull("why box");
	SAYS(result->out, "box could not be started");
	SAYS(result->out, "does not have a program \"tide-tables\"");
	SAYS(result->out, "its command was: tide-tables --year 2026");
	check_kind("program-not-found");
	remove_box();
	create_and_start("", "/etc/motd");
	result = hull("why box");
	SAYS(result->out, "is not executable (mode 0644)");
	SAYS(result->out, "chmod +x");
	check_kind("not-executable");
	remove_box();
}

/* An ELF header of another machine: 64-bit, little-endian, AArch64. */
static void wrong_architecture(void)
{
	static const unsigned char head[64] = {0x7f, 'E', 'L', 'F', 2, 1,
		1, [16] = 2, [18] = 183, [20] = 1, [52] = 64};
	char path[300];
	FILE *file;

	snprintf(path, sizeof(path), "%s/foreign", world_folder);
	file = fopen(path, "wb");
	fwrite(head, 1, sizeof(head), file);
	fclose(file);
	chmod(path, 0755);
	create_and_start("--mount /foreign=./foreign", "/foreign");
	SAYS(hull("why box")->out,
		"is a program for 64-bit ARM, but this machine is");
	SAYS(hull("why box")->out, "tidyhull peek selwick/base");
	check_kind("wrong-architecture");
	remove_box();
}

static void missing_interpreter_and_library(void)
{
	struct result *result;
	char path[300];

	put_file("script", "#!/usr/bin/tide-lang -x\nprint\n");
	snprintf(path, sizeof(path), "%s/script", world_folder);
	chmod(path, 0755);
	create_and_start("--mount /script=./script", "/script");
	result = hull("why box");
	SAYS(result->out,
		"the interpreter or loader that it needs does not: "
		"/usr/bin/tide-lang");
	check_kind("interpreter-missing");
	remove_box();
	/* What the loaders of programs say. */
	run_keep("",
		"sh -c 'echo \"tides: error while loading shared libraries: "
		"libtide.so.2: cannot open shared object file: No such file "
		"or directory\" >&2; exit 127'",
		127);
	result = hull("why box");
	SAYS(result->out, "the program needs the library libtide.so.2");
	check_kind("library-missing");
	remove_box();
}

static void a_shell_without_a_terminal(void)
{
	CODE(hull("launch selwick/base --name box --network none"), 0);
	hull("wait -q box");
	SAYS(hull("why box")->out,
		"a shell without a terminal or input has nothing to do");
	SAYS(hull("why box")->out, "launch --tty yes");
	check_kind("shell-without-terminal");
	remove_box();
}

static void permission_on_a_mount(void)
{
	struct result *result;

	CODE(other("mkdir ledger"), 0);
	run_keep("--user pilot --mount /data=./ledger",
		"sh -c 'echo page >/data/page'", 1);
	result = hull("why box");
	SAYS(result->out, "the mount /data is ");
	SAYS(result->out, "/ledger outside, which belongs to user");
	SAYS(result->out, "the program ran as user 1000");
	SAYS(result->out, "(err) ");
	/* Files of root's only can appear to be another's. */
	CHECK(!strstr(result->out, ",map=me") == (world_user != 0));
	check_kind("mount-permission");
	remove_box();
	/* Who lacks a right is told how it is had. */
	run_keep("", "mount -t tmpfs none /mnt", 1);
	SAYS(hull("why box")->out,
		"tidyhull recreate box --capability +SYS_ADMIN");
	remove_box();
	run_keep("--mount /data=./ledger,ro", "sh -c 'echo page >/data/page'",
		1);
	SAYS(hull("why box")->out, "the mount /data is read-only (,ro)");
	check_kind("mount-permission");
	remove_box();
}

static void a_port_taken_inside(void)
{
	CODE(hull("run selwick/base --keep --name box --network none -- sh -c "
		  "'nc -l -p 7000 & sleep 0.3; nc -l -p 7000; code=$?; kill "
		  "%%1; exit $code'"),
		1);
	SAYS(hull("why box")->out,
		"the port that the program wants to listen on is taken inside "
		"the container");
	check_kind("port-taken-inside");
	remove_box();
}

static void out_of_memory(void)
{
	if (world_user)
		return; /* limits has the reason */
	CODE(hull("run selwick/base --keep --name box --network none --limit "
		  "memory=16M -- sh -c 'x=x; while :; do x=$x$x; "
		  "done'"),
		137);
	SAYS(hull("why box")->out, "by the kernel");
	SAYS(hull("why box")->out, "it ran out of memory");
	SAYS(hull("why box")->out, "--limit memory=SIZE");
	check_kind("out-of-memory");
	SAYS(hull("timeline box")->out, "kernel");
	remove_box();
}

static void by_whom(void)
{
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	SAYS(hull("why box")->out, ": tidyhull launch");
	check_kind("running");
	CODE(hull("kill box"), 0);
	hull("wait -q box");
	SAYS(hull("why box")->out, "it was sent signal 9 by ");
	SAYS(hull("why box")->out, ": tidyhull kill");
	check_kind("killed");
	CODE(hull("start box"), 0);
	CODE(hull("stop box"), 0);
	SAYS(hull("why box")->out, "box was stopped");
	SAYS(hull("why box")->out, ": tidyhull stop");
	check_kind("stopped");
	CODE(hull("start box"), 0);
	as_root("kill -9 %s", field("box", "pid"));
	hull("wait -q box");
	SAYS(hull("why box")->out, "not sent through tidyhull");
	check_kind("signal");
	remove_box();
}

/* A signal of an hour ago is not why it ends now. */
static void a_signal_that_was_heeded_otherwise(void)
{
	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'trap \"echo heard\" USR1; i=0; while [ $i -lt 20 ]; do "
		  "i=$((i+1)); sleep 0.05; done; exit 3'"),
		0);
	CODE(hull("kill --signal USR1 box"), 0);
	hull("wait -q box");
	SAYS(hull("why box")->out, "box ended by itself");
	check_kind("failed");
	SAYS(hull("why box")->out,
		"it will not be restarted, because its restart policy is "
		"never");
	SAYS(hull("why box")->out, "tidyhull timeline box");
	remove_box();
}

static void a_failed_probe(void)
{
	CODE(hull("launch selwick/base --name box --network none --restart "
		  "on-ailing,tries=1,delay=1h --probe "
		  "'exec:false,every=50ms,limit=2,grace=0' -- sleep 1000"),
		0);
	for (int i = 0; i < 500 && strcmp(field("box", "state"), "waiting");
		i++)
		usleep(10000);
	SAYS(hull("why box")->out, "box was stopped");
	SAYS(hull("why box")->out,
		"because its probe failed 2 times in a row: its command ended "
		"with code 1");
	check_kind("probe-failed");
	remove_box();
}

static void a_lost_keeper(void)
{
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	kill_keeper("box");
	SAYS(hull("why box")->out, "box was lost when its keeper");
	check_kind("keeper-lost");
	remove_box();
}

static void a_restart_of_the_host(void)
{
	CODE(hull("create selwick/base --name box --restart always"), 0);
	/* As the state is found after one: it runs, of another boot. */
	CODE(as_root("python3 -c 'import sqlite3; "
		     "d=sqlite3.connect(\"%s/state.db\"); "
		     "d.execute(\"update containers set state=?, boot=?, "
		     "wanted=1, started_us=1\", (\"running\", \"other\")); "
		     "d.commit()'",
		     world_store),
		0);
	SAYS(hull("why box")->out, "box ended when the host restarted");
	SAYS(hull("why box")->out, "tidyhull start --all-due starts it");
	check_kind("host-restarted");
	SAYS(hull("list --all")->out, "host restarted");
	remove_box();
}

static void one_that_was_not_kept(void)
{
	struct result *result;

	CODE(hull("run selwick/base --name box --network none -- sh -c 'exit "
		  "9'"),
		9);
	result = hull("why box");
	CODE(result, 3);
	SAYS(result->err, "it existed and was removed");
	SAYS(result->err, "tidyhull timeline box");
	SAYS(hull("timeline box")->out,
		"its process ended (exit code 9); it was set to be discarded");
	SAYS(hull("why nosuch")->err, "tidyhull list --all");
}

static void nothing_is_made_up(void)
{
	run_keep("", "sh -c 'echo fine; exit 0'", 0);
	SAYS(hull("why box")->out, "box ended by itself");
	SAYS(hull("why box")->out, "with exit code 0");
	check_kind("done");
	remove_box();
	/* Words of trouble before a good end are no reason. */
	run_keep("", "sh -c 'echo Permission denied; exit 0'", 0);
	check_kind("done");
	remove_box();
	run_keep("", "sh -c 'exit 9'", 9);
	check_kind("failed");
	SAYS(hull("why box")->out, "it has not written anything");
	remove_box();
	CODE(hull("create selwick/base --name box"), 0);
	SAYS(hull("why box")->out, "never been started");
	check_kind("created");
	remove_box();
}

static const CU_TestInfo tests[] = {
	{"not found and not executable", not_found_and_not_executable},
	{"wrong architecture", wrong_architecture},
	{"missing interpreter and library", missing_interpreter_and_library},
	{"a shell without a terminal", a_shell_without_a_terminal},
	{"permission on a mount", permission_on_a_mount},
	{"a port taken inside", a_port_taken_inside},
	{"out of memory", out_of_memory}, {"by whom", by_whom},
	{"a signal that was heeded otherwise",
		a_signal_that_was_heeded_otherwise},
	{"a failed probe", a_failed_probe}, {"a lost keeper", a_lost_keeper},
	{"a restart of the host", a_restart_of_the_host},
	{"one that was not kept", one_that_was_not_kept},
	{"nothing is made up", nothing_is_made_up}, CU_TEST_INFO_NULL};

const struct suite suite_why = {"why", tests};
