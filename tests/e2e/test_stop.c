/* stop and kill. */
#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "e2e/harness.h"

static void launch(const char *script, const char *more)
{
	CODE(hull("launch selwick/base --name box --network none %s -- sh -c "
		  "'%s'",
		     more, script),
		0);
}

static bool is_ready(void *arg)
{
	(void)arg;
	return strstr(hull("logs box")->out, "ready") != NULL;
}

static void a_stop_is_heeded_and_says_so(void)
{
	struct result *result;

	launch("trap \"echo bye; exit 3\" TERM; echo ready; while :; do sleep "
	       "0.05; done",
		"");
	CHECK(wait_until(is_ready, NULL));
	result = hull("stop box");
	CODE(result, 0);
	SAYS(result->out, "it ended on its stop signal");
	CHECK_TEXT(field("box", "outcome.exit-code"), "3");
	SAYS(hull("logs box")->out, "bye");
	SAYS(hull("why box")->out, "box was stopped");
	SAYS(hull("why box")->out, ": tidyhull stop");
	SAYS(hull("stop box")->out, "is not running");
	CODE(hull("remove box"), 0);
}

static void one_that_does_not_heed_is_killed(void)
{
	struct result *result;

	launch("trap \"\" TERM; echo ready; while :; do sleep 0.05; done", "");
	CHECK(wait_until(is_ready, NULL));
	result = hull("stop box --grace 300ms");
	CODE(result, 0);
	SAYS(result->out, "killed after");
	CHECK_TEXT(field("box", "outcome.signal"), "9");
	SAYS(hull("why box")->out, "killed after the grace period");
	CODE(hull("remove box"), 0);
}

/* Ten mysterious seconds are what this is about. */
static void one_that_cannot_hear_does_not_make_wait(void)
{
	int64_t begin;

	launch("echo ready; exec sleep 1000", "");
	CHECK(wait_until(is_ready, NULL));
	begin = th_clock_mono_ms();
	CODE(hull("stop box"), 0);
	CHECK(th_clock_mono_ms() - begin < 8000);
	CHECK_TEXT(field("box", "outcome.signal"), "15");
	CODE(hull("remove box"), 0);
}

static void its_own_signal_and_grace(void)
{
	launch("trap \"exit 6\" INT; trap \"\" TERM; echo ready; while :; do "
	       "sleep 0.05; done",
		"--stop signal=INT,grace=60s");
	CHECK(wait_until(is_ready, NULL));
	CODE(hull("stop box"), 0);
	CHECK_TEXT(field("box", "outcome.exit-code"), "6");
	CODE(hull("remove box"), 0);
}

static void kill_sends_what_is_asked(void)
{
	launch("trap \"echo heard\" USR1; echo ready; while :; do sleep 0.05; "
	       "done",
		"");
	CHECK(wait_until(is_ready, NULL));
	CODE(hull("kill --signal USR1 box"), 0);
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("kill --signal 99 box"), 2);
	CODE(hull("kill box"), 0);
	CODE(hull("remove --force box"), 0);
	CODE(hull("kill box"), 3);
}

static void several_and_all(void)
{
	struct result *result;

	for (int i = 0; i < 3; i++)
		CODE(hull("launch selwick/base --name b%d --network none -- "
			  "sleep 1000",
			     i),
			0);
	/* One failure does not stop the others, and the code tells. */
	result = hull("stop b0 nosuch b1");
	CODE(result, 3);
	SAYS(result->out, "stopped b0");
	SAYS(result->out, "stopped b1");
	SAYS(result->err, "nosuch");
	result = hull("stop --all");
	SAYS(result->out, "stopped b2");
	SAYS(hull("stop --all")->out, "there is no container to stop");
	CODE(hull("remove --all"), 0);
}

static void start_right_after_stop(void)
{
	launch("exec sleep 1000", "");
	for (int i = 0; i < 5; i++) {
		CODE(hull("stop box"), 0);
		CODE(hull("start box"), 0);
	}
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {
	{"a stop is heeded and says so", a_stop_is_heeded_and_says_so},
	{"one that does not heed is killed", one_that_does_not_heed_is_killed},
	{"one that cannot hear", one_that_cannot_hear_does_not_make_wait},
	{"its own signal and grace", its_own_signal_and_grace},
	{"kill sends what is asked", kill_sends_what_is_asked},
	{"several and all", several_and_all},
	{"start right after stop", start_right_after_stop}, CU_TEST_INFO_NULL};

const struct suite suite_stop = {"stop", tests};
