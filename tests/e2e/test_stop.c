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

static bool has_ended(void *arg)
{
	(void)arg;
	return strcmp(field("box", "state"), "stopped") == 0;
}

/* A first process of a PID namespace would survive its own signal. */
static void a_crash_by_its_own_signal_is_an_end(void)
{
	static const char *const numbers[] = {"11", "6", "15", "7", "8", "4"};

	for (size_t i = 0; i < COUNT_OF(numbers); i++) {
		CODE(hull("launch selwick/base --name box --network none "
			  "--mount /inside=%s/inside,ro -- /inside/crash %s",
			     world_build, numbers[i]),
			0);
		CHECK(wait_until(has_ended, NULL));
		CHECK_TEXT(field("box", "outcome.signal"), numbers[i]);
		SAYS(hull("logs box")->out, "report\n");
		CHECK(strstr(hull("logs box")->out, "survived") == NULL);
		CODE(hull("remove --force box"), 0);
	}
	/* It is tried again as any other crash is. */
	CODE(hull("launch selwick/base --name box --network none --restart "
		  "on-failure,tries=2,delay=10ms --mount /inside=%s/inside,ro "
		  "-- /inside/crash 11",
		     world_build),
		0);
	CHECK(wait_until(has_ended, NULL));
	CHECK_TEXT(field("box", "restart.restarts"), "2");
	CODE(hull("remove box"), 0);
}

/* Some programs insist on being the first process. */
static void an_init_is_the_first_process(void)
{
	static const struct {
		const char *name, *option;
		bool first;
	} cases[] = {{"init", "", true}, {"systemd", "", true},
		{"crash", "", false}, {"crash", "--reaper no", true},
		{"init", "--reaper yes", false}};

	as_root("cp -r %s/inside %s/inside", world_build, world_folder);
	as_root("cp %s/inside/crash %s/inside/init", world_folder,
		world_folder);
	as_root("cp %s/inside/crash %s/inside/systemd", world_folder,
		world_folder);
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct result *result;

		result = hull("run selwick/base --network none --mount "
			      "/inside=%s/inside,ro %s -- /inside/%s 0",
			world_folder, cases[i].option, cases[i].name);
		SAYS(result->out, cases[i].first ? "process 1\n" : "process ");
		CHECK((strstr(result->out, "process 1\n") != NULL) ==
			cases[i].first);
	}
}

/* The first process is not the program: what stops is. */
static void a_stopped_program_goes_on_when_told(void)
{
	launch("echo ready; while :; do echo tick >> /ticks; sleep 0.02; done",
		"");
	CHECK(wait_until(is_ready, NULL));
	CODE(hull("kill --signal STOP box"), 0);
	SAYS(hull("exec box -- sh -c 'sleep 0.3; wc -l < /ticks > /a; sleep "
		  "0.5; wc -l < /ticks > /b; cmp /a /b && echo same'")
			->out,
		"same");
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("kill --signal CONT box"), 0);
	SAYS(hull("exec box -- sh -c 'sleep 0.5; wc -l < /ticks > /b; cmp -s "
		  "/a /b || echo on'")
			->out,
		"on");
	/* One that is stopped is ended all the same. */
	CODE(hull("kill --signal STOP box"), 0);
	CODE(hull("stop box --grace 200ms"), 0);
	CODE(hull("remove box"), 0);
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
	CODE(hull("remove --all --yes"), 0);
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
	{"a crash by its own signal is an end",
		a_crash_by_its_own_signal_is_an_end},
	{"an init is the first process", an_init_is_the_first_process},
	{"a stopped program goes on when told",
		a_stopped_program_goes_on_when_told},
	{"several and all", several_and_all},
	{"start right after stop", start_right_after_stop}, CU_TEST_INFO_NULL};

const struct suite suite_stop = {"stop", tests};
