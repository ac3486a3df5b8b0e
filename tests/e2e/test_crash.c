/* kill -9 at bad moments, and several commands at once. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "e2e/harness.h"

static void a_killed_keeper_is_told_truly(void)
{
	struct result *result;

	CODE(hull("launch selwick/gauge --name g --port 80=8080"), 0);
	CODE(hull("launch selwick/gauge --name other --port 80=8081"), 0);
	kill_keeper("g");
	result = hull("list");
	SAYS(result->out, "other");
	SAYS(result->out, "1 other is not running");
	result = hull("list --all");
	SAYS(result->out, "stopped: keeper lost");
	SAYS(hull("why g")->out, "its keeper was killed");
	CHECK(fetch("127.0.0.1", 8080, "/") == NULL);
	CHECK(fetch("127.0.0.1", 8081, "/health") != NULL);
	/* It starts again as if nothing had been. */
	CODE(hull("start g"), 0);
	CHECK(fetch("127.0.0.1", 8080, "/health") != NULL);
	kill_keeper("g");
	CODE(hull("remove g"), 0);
	CODE(hull("remove --force other"), 0);
}

/* Its containers have the same IDs: nothing that is done to one of them may
 * reach the other, whichever of them runs. */
static void a_copy_of_the_store_is_another_one(void)
{
	char copy[300], pid[16];
	struct result *result;

	snprintf(copy, sizeof(copy), "%s/copy", world_folder);
	CODE(hull("launch selwick/base --name box -- sleep 1000"), 0);
	CODE(hull("create selwick/base --name idle --network none -- sleep "
		  "1000"),
		0);
	snprintf(pid, sizeof(pid), "%.15s", field("box", "pid"));
	CODE(as_root("cp -a %s %s", world_store, copy), 0);
	CODE(hull("start idle"), 0);
	/* There nothing runs, and it is not long waited for. */
	SAYS(hull("list --all --root %s", copy)->out, "stopped: keeper lost");
	CODE(hull("start idle --root %s", copy), 0);
	result = hull("start box --root %s", copy);
	if (result->code)
		SAYS(result->err, "recreate makes one");
	CODE(hull("stop --all --root %s", copy), 0);
	CODE(hull("doctor --verify --root %s", copy), 0);
	CHECK_TEXT(field("box", "state"), "running");
	CHECK_TEXT(field("box", "pid"), pid);
	CHECK_TEXT(field("idle", "state"), "running");
	CODE(hull("exec box -- ip addr show eth0"), 0);
	CODE(hull("recreate box --root %s", copy), 0);
	CODE(hull("remove --all --force --yes --root %s", copy), 0);
	CODE(hull("doctor --verify"), 0);
	CHECK_TEXT(field("box", "pid"), pid);
	CODE(hull("remove --force box idle"), 0);
}

static void a_killed_keeper_of_a_discarded_one(void)
{
	pid_t pid = hull_start("out",
		"run selwick/base --name box --network "
		"none -- sleep 1000");

	for (int i = 0; i < 500 && !*field("box", "pid"); i++)
		usleep(10000);
	kill_keeper("box");
	CHECK_INT(wait_for(pid), 125);
	CHECK(file_holds("out", "keeper was killed"));
	SAYS(hull("list --all")->out, "there are no containers");
	/* Who only looks has no right to files of subordinate IDs: the next
	 * command that works cleans up. */
	if (world_user)
		hull("stop --all");
}

static void a_killed_program_is_told(void)
{
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	signal_to(atoi(field("box", "pid")), SIGKILL);
	hull("logs --follow box");
	CHECK_TEXT(field("box", "outcome.signal"), "9");
	SAYS(hull("why box")->out, "signal KILL (9)");
	CODE(hull("remove box"), 0);
}

static bool is_waiting(void *arg)
{
	return strcmp(field(arg, "state"), "waiting") == 0;
}

static void wait_for_try(const char *name)
{
	char copy[64];

	snprintf(copy, sizeof(copy), "%s", name);
	CHECK(wait_until(is_waiting, copy));
}

static void sleep_ms(long ms)
{
	const struct timespec time = {
		.tv_sec = ms / 1000, .tv_nsec = ms % 1000 * 1000000};

	nanosleep(&time, NULL);
}

/* Commands are killed at all moments; whatever they leave, the next ones
 * mend. */
static void killed_commands_leave_nothing(void)
{
	CODE(hull("pull selwick/base"), 0);
	for (int i = 0; i < 40; i++) {
		pid_t pid = hull_start("out",
			i % 2 ? "launch selwick/base --name box -- sleep 1000"
			      : "pull selwick/gauge selwick/ledger");

		sleep_ms(i % 20);
		signal_to(pid, SIGKILL);
		wait_for(pid);
		if (i % 2) {
			/* A keeper may be on its way. */
			for (int tries = 0; tries < 200; tries++) {
				int code = hull("remove --force box")->code;

				if (code == 0 || code == 3)
					break;
				sleep_ms(10);
			}
		} else {
			hull("remove selwick/gauge selwick/ledger");
		}
	}
	hull("stop --all -q");
	hull("remove --all --yes -q");
	CODE(hull("pull selwick/gauge"), 0);
	CODE(hull("run selwick/gauge --entrypoint /bin/true"), 0);
	SAYS(hull("list --all")->out, "there are no containers");
}

