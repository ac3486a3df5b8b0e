/* Restart policies, and what a person does in between. */
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <unistd.h>

#include "base/clock.h"
#include "e2e/harness.h"

struct wish {
	const char *name, *path, *value;
};

static bool has_value(void *arg)
{
	const struct wish *wish = arg;

	return strcmp(field(wish->name, wish->path), wish->value) == 0;
}

static void await(const char *path, const char *value)
{
	struct wish wish = {"box", path, value};

	CHECK(wait_until(has_value, &wish));
	CHECK_TEXT(field("box", path), value);
}

static void launch(const char *more, const char *script)
{
	CODE(hull("launch selwick/base --name box --network none %s -- sh -c "
		  "'%s'",
		     more, script),
		0);
}

static void tries_are_counted_and_end(void)
{
	launch("--restart on-failure,tries=2,delay=50ms", "echo run; exit 3");
	await("restart.restarts", "2");
	await("state", "stopped");
	CHECK_TEXT(field("box", "outcome.exit-code"), "3");
	CHECK_TEXT(hull("logs box")->out, "run\nrun\nrun\n");
	SAYS(hull("why box")->out,
		"it will not be restarted, because all 2 tries");
	SAYS(hull("why box")->out, "begin anew with: tidyhull start box");
	/* A person's start begins a new row. */
	CODE(hull("start box"), 0);
	await("state", "stopped");
	CHECK_TEXT(hull("logs box")->out, "run\nrun\nrun\nrun\nrun\nrun\n");
	CODE(hull("remove box"), 0);
}

static void a_good_end_is_no_failure(void)
{
	launch("--restart on-failure,delay=10ms", "exit 0");
	await("state", "stopped");
	SAYS(hull("why box")->out, "it did not fail");
	CODE(hull("remove box"), 0);
	/* For "always" it makes no difference. */
	launch("--restart always,delay=10ms,ceiling=10ms", "exit 0");
	for (int i = 0; i < 300 && atoi(field("box", "restart.restarts")) < 3;
		i++)
		usleep(10000);
	CHECK(atoi(field("box", "restart.restarts")) >= 3);
	CODE(hull("stop box"), 0);
	CODE(hull("remove box"), 0);
}

static void it_waits_and_says_until_when(void)
{
	struct result *result;

	launch("--restart on-failure,delay=1h", "exit 3");
	await("state", "waiting");
	SAYS(field("box", "restart.next"), "T");
	SAYS(hull("list")->out, "waiting: exit code 3, attempt 1 in");
	result = hull("why box");
	SAYS(result->out, "it will be restarted in 59 min");
	SAYS(result->out, "its restart policy is on-failure,delay=1h");
	/* What needs a running one says what is possible. */
	result = hull("exec box -- true");
	CODE(result, 125);
	SAYS(result->err, "it is waiting");
	SAYS(result->err, "tidyhull start box");
	CODE(hull("pause box"), 1);
	CODE(hull("kill box"), 1);
	result = hull("remove box");
	CODE(result, 4);
	SAYS(result->err, "is waiting");
	/* A start does not wait; the next end does again. */
	CODE(hull("start box"), 0);
	await("state", "waiting");
	CHECK_TEXT(field("box", "restart.tries"), "1");
	result = hull("stop box");
	CODE(result, 0);
	SAYS(result->out, "it will not be restarted");
	CHECK_TEXT(field("box", "state"), "stopped");
	CHECK_TEXT(field("box", "outcome.exit-code"), "3");
	SAYS(hull("why box")->out, "a person's stop holds");
	CODE(hull("start --all-due"), 0);
	CHECK_TEXT(field("box", "state"), "stopped");
	CODE(hull("remove box"), 0);
	/* And one that waits can be removed by force. */
	launch("--restart always,delay=1h", "exit 0");
	await("state", "waiting");
	CODE(hull("remove --force box"), 0);
}

static void ports_stay_while_it_waits(void)
{
	struct result *result;

	CODE(hull("launch selwick/gauge --name box --port 80=8080 --restart "
		  "always,delay=1h"),
		0);
	CHECK(fetch("127.0.0.1", 8080, "/health") != NULL);
	CODE(hull("kill box"), 0);
	await("state", "waiting");
	CHECK(fetch("127.0.0.1", 8080, "/health") == NULL);
	result = hull("launch selwick/gauge --name other --port 80=8080");
	CODE(result, 4);
	SAYS(result->err, "is held by container \"box\"");
	CODE(hull("start box"), 0);
	CHECK(fetch("127.0.0.1", 8080, "/health") != NULL);
	CODE(hull("remove --force box"), 0);
}

