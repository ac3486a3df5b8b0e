/* pause and resume, and what becomes of the paused. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "e2e/harness.h"

/* A program that counts in its log for as long as it is let. */
static void launch_counter(const char *more)
{
	CODE(hull("launch selwick/base --name box --network none %s -- sh -c "
		  "'i=0; while true; do i=$((i+1)); echo $i; sleep 0.02; "
		  "done'",
		     more),
		0);
}

static int last_count(void)
{
	return atoi(hull("logs box --last 1")->out);
}

static bool counts_on(void *arg)
{
	return last_count() > *(int *)arg;
}

static void check_state(const char *state)
{
	CHECK_TEXT(field("box", "state"), state);
}

static void it_stands_still_and_goes_on(void)
{
	const struct timespec moment = {.tv_nsec = 200000000};
	struct result *result;
	int count = 0;

	launch_counter("");
	CHECK(wait_until(counts_on, &count));
	result = hull("pause box");
	CODE(result, 0);
	CHECK_TEXT(result->out, "paused box\n");
	check_state("paused");
	SAYS(hull("list")->out, "paused");
	result = hull("why box");
	SAYS(result->out, "box was paused");
	SAYS(result->out, "tidyhull pause");
	SAYS(result->out, "tidyhull resume box");
	/* Ten of its steps would fit into the moment. */
	count = last_count();
	nanosleep(&moment, NULL);
	CHECK_INT(last_count(), count);
	CODE(hull("resume box"), 0);
	check_state("running");
	CHECK(wait_until(counts_on, &count));
	CODE(hull("stop box"), 0);
	CODE(hull("remove box"), 0);
}

static void what_is_not_possible_is_told(void)
{
	struct result *result;

	CODE(hull("create selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	result = hull("pause box");
	CODE(result, 1);
	SAYS(result->err, "is not running: it is created");
	CODE(hull("start box"), 0);
	result = hull("resume box");
	CODE(result, 1);
	SAYS(result->err, "is not paused");
	CODE(hull("pause box"), 0);
	result = hull("pause box");
	CODE(result, 1);
	SAYS(result->err, "is already paused");
	result = hull("exec box -- true");
	CODE(result, 125);
	SAYS(result->err, "tidyhull resume box");
	result = hull("start box");
	CODE(result, 4);
	SAYS(result->err, "tidyhull resume box");
	result = hull("remove box");
	CODE(result, 4);
	CODE(hull("pause nothing"), 3);
	CODE(hull("remove --force box"), 0);
}

static void the_paused_can_be_ended(void)
{
	static const struct {
		const char *line, *says;
	} cases[] = {{"stop box", "it ended on its stop signal"},
		{"kill box", "sent KILL"}, {"remove --force box", "removed"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct result *result;

		CODE(hull("launch selwick/base --name box --network none -- sh "
			  "-c 'trap \"echo bye; exit 3\" TERM; while true; do "
			  "sleep 0.01; done'"),
			0);
		CODE(hull("pause box"), 0);
		result = hull("%s", cases[i].line);
		CODE(result, 0);
		SAYS(result->out, cases[i].says);
		if (i == 0) {
			/* It was woken to hear the signal. */
			hull("logs --follow box");
			SAYS(hull("logs box")->out, "bye");
			CHECK_TEXT(field("box", "outcome.exit-code"), "3");
		}
		if (i == 1)
			hull("logs --follow box");
		if (i < 2)
			CODE(hull("remove box"), 0);
	}
}

static void its_keeper_may_be_killed(void)
{
	const char *line;
	int keeper, pid;

	launch_counter("");
	CODE(hull("pause box"), 0);
	pid = atoi(field("box", "pid"));
	line = strstr(other("cat /proc/%d/status", pid)->out, "PPid:");
	keeper = line ? atoi(line + 5) : 0;
	CHECK(keeper > 1);
	if (keeper > 1)
		CHECK_INT(kill(keeper, SIGKILL), 0);
	hull("logs --follow box");
	CHECK_TEXT(field("box", "state"), "stopped");
	CHECK_TEXT(field("box", "outcome.kind"), "keeper-lost");
	CODE(hull("remove box"), 0);
}

static void all_at_once(void)
{
	for (int i = 0; i < 3; i++)
		CODE(hull("launch selwick/base --name box-%d --network none -- "
			  "sleep 1000",
			     i),
			0);
	CODE(hull("pause box-1"), 0);
	SAYS(hull("pause --all")->out, "paused box-2");
	for (int i = 0; i < 3; i++) {
		char name[16];

		snprintf(name, sizeof(name), "box-%d", i);
		CHECK_TEXT(field(name, "state"), "paused");
	}
	CODE(hull("resume --all"), 0);
	CODE(hull("pause --all --quiet"), 0);
	CODE(hull("stop --all --grace 5s"), 0);
	CODE(hull("remove --all --yes"), 0);
}

static void its_ports_wait(void)
{
	struct result *result;
	pid_t pid;

	CODE(hull("launch selwick/gauge --name box --port 80=18088"), 0);
	CHECK(fetch("127.0.0.1", 18088, "/tide.json") != NULL);
	CODE(hull("pause box"), 0);
	pid = other_start("page", "curl -s localhost:18088/tide.json");
	CODE(hull("resume box"), 0);
	CHECK_INT(wait_for(pid), 0);
	CHECK(file_holds("page", "Port Selwick"));
	result = hull("launch selwick/gauge --name other --port 80=18088");
	CODE(result, 4);
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {
	{"it stands still and goes on", it_stands_still_and_goes_on},
	{"what is not possible is told", what_is_not_possible_is_told},
	{"the paused can be ended", the_paused_can_be_ended},
	{"its keeper may be killed", its_keeper_may_be_killed},
	{"all at once", all_at_once}, {"its ports wait", its_ports_wait},
	CU_TEST_INFO_NULL};

const struct suite suite_pause = {"pause", tests};
