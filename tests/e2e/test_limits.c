/* Limits under a program that tries to exceed them, adjust, and meter. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

static json_t *metered(json_t **doc)
{
	*doc = hull_json("meter --once --json");
	if (!json_array_size(json_object_get(*doc, "containers")))
		json_array_append_new(
			json_object_get(*doc, "containers"), json_object());
	return json_array_get(json_object_get(*doc, "containers"), 0);
}

static double number(const json_t *one, const char *key)
{
	return json_number_value(json_object_get(one, key));
}

static bool is_stopped(void *arg)
{
	(void)arg;
	return strcmp(field("box", "state"), "stopped") == 0;
}

static void memory_is_bounded_and_the_reason_told(void)
{
	struct result *result;

	CODE(hull("launch selwick/base --name box --network none --limit "
		  "memory=16M -- sh -c 'x=tide; while true; do x=$x$x; done'"),
		0);
	CHECK(wait_until(is_stopped, NULL));
	CHECK_TEXT(field("box", "outcome.kind"), "out-of-memory");
	SAYS(hull("why box")->out, "it ran out of memory");
	SAYS(hull("why box")->out, "its limits are memory=");
	/* In the foreground its code is no riddle. */
	result = hull("run selwick/base --network none --limit memory=16M -- "
		      "sh -c 'x=tide; while true; do x=$x$x; done'");
	CODE(result, 137);
	SAYS(result->err, "it ran out of memory");
	SAYS(result->err, "--limit memory=SIZE");
	/* The keeper has survived it: all is cleaned up, and it starts again.
	 */
	CODE(hull("start box"), 0);
	CHECK(wait_until(is_stopped, NULL));
	CODE(hull("remove box"), 0);
}

/* A program that asks how much memory it may use gets its own limit for an
 * answer, wherever this host keeps it, and cannot change it. */
static void programs_see_their_limit(void)
{
	bool old = access("/sys/fs/cgroup/memory/memory.limit_in_bytes",
			   F_OK) == 0;
	const char *file = old ? "/sys/fs/cgroup/memory/memory.limit_in_bytes"
			       : "/sys/fs/cgroup/memory.max";
	static const char *const controllers[] = {"cpu", "cpuacct", "cpuset",
		"memory", "pids", "devices", "freezer", "blkio"};
	struct result *result;

	result = hull("run selwick/base --network none --limit memory=64M -- "
		      "sh -c 'cat %s; cat /proc/self/cgroup; echo 1 > %s'",
		file, file);
	SAYS(result->out, "67108864\n");
	CHECK(result->code != 0);
	SAYS(result->err, "Read-only file system");
	/* Only its own groups, of all hierarchies: its process and no other. */
	CHECK(strstr(result->out, "tidyhull") == NULL);
	for (size_t i = 0; old && i < COUNT_OF(controllers); i++) {
		char host[64];

		snprintf(host, sizeof(host), "/sys/fs/cgroup/%s/tasks",
			controllers[i]);
		if (access(host, F_OK))
			continue;
		result = hull("run selwick/base --network none --limit "
			      "memory=64M -- sh -c 'cat %s | grep -c 1; "
			      "ls -d /sys/fs/cgroup/%s/*/ | wc -l'",
			host, controllers[i]);
		CODE(result, 0);
		SAYS(result->out, "\n0\n");
	}
	/* A session is counted there, too. */
	CODE(hull("launch selwick/base --name box --network none --limit "
		  "memory=64M -- sleep 1000"),
		0);
	SAYS(hull("exec box -- cat %s", file)->out, "67108864\n");
	if (old)
		SAYS(hull("exec box -- sh -c 'grep -cx $$ "
			  "/sys/fs/cgroup/cpuacct/cgroup.procs'")
				->out,
			"1\n");
	CODE(hull("remove --force box"), 0);
}

static void processes_are_bounded(void)
{
	SAYS(hull("run selwick/base --network none --limit processes=6 -- sh "
		  "-c "
		  "'for i in 1 2 3 4 5 6 7 8; do sleep 1 & done; wait'")
			->err,
		"can't fork");
	/* How often is told, and what to do. */
	CODE(hull("launch selwick/base --name box --network none --limit "
		  "processes=6 -- sh -c 'for i in 1 2 3 4 5 6 7 8; do sleep 1 "
		  "& done; exit 3'"),
		0);
	CHECK(wait_until(is_stopped, NULL));
	SAYS(hull("timeline box")->out, "was refused: its limit is 6");
	SAYS(hull("why box")->out, "refused it a new process");
	SAYS(hull("why box")->out, "adjust --limit processes=20000 box");
	CHECK_TEXT(field("box", "outcome.kind"), "exited");
	CODE(hull("remove box"), 0);
}