static void names_are_given_once(void)
{
	pid_t pids[8];
	int made = 0;

	CODE(hull("pull selwick/base"), 0);
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		pids[i] =
			hull_start("out", "create selwick/base --name box -q");
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		made += wait_for(pids[i]) == 0;
	CHECK_INT(made, 1);
	/* And one of several starts wins, and of several removals. */
	CODE(hull("remove box"), 0);
	CODE(hull("create selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		pids[i] = hull_start("out", "start box");
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		wait_for(pids[i]);
	CHECK_TEXT(field("box", "state"), "running");
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		pids[i] = hull_start("out", "remove --force box");
	made = 0;
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		made += wait_for(pids[i]) == 0;
	CHECK(made >= 1);
	CODE(hull("show box"), 3);
}

static void many_at_once(void)
{
	pid_t pids[16];

	CODE(hull("pull selwick/gauge"), 0);
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		pids[i] = hull_start("out",
			"launch selwick/gauge --name g%zu --port 80 --env "
			"STATION=s%zu",
			i, i);
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		CHECK_INT(wait_for(pids[i]), 0);
	for (size_t i = 0; i < COUNT_OF(pids); i++) {
		char name[32], wanted[40];
		const char *page;

		snprintf(name, sizeof(name), "g%zu", i);
		snprintf(wanted, sizeof(wanted), "\"station\":\"s%zu\"", i);
		page = fetch("127.0.0.1",
			atoi(field(name, "ports.0.host-port")), "/tide.json");
		SAYS(page ? page : "", wanted);
	}
	CODE(hull("stop --all"), 0);
	CODE(hull("remove --all --yes"), 0);
}

/* As by a signal of its user: nobody else answers for the container. */
static void a_stopped_keeper_holds_up_nobody(void)
{
	struct result *result;

	for (int remove = 0; remove < 2; remove++) {
		pid_t keeper;

		CODE(hull("launch --name box selwick/base --network none -- "
			  "sleep 1000"),
			0);
		keeper = keeper_of("box");
		signal_to(keeper, SIGSTOP);
		if (remove) {
			CODE(hull("remove --force box"), 0);
		} else {
			result = hull("stop box --grace 0s");
			CODE(result, 1);
			SAYS(result->err,
				"the keeper of container \"box\" did not "
				"answer; it was killed, and the container "
				"with it");
			CHECK_TEXT(field("box", "state"), "stopped");
			CHECK_TEXT(field("box", "outcome.kind"), "keeper-lost");
			CODE(hull("remove box"), 0);
		}
		CHECK(kill(keeper, 0) != 0);
	}
	SAYS(hull("list --all")->out, "there are no containers");
}

/* None of these means an end to a keeper, nor to its container. */
static void odd_signals_end_nothing(void)
{
	static const int numbers[] = {SIGUSR1, SIGUSR2, SIGALRM, SIGQUIT,
		SIGVTALRM, SIGPROF, SIGIO, SIGPIPE, SIGWINCH, SIGXCPU};
	pid_t keeper;

	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	keeper = keeper_of("box");
	for (size_t i = 0; i < COUNT_OF(numbers); i++)
		signal_to(keeper, numbers[i]);
	CHECK_TEXT(hull("exec box -- echo still here")->out, "still here\n");
	CHECK_TEXT(field("box", "state"), "running");
	CHECK(keeper_of("box") == keeper);
	/* What is ignored there is not ignored inside. */
	SAYS(hull("exec box -- grep SigIgn /proc/self/status")->out,
		"0000000000000000");
	CODE(hull("remove --force box"), 0);
}

/* What a cleaner of temporary folders takes, or somebody by mistake. */
static void what_it_is_found_by_comes_back(void)
{
	static const char *const lost[] = {"*.lock", "*.sock", "*", ""};
	struct result *result;
	pid_t keeper, resting;

	CODE(hull("launch selwick/gauge --name g --port 80=8080"), 0);
	CODE(hull("launch selwick/base --name again --restart always --network "
		  "none -- false"),
		0);
	keeper = keeper_of("g");
	for (size_t i = 0; i < COUNT_OF(lost); i++) {
		as_root("sh -c 'rm -rf %s/run/%s'", world_store, lost[i]);
		/* Looking does no harm, and tells the truth. */
		SAYS(hull("list")->out, "running");
		CHECK_TEXT(field("g", "state"), "running");
		CHECK(keeper_of("g") == keeper);
		CHECK(fetch("127.0.0.1", 8080, "/health") != NULL);
		CHECK_TEXT(hull("exec g -- echo here")->out, "here\n");
	}
	/* The socket alone, and nobody has looked before. */
	as_root("sh -c 'rm -rf %s/run/*.sock'", world_store);
	CODE(hull("pause g"), 0);
	as_root("sh -c 'rm -rf %s/run'", world_store);
	CODE(hull("resume g"), 0);
	CODE(hull("stop g"), 0);
	CHECK(fetch("127.0.0.1", 8080, "/health") == NULL);
	CODE(hull("remove g"), 0);
	/* One that waits for its next try has no process to be found by. */
	as_root("sh -c 'rm -rf %s/run'", world_store);
	result = hull("stop again");
	CODE(result, 0);
	CHECK_TEXT(field("again", "state"), "stopped");
	CODE(hull("remove again"), 0);

	/* A stopped keeper makes nothing anew: it ends. */
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	resting = keeper_of("box");
	signal_to(resting, SIGSTOP);
	as_root("sh -c 'rm -rf %s/run'", world_store);
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("remove --force box"), 0);
	CHECK(kill(resting, 0) != 0);
	SAYS(hull("list --all")->out, "there are no containers");
}

/* From a timer, or after su: neither says where the run-time files are. */
static void another_environment_finds_it(void)
{
	as_root("mkdir -p %s/data", world_folder);
	as_root("ln -s %s %s/data/tidyhull", world_store, world_folder);
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	for (int i = 0; i < 2; i++) {
		struct result *result = other("env -u XDG_RUNTIME_DIR -u "
					      "TIDYHULL_ROOT %s "
					      "XDG_DATA_HOME=%s/data "
					      "%s/tidyhull %s",
			i ? "XDG_RUNTIME_DIR=/tmp" : "", world_folder,
			world_build, i ? "exec box -- echo here" : "list");

		CODE(result, 0);
		SAYS(result->out, i ? "here" : "running");
	}
	CHECK_TEXT(field("box", "state"), "running");
	CODE(hull("remove --force box"), 0);
	as_root("rm -rf %s/data", world_folder);
}

/* Nothing that a person does against a keeper that hangs waits for it. */
static void whoever_waits_for_a_stuck_keeper_can_leave(void)
{
	pid_t keeper, pid;

	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	keeper = keeper_of("box");
	signal_to(keeper, SIGSTOP);
	pid = hull_start("out", "exec box -- true");
	usleep(300000);
	signal_to(pid, SIGTERM);
	CHECK(wait_for(pid) != 0);
	CHECK(file_holds("out", "interrupted"));
	signal_to(keeper, SIGCONT);
	CODE(hull("exec box -- true"), 0);
	CODE(hull("remove --force box"), 0);
}

static void a_stop_can_be_left_to_its_keeper(void)
{
	pid_t pid;

	CODE(hull("launch selwick/base --name box --network none -- sh -c "
		  "'trap \"\" TERM; while :; do sleep 0.1; done'"),
		0);
	pid = hull_start("out", "stop box --grace 60s");
	usleep(500000);
	signal_to(pid, SIGINT);
	CHECK(wait_for(pid) != 0);
	CHECK(file_holds("out", "is being stopped all the same"));
	CODE(hull("remove --force box --quiet"), 0);
}

static void missing_folders_come_back(void)
{
	CODE(hull("pull selwick/base"), 0);
	as_root("sh -c 'cd %s && rm -rf tmp filters partial run'", world_store);
	CODE(hull("run selwick/base --network none -- true"), 0);
	CODE(hull("launch selwick/base --name box --network none --restart "
		  "always,delay=1h -- false"),
		0);
	wait_for_try("box");
	/* What waits has no files to be copied to, and says so at once. */
	CODE(hull("copy /etc/hostname box:/etc/name"), 4);
	SAYS(hull("copy /etc/hostname box:/etc/name")->err,
		"waiting for its next attempt");
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {{"a copy of the store is another one",
					    a_copy_of_the_store_is_another_one},
	{"what it is found by comes back", what_it_is_found_by_comes_back},
	{"another environment finds it", another_environment_finds_it},
	{"odd signals end nothing", odd_signals_end_nothing},
	{"a killed keeper is told truly", a_killed_keeper_is_told_truly},
	{"a killed keeper of a discarded one",
		a_killed_keeper_of_a_discarded_one},
	{"a killed program is told", a_killed_program_is_told},
	{"killed commands leave nothing", killed_commands_leave_nothing},
	{"names are given once", names_are_given_once},
	{"many at once", many_at_once},
	{"a stopped keeper holds up nobody", a_stopped_keeper_holds_up_nobody},
	{"whoever waits for a stuck keeper can leave",
		whoever_waits_for_a_stuck_keeper_can_leave},
	{"a stop can be left to its keeper", a_stop_can_be_left_to_its_keeper},
	{"missing folders come back", missing_folders_come_back},
	CU_TEST_INFO_NULL};

const struct suite suite_crash = {"crash", tests};