static void a_stop_holds_and_a_kill_does_not(void)
{
	launch("--restart always,delay=10ms", "exec sleep 1000");
	CODE(hull("kill box"), 0);
	await("restart.restarts", "1");
	await("state", "running");
	CODE(hull("stop box"), 0);
	CHECK_TEXT(field("box", "state"), "stopped");
	CODE(hull("remove box"), 0);
	/* Ctrl-C on a foreground run is a stop, too. */
	{
		pid_t pid = hull_start("out",
			"run selwick/base --name box --network none --restart "
			"always,delay=10ms -- sh -c 'trap \"exit 5\" INT; echo "
			"begun; while :; do sleep 0.05; done'");

		for (int i = 0; i < 500 && !file_holds("out", "begun"); i++)
			usleep(10000);
		signal_to(pid, SIGINT);
		CHECK_INT(wait_for(pid), 5);
	}
	CODE(hull("show box"), 3);
}

static void the_policy_can_change(void)
{
	struct result *result;

	launch("", "sleep 0.2; exit 3");
	result = hull("adjust box --restart always,delay=10ms");
	CODE(result, 0);
	SAYS(result->out, "the restart policy of box is now always");
	await("restart.restarts", "1");
	CODE(hull("adjust box --restart sometimes"), 2);
	CODE(hull("adjust box --restart never"), 0);
	await("state", "stopped");
	CHECK_TEXT(field("box", "restart.policy"), "never");
	/* One that waits has nothing to wait for any more. */
	CODE(hull("adjust box --restart always,delay=1h"), 0);
	CODE(hull("start box"), 0);
	await("state", "waiting");
	CODE(hull("adjust box --restart never"), 0);
	await("state", "stopped");
	SAYS(hull("timeline box")->out, "its restart policy became never");
	CODE(hull("remove box"), 0);
}

static void a_try_that_cannot_start_counts(void)
{
	put_file("note", "here");
	CODE(hull("launch selwick/base --name box --network none --restart "
		  "on-failure,tries=2,delay=20ms --mount /note=./note -- sh -c "
		  "'sleep 0.3; exit 1'"),
		0);
	as_root("rm %s/note", world_folder);
	await("state", "stopped");
	CHECK_TEXT(field("box", "outcome.kind"), "could-not-start");
	SAYS(hull("timeline box")->out, "could not be started");
	SAYS(hull("why box")->out, "all 2 tries");
	CODE(hull("remove box"), 0);
}

static void restart_is_one_step(void)
{
	struct result *result;
	int pid;

	CODE(hull("launch selwick/gauge --name box --port 80=8080"), 0);
	pid = atoi(field("box", "pid"));
	result = hull("restart box");
	CODE(result, 0);
	SAYS(result->out, "restarted box, port 80 at http://localhost:8080");
	CHECK(atoi(field("box", "pid")) != pid);
	CHECK(fetch("127.0.0.1", 8080, "/health") != NULL);
	SAYS(hull("timeline box")->out, "stopped to be restarted");
	CODE(hull("pause box"), 0);
	CODE(hull("restart box"), 0);
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("stop box"), 0);
	CODE(hull("restart box"), 0);
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("restart nosuch"), 3);
	CODE(hull("remove --force box"), 0);
}

static void several_at_once_are_in_turn(void)
{
	static const char *const lines[] = {"restart box", "stop box",
		"start box", "pause box", "resume box", "restart box",
		"kill box", "restart box"};
	pid_t pids[COUNT_OF(lines)];

	launch("", "exec sleep 1000");
	for (int round = 0; round < 3; round++) {
		for (size_t i = 0; i < COUNT_OF(lines); i++)
			pids[i] = hull_start("out", "%s", lines[i]);
		for (size_t i = 0; i < COUNT_OF(lines); i++)
			CHECK(wait_for(pids[i]) < 5);
	}
	CODE(hull("restart box"), 0);
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("exec box -- true"), 0);
	CODE(hull("remove --force box"), 0);
}

/* However near the end it comes. */
static void wait_at_the_end_brings_the_code(void)
{
	for (int i = 0; i < 25; i++) {
		pid_t kill, first, second;

		launch("", "exec sleep 1000");
		kill = hull_start("killed", "kill box");
		usleep((useconds_t)i * 300);
		first = hull_start("first", "wait box");
		usleep((useconds_t)i * 100);
		second = hull_start("second", "wait box");
		CHECK_INT(wait_for(first), 137);
		CHECK_INT(wait_for(second), 137);
		CHECK_INT(wait_for(kill), 0);
		CODE(hull("wait box"), 137);
		CODE(hull("remove box"), 0);
	}
}