static void processes_are_bounded_by_default(void)
{
	json_t *doc, *one;

	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	one = metered(&doc);
	CHECK_INT(number(one, "processes-limit"), 4096);
	json_decref(doc);
	CODE(hull("adjust box --limit processes=none"), 0);
	one = metered(&doc);
	CHECK(json_is_null(json_object_get(one, "processes-limit")));
	json_decref(doc);
	CODE(hull("remove --force box"), 0);
	/* A loop that never ends by itself. */
	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'while true; do sleep 1000 & done'"),
		0);
	/* On a slow machine it takes minutes to make so many. */
	for (int i = 0; i < 10 && !is_stopped(NULL); i++)
		wait_until(is_stopped, NULL);
	SAYS(hull("timeline box")->out, "refused: its limit is 4096");
	CODE(hull("remove --force box"), 0);
}

static void cpu_time_is_bounded(void)
{
	json_t *doc, *one;

	CODE(hull("launch selwick/base --name box --network none --limit "
		  "cpu=0.3 -- sh -c 'while true; do :; done'"),
		0);
	usleep(300000);
	one = metered(&doc);
	CHECK(json_string_value(json_object_get(one, "name")) != NULL);
	/* The share of a quarter of a second, of which each tenth has 0.3. */
	CHECK(number(one, "cpu-percent") > 1);
	CHECK(number(one, "cpu-percent") < 60);
	json_decref(doc);
	CODE(hull("remove --force box"), 0);
}

static void adjust_changes_the_living_and_what_comes(void)
{
	struct result *result;
	json_t *doc, *one;

	CODE(hull("launch selwick/base --name box --network none --limit "
		  "memory=64M,processes=50 -- sleep 1000"),
		0);
	one = metered(&doc);
	CHECK_INT(number(one, "memory-limit"), 64 << 20);
	CHECK_INT(number(one, "processes-limit"), 50);
	json_decref(doc);
	result = hull("adjust box --limit memory=32M,cpu=2 --limit "
		      "processes=none");
	CODE(result, 0);
	CHECK_TEXT(result->out,
		"the limits of box are now "
		"memory=32M,cpu=2,processes=none\n");
	for (int i = 0; i < 2; i++) {
		one = metered(&doc);
		CHECK_INT(number(one, "memory-limit"), 32 << 20);
		CHECK(json_is_null(json_object_get(one, "processes-limit")));
		json_decref(doc);
		if (i == 0)
			CODE(hull("stop box --grace 0s"), 0);
		CODE(hull("start box"), 0);
	}
	result = hull("adjust box --limit memory=tide");
	CODE(result, 2);
	SAYS(result->err, "is not a limit");
	CODE(hull("adjust box"), 2);
	CODE(hull("remove --force box"), 0);
	CODE(hull("adjust box --limit cpu=1"), 3);
}

static void what_cannot_be_limited_is_told(void)
{
	struct result *result = hull("run selwick/base --network none --limit "
				     "memory=64M -- true");

	CODE(result, 125);
	SAYS(result->err, "cannot set a memory limit");
	SAYS(result->err, "Delegate=yes");
}

/* What is metered does not depend on controllers. */
static void meter_shows_all_that_run(void)
{
	struct result *result;
	json_t *doc, *one;

	SAYS(hull("meter --once")->out, "no containers are running");
	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'while true; do :; done'"),
		0);
	usleep(100000);
	one = metered(&doc);
	CHECK(number(one, "cpu-us") > 0);
	CHECK(number(one, "cpu-percent") > 5);
	CHECK(number(one, "memory") > 0);
	CHECK(number(one, "processes") >= 1);
	json_decref(doc);
	result = hull("meter --once");
	SAYS(result->out, "box");
	CODE(hull("meter nothing"), 3);
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {
	{"memory is bounded and the reason told",
		memory_is_bounded_and_the_reason_told},
	{"programs see their limit", programs_see_their_limit},
	{"processes are bounded", processes_are_bounded},
	{"processes are bounded by default", processes_are_bounded_by_default},
	{"cpu time is bounded", cpu_time_is_bounded},
	{"adjust changes the living and what comes",
		adjust_changes_the_living_and_what_comes},
	{"what cannot be limited is told", what_cannot_be_limited_is_told},
	{"meter shows all that run", meter_shows_all_that_run},
	CU_TEST_INFO_NULL};

const struct suite suite_limits = {"limits", tests};
