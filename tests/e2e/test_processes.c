/* processes: what runs inside. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "e2e/harness.h"

static size_t count_of(const char *name)
{
	json_t *doc = hull_json("processes %s --json", name);
	size_t count = json_array_size(json_object_get(
		json_array_get(json_object_get(doc, "containers"), 0),
		"processes"));

	json_decref(doc);
	return count;
}

static bool has_three(void *arg)
{
	return count_of(arg) == 3;
}

static void each_is_told_with_both_its_ids(void)
{
	static const char *const numbers[] = {
		"pid", "inside-pid", "uid", "cpu-us", "memory"};
	char box[] = "box";
	json_t *doc, *list, *one;
	struct result *result;

	CODE(hull("launch selwick/base --name box --network none --user pilot "
		  "--reaper no -- sh -c 'sleep 1001 & sleep 1002 & wait'"),
		0);
	CHECK(wait_until(has_three, box));
	doc = hull_json("processes box --json");
	list = json_object_get(
		json_array_get(json_object_get(doc, "containers"), 0),
		"processes");
	one = json_array_get(list, 0);
	for (size_t i = 0; i < COUNT_OF(numbers); i++)
		CHECK(json_is_integer(json_object_get(one, numbers[i])));
	CHECK_INT(json_integer_value(json_object_get(one, "inside-pid")), 1);
	CHECK_INT(json_integer_value(json_object_get(one, "uid")), 1000);
	CHECK(json_integer_value(json_object_get(one, "memory")) > 0);
	CHECK_TEXT(json_string_value(json_object_get(one, "user")), "pilot");
	SAYS(json_string_value(json_object_get(one, "command")), "sh -c");
	/* The host's ID is the one that show tells. */
	CHECK_INT(json_integer_value(json_object_get(one, "pid")),
		atoi(field("box", "pid")));
	json_decref(doc);
	result = hull("processes box");
	CODE(result, 0);
	SAYS(result->out, "sleep 1001");
	SAYS(result->out, "sleep 1002");
	SAYS(result->out, "pilot");
	/* Sessions are inside as well; what is paused can still be seen. */
	CODE(hull("pause box"), 0);
	CHECK_INT(count_of("box"), 3);
	CODE(hull("remove --force box"), 0);
}

static void hostile_names_do_no_harm(void)
{
	struct result *result;

	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'cp /bin/busybox \"/tmp/) R 1 1\"; exec \"/tmp/) R 1 1\" "
		  "sleep 1000'"),
		0);
	/* Its name is no applet, so it ends; any that runs is told rightly. */
	hull("logs --follow box");
	CODE(hull("remove --force box"), 0);
	CODE(hull("launch selwick/base --name box --network none --user 4711 "
		  "-- sh -c 'exec sh -c \"sleep 1000; true\" \033]0;x'"),
		0);
	result = hull("processes box");
	CODE(result, 0);
	SAYS(result->out, "4711");
	CHECK(strchr(result->out, '\033') == NULL);
	CODE(hull("remove --force box"), 0);
	/* Titles of servers are filled up to the room that there was. */
	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'sleep 1000; true' 'padded      '"),
		0);
	SAYS(hull("processes box --columns command")->out, "true padded\n");
	CODE(hull("remove --force box"), 0);
}

static void what_does_not_run_has_none(void)
{
	struct result *result;

	CODE(hull("create selwick/base --name box"), 0);
	result = hull("processes box");
	CODE(result, 1);
	SAYS(result->err, "is not running: it is created");
	CODE(hull("processes nothing"), 3);
	CODE(hull("processes"), 2);
	CODE(hull("remove box"), 0);
}

static const CU_TestInfo tests[] = {
	{"each is told with both its IDs", each_is_told_with_both_its_ids},
	{"hostile names do no harm", hostile_names_do_no_harm},
	{"what does not run has none", what_does_not_run_has_none},
	CU_TEST_INFO_NULL};

const struct suite suite_processes = {"processes", tests};