static void wait_brings_the_code(void)
{
	struct result *result;
	pid_t pid;

	launch("", "sleep 0.3; exit 6");
	pid = hull_start("out", "wait box");
	result = hull("wait box");
	CODE(result, 6);
	CHECK_TEXT(result->out, "box ended with 6\n");
	CHECK_INT(wait_for(pid), 6);
	/* It is known afterwards as well. */
	CODE(hull("wait box -q"), 6);
	CODE(hull("wait nosuch"), 125);
	CODE(hull("remove box"), 0);
	launch("", "exec sleep 1000");
	result = hull("wait --at-most 100ms box");
	CODE(result, 125);
	SAYS(result->err, "took too long");
	pid = hull_start("out", "wait box");
	CODE(hull("kill box"), 0);
	CHECK_INT(wait_for(pid), 137);
	CODE(hull("remove box"), 0);
	launch("", "sleep 0.2; exit 4");
	result = hull("wait --all");
	CODE(result, 4);
	CHECK_TEXT(result->out, "box ended with 4\n");
	CODE(hull("wait"), 2);
	CODE(hull("remove box"), 0);
	CODE(hull("create selwick/base --name box"), 0);
	result = hull("wait box");
	CODE(result, 125);
	SAYS(result->err, "has never been started");
	CODE(hull("wait --for rain box"), 125);
	CODE(hull("remove box"), 0);
}

static void rename_keeps_everything(void)
{
	struct result *result;

	launch("", "echo here; exec sleep 1000");
	CODE(hull("create selwick/base --name other"), 0);
	result = hull("rename box other");
	CODE(result, 4);
	SAYS(result->err, "is taken");
	CODE(hull("rename box 'not a name'"), 2);
	result = hull("rename box gauge-north");
	CODE(result, 0);
	CHECK_TEXT(result->out, "renamed box to gauge-north\n");
	CHECK_TEXT(field("gauge-north", "settings.name"), "gauge-north");
	SAYS(hull("logs gauge-north")->out, "here");
	SAYS(hull("timeline gauge-north")->out, "renamed from box");
	CODE(hull("show box"), 3);
	CODE(hull("exec gauge-north -- true"), 0);
	CODE(hull("remove --force gauge-north other"), 0);
}

static void start_can_stay_attached(void)
{
	struct result *result;

	CODE(hull("create selwick/base --name box --network none -- sh -c "
		  "'echo begun; cat; exit 4'"),
		0);
	result = hull_input("tide\n", 5, "start --attach box");
	CODE(result, 4);
	CHECK_TEXT(result->out, "begun\ntide\n");
	CODE(hull("remove box"), 0);
	CODE(hull("create selwick/base --name box -- nosuch"), 0);
	CODE(hull("start --attach box"), 127);
	CODE(hull("start --attach"), 2);
	CODE(hull("remove box"), 0);
	launch("", "exec sleep 1000");
	result = hull("start --attach box");
	CODE(result, 125);
	SAYS(result->err, "tidyhull attach box");
	CODE(hull("remove --force box"), 0);
}

/* After a loss that no policy could answer. */
static void what_is_due_comes_back(void)
{
	struct result *result;

	launch("--restart always", "exec sleep 1000");
	CODE(hull("launch selwick/base --name once --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("launch selwick/base --name down --network none --restart "
		  "always -- sleep 1000"),
		0);
	CODE(hull("stop down"), 0);
	SAYS(hull("start --all-due")->out, "no container is due");
	kill_keeper("box");
	kill_keeper("once");
	await("outcome.kind", "keeper-lost");
	SAYS(hull("why box")->out, "tidyhull start --all-due");
	result = hull("start --all-due");
	CODE(result, 0);
	CHECK_TEXT(result->out, "started box\n");
	CHECK_TEXT(field("once", "state"), "stopped");
	CHECK_TEXT(field("down", "state"), "stopped");
	/* A host that goes down asks keepers to end: it is wanted after it. */
	signal_to(keeper_of("box"), SIGTERM);
	await("state", "stopped");
	SAYS(hull("why box")->out, "its keeper was asked to end");
	result = hull("start --all-due");
	CHECK_TEXT(result->out, "started box\n");
	CODE(hull("remove --force box once down"), 0);
}

