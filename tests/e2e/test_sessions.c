/* Sessions: what is recorded, those in the background, and enter. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

static void launch_box(void)
{
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
}

/* Starts one in the background; its ID. */
static const char *begin(const char *command)
{
	static char id[32];

	snprintf(id, sizeof(id), "%.12s",
		hull("exec --background -q box -- %s", command)->out);
	CHECK_INT(strlen(id), 12);
	return id;
}

static void in_the_background(void)
{
	struct result *result;
	const char *id;

	launch_box();
	id = begin("sh -c 'echo packed; echo torn >&2; sleep 0.3; exit 7'");
	result = hull("list sessions");
	SAYS(result->out, id);
	SAYS(result->out, "running, background");
	SAYS(result->out, "sh -c echo packed");
	CODE(hull("wait %s", id), 7);
	result = hull("logs %s", id);
	CHECK_TEXT(result->out, "packed\n");
	CHECK_TEXT(result->err, "torn\n");
	SAYS(hull("list sessions")->out, "no sessions are running");
	SAYS(hull("list sessions --all")->out, "ended: 7");
	CHECK_TEXT(field(id, "exit-code"), "7");
	CHECK_TEXT(field(id, "container-name"), "box");
	SAYS(field(id, "by"), "tidyhull exec");
	/* What is known is not forgotten, and a wait need not wait. */
	CODE(hull("wait -q %s", id), 7);
	id = begin("sleep 1000");
	CODE(hull("kill --signal TERM session:%s", id), 0);
	CODE(hull("wait %s", id), 143);
	result = hull("kill %s", id);
	CODE(result, 1);
	SAYS(result->err, "has already ended");
	CODE(hull("exec --background --tty yes box -- true"), 125);
	CODE(hull("exec --background box -- nosuch"), 127);
	CODE(hull("remove --force box"), 0);
}

static void it_outlives_who_started_it(void)
{
	const char *id;

	launch_box();
	id = begin("sh -c 'sleep 0.2; echo later >/tmp/note; sleep 1000'");
	usleep(500000);
	CHECK_TEXT(hull("exec box -- cat /tmp/note")->out, "later\n");
	/* The container's end is its end, and that is said. */
	SAYS(hull("stop box")->out, "1 session ended with it");
	SAYS(hull("timeline box")->out, "1 session ended with it");
	CODE(hull("wait %s", id), 137);
	CODE(hull("remove box"), 0);
	CODE(hull("show %s", id), 3);
}

static void those_in_the_foreground_are_recorded(void)
{
	json_t *doc, *list;

	launch_box();
	CODE(hull("exec box --user pilot -- sh -c 'exit 4'"), 4);
	doc = hull_json("list sessions --all --json");
	list = json_object_get(doc, "sessions");
	CHECK_INT(json_array_size(list), 1);
	CHECK_TEXT(json_string_value(
			   json_object_get(json_array_get(list, 0), "user")),
		"pilot");
	CHECK_INT(json_integer_value(json_object_get(
			  json_array_get(list, 0), "exit-code")),
		4);
	json_decref(doc);
	CODE(hull("remove --force box"), 0);
}

static void signals_reach_it(void)
{
	pid_t pid;

	launch_box();
	pid = hull_start("out",
		"exec box -- sh -c 'trap \"echo heard; exit 3\" TERM; echo "
		"begun; while :; do sleep 0.05; done'");
	for (int i = 0; i < 500 && !file_holds("out", "begun"); i++)
		usleep(10000);
	other("kill -TERM %d", (int)pid);
	CHECK_INT(wait_for(pid), 3);
	CHECK(file_holds("out", "heard"));
	CODE(hull("remove --force box"), 0);
}

static void enter_finds_a_shell(void)
{
	struct result *result;

	launch_box();
	result = hull_input("echo $0; exit 5\n", 16, "enter box");
	CODE(result, 5);
	CHECK_TEXT(result->out, "/bin/sh\n");
	CODE(hull("stop box"), 0);
	result = hull("enter box");
	CODE(result, 125);
	SAYS(result->err, "is not running");
	CODE(hull("remove box"), 0);
}

/* A bash is better than an sh, and the container's own PATH counts. */
static void enter_looks_along_the_path(void)
{
	CODE(hull("launch selwick/base --name box --network none --env "
		  "PATH=relative:/opt/tools:/bin -- sleep 1000"),
		0);
	CODE(hull("exec box -- sh -c 'mkdir -p /opt/tools; cd /opt/tools; "
		  "printf \"#!/bin/sh\\necho own bash; exit 4\\n\" >bash; "
		  "ln -s /nowhere /bin/bash; chmod 644 bash'"),
		0);
	CODE(hull_input("exit 5\n", 7, "enter box"), 5);
	CODE(hull("exec box -- chmod 755 /opt/tools/bash"), 0);
	CODE(hull_input("exit 5\n", 7, "enter box"), 4);
	CODE(hull("remove --force box"), 0);
}

/* An image of one program and nothing else. */
static void one_is_brought_where_there_is_none(void)
{
	struct result *result;

	launch_box();
	CODE(hull("exec box -- rm /bin/sh /bin/ash"), 0);
	result = hull("enter box");
	CODE(result, 127);
	SAYS(result->err, "has no shell");
	SAYS(result->err, "--bring-shell");
	result = hull_input("echo $((6*7)); ls /etc/motd; exit 6\n", 36,
		"enter --bring-shell box");
	CODE(result, 6);
	CHECK_TEXT(result->out, "42\n/etc/motd\n");
	/* Nothing of it stays, and what it is cannot be changed. */
	result = hull_input("echo x 2>/dev/null >/proc/$$/exe; echo $?\n", 42,
		"enter --bring-shell box");
	CHECK_TEXT(result->out, "1\n");
	CODE(hull("remove --force box"), 0);
}

/* What dies meanwhile cannot be entered, in one way or another: what is told is
 * that it has ended. */
static void one_at_the_end_hears_of_it(void)
{
	for (int i = 0; i < 40; i++) {
		struct result *result;
		pid_t pid;
		int code;

		CODE(hull("launch selwick/base --name brief --network none -- "
			  "sleep 1000"),
			0);
		pid = hull_start("end", "exec brief -- true");
		usleep((useconds_t)(i * 400));
		CODE(hull("kill brief"), 0);
		code = wait_for(pid);
		if (code != 0 && code != 137) {
			result = other("cat end");
			CHECK(strstr(result->out, "ended") != NULL ||
				strstr(result->out, "not running") != NULL);
			if (!strstr(result->out, "ended"))
				printf("%d: %s\n", code, result->out);
		}
		CODE(hull("remove --force brief -q"), 0);
	}
}

static const CU_TestInfo tests[] = {
	{"one at the end hears of it", one_at_the_end_hears_of_it},
	{"in the background", in_the_background},
	{"it outlives who started it", it_outlives_who_started_it},
	{"those in the foreground are recorded",
		those_in_the_foreground_are_recorded},
	{"signals reach it", signals_reach_it},
	{"enter finds a shell", enter_finds_a_shell},
	{"enter looks along the path", enter_looks_along_the_path},
	{"one is brought where there is none",
		one_is_brought_where_there_is_none},
	CU_TEST_INFO_NULL};

const struct suite suite_sessions = {"sessions", tests};