static void dead_ones_are_swept(void)
{
	struct result *result;

	CODE(hull("pull selwick/base"), 0);
	launch("", "echo written; exit 0");
	hull("wait -q box");
	CODE(hull("launch selwick/base --name lives --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("create selwick/base --name fresh"), 0);
	SAYS(hull("sweep --older-than 1h --only containers")->out,
		"there is nothing to remove");
	result = hull("sweep --only containers");
	CODE(result, 0);
	SAYS(result->out, "ended containers");
	SAYS(result->out, "box");
	SAYS(result->out, "nothing was removed");
	CODE(hull("show box"), 0);
	SAYS(hull("sweep --only containers --yes")->out, "freed ");
	CODE(hull("show box"), 3);
	CHECK_TEXT(field("lives", "state"), "running");
	CHECK_TEXT(field("fresh", "state"), "created");
	CODE(hull("sweep --only boats"), 2);
	CODE(hull("remove --force lives fresh"), 0);
}

static void events_tell_the_whole_story(void)
{
	static const char *const wanted[] = {"created", "created", "running",
		"paused", "running", "stopped", "running", "stopped",
		"removed"};
	char *line, *rest = NULL;
	char copy[8192];
	size_t seen = 0;

	CODE(hull("create selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("start box"), 0);
	CODE(hull("pause box"), 0);
	CODE(hull("resume box"), 0);
	CODE(hull("stop box"), 0);
	CODE(hull("start box"), 0);
	CODE(hull("stop box"), 0);
	CODE(hull("remove box"), 0);
	/* It is told after its removal, each event a line. */
	snprintf(copy, sizeof(copy), "%.8000s",
		hull("timeline box --json-lines")->out);
	for (line = strtok_r(copy, "\n", &rest); line;
		line = strtok_r(NULL, "\n", &rest)) {
		json_t *event = json_loads(line, 0, NULL);
		const char *to =
			json_string_value(json_object_get(event, "to"));
		const char *time =
			json_string_value(json_object_get(event, "time"));

		seen += seen == 0;
		CHECK(seen < COUNT_OF(wanted));
		CHECK_TEXT(to ? to : "",
			wanted[seen < COUNT_OF(wanted) ? seen : 0]);
		/* To the microsecond. */
		CHECK(time && strlen(time) == 27);
		CHECK(json_object_get(event, "actor") != NULL);
		json_decref(event);
		seen++;
	}
	CHECK_INT(seen, COUNT_OF(wanted));
}

static bool has_stopped_running(void *arg)
{
	(void)arg;
	return strcmp(field("box", "state"), "running") != 0;
}

/* Whoever holds it was stopped, and the keeper has to start and to take away
 * network devices meanwhile. */
static void a_lock_of_others_holds_up_no_keeper(void)
{
	char path[200];
	int lock;

	CODE(hull("launch selwick/base --name box --restart "
		  "always,delay=10ms,ceiling=10ms -- sh -c 'sleep 0.1; exit "
		  "4'"),
		0);
	snprintf(path, sizeof(path), "%s/run/network.lock", world_store);
	lock = open(path, O_RDWR | O_CLOEXEC);
	CHECK(lock >= 0 && flock(lock, LOCK_EX) == 0);
	CHECK(wait_until(has_stopped_running, NULL));
	CODE(hull("logs box"), 0);
	CODE(hull("adjust box --restart always,delay=20ms,ceiling=20ms"), 0);
	CODE(hull("stop box"), 0);
	CHECK_TEXT(field("box", "state"), "stopped");
	/* One more may have been past the lock, or have given it up. */
	SAYS(hull("timeline box")->out, "its process ended (exit code 4)");
	close(lock);
	CODE(hull("remove box"), 0);
}

static const CU_TestInfo tests[] = {
	{"a lock of others holds up no keeper",
		a_lock_of_others_holds_up_no_keeper},
	{"tries are counted and end", tries_are_counted_and_end},
	{"a good end is no failure", a_good_end_is_no_failure},
	{"it waits and says until when", it_waits_and_says_until_when},
	{"ports stay while it waits", ports_stay_while_it_waits},
	{"a stop holds and a kill does not", a_stop_holds_and_a_kill_does_not},
	{"the policy can change", the_policy_can_change},
	{"a try that cannot start counts", a_try_that_cannot_start_counts},
	{"restart is one step", restart_is_one_step},
	{"several at once are in turn", several_at_once_are_in_turn},
	{"wait brings the code", wait_brings_the_code},
	{"wait at the end brings the code", wait_at_the_end_brings_the_code},
	{"rename keeps everything", rename_keeps_everything},
	{"start can stay attached", start_can_stay_attached},
	{"what is due comes back", what_is_due_comes_back},
	{"dead ones are swept", dead_ones_are_swept},
	{"events tell the whole story", events_tell_the_whole_story},
	CU_TEST_INFO_NULL};

const struct suite suite_life = {"life", tests};
