/* Programs inside a container that turn against what comes in from outside:
 * sessions, probes, the reaper, the keeper. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "e2e/harness.h"

#define STEP_US 10000

/* Starts the program of tests/inside in a container, and waits for its word. */
static void launch_inside(const char *options, const char *program)
{
	CODE(hull("launch selwick/base --name box --network none --mount "
		  "/inside=%s/inside,ro %s -- %s",
		     world_build, options, program),
		0);
	for (int i = 0; i < 1000 && !strstr(hull("logs box")->out, "ready");
		i++)
		usleep(STEP_US);
}

/* From inside, no process that can do more is ever seen: through many sessions
 * (as root, as another user, with a terminal), probes and restarts. */
static void nothing_stronger_is_seen(void)
{
	struct result *result;

	launch_inside(
		"--probe 'exec:true,every=20ms' --reaper yes", "/inside/watch");
	CODE(other("sh -c 'for i in $(seq 500); do %s/tidyhull exec box --root "
		   "%s -- true && %s/tidyhull exec box --root %s --user 1000 "
		   "-- true || exit 1; done'",
		     world_build, world_store, world_build, world_store),
		0);
	/* Whatever it says itself: the end of the program, which sees the file,
	 * may be the end of this one before it has ended. */
	hull("exec box -- touch /enough");
	CODE(hull("wait box"), 0);
	result = hull("logs box");
	SAYS(result->out, "looked ");
	CHECK(!strstr(result->out, "too much"));
	CODE(hull("remove box"), 0);
}

static void the_reaper_is_nothing_to_take_over(void)
{
	struct result *result;

	CODE(hull("launch selwick/base --name box --network none --reaper yes "
		  "--capability +SYS_PTRACE -- sleep 1000"),
		0);
	result = hull("exec box -- cat /proc/1/status");
	SAYS(result->out, "Name:\treaper");
	SAYS(result->out, "CapEff:\t0000000000000020");
	SAYS(result->out, "CapBnd:\t0000000000000020");
	SAYS(result->out, "NoNewPrivs:\t1");
	SAYS(result->out, "Seccomp:\t2");
	/* Without the right to trace, not even its files are told. */
	CODE(hull("remove --force box"), 0);
	CODE(hull("launch selwick/base --name box --network none --reaper yes "
		  "-- sleep 1000"),
		0);
	CHECK(hull("exec box -- readlink /proc/1/exe")->code != 0);
	CHECK(hull("exec box -- cat /proc/1/maps")->code != 0);
	CODE(hull("remove --force box"), 0);
	/* A container without the capability for signals has it nowhere. */
	CODE(hull("launch selwick/base --name box --network none --reaper yes "
		  "--capability -KILL --user 1000 -- sh -c 'trap \"exit 5\" "
		  "TERM; echo ready; while :; do sleep 0.1; done'"),
		0);
	for (int i = 0; i < 500 && !strstr(hull("logs box")->out, "ready"); i++)
		usleep(STEP_US);
	SAYS(hull("exec box -- cat /proc/1/status")->out,
		"CapPrm:\t0000000000000000");
	CODE(hull("stop box"), 0);
	CHECK_TEXT(field("box", "outcome.exit-code"), "5");
	CODE(hull("remove box"), 0);
}

/* What stops everything that enters holds up nobody for long. */
static void who_stops_what_enters_stops_nobody(void)
{
	struct timespec begin, end;

	launch_inside(
		"--probe exec:true,every=100ms,timeout=200ms", "/inside/halt");
	clock_gettime(CLOCK_MONOTONIC, &begin);
	for (int i = 0; i < 3; i++) {
		pid_t pid = hull_start("out", "exec box -- sleep 100");

		usleep(200000);
		signal_to(pid, SIGKILL);
		wait_for(pid);
	}
	CODE(hull("list"), 0);
	CODE(hull("pause box"), 0);
	CODE(hull("resume box"), 0);
	CODE(hull("stop box --grace 100ms"), 0);
	CODE(hull("start box"), 0);
	CODE(hull("remove --force box"), 0);
	clock_gettime(CLOCK_MONOTONIC, &end);
	/* Not a measurement: without deadlines it never ends. */
	CHECK(end.tv_sec - begin.tv_sec < 60);
}

/* A lease on a file that is written from outside would hold up its network. */
static void leases_hold_up_nobody(void)
{
	CODE(hull("launch selwick/base --name box --network quayside --mount "
		  "/inside=%s/inside,ro -- /inside/lease",
		     world_build),
		0);
	for (int i = 0; i < 500 && !strstr(hull("logs box")->out, "ready"); i++)
		usleep(STEP_US);
	SAYS(hull("logs box")->out, "leases 0");
	CODE(hull("launch selwick/base --name pilot --network quayside -- "
		  "sleep 1000"),
		0);
	/* Both learn of the new one, long before a lease would be broken. */
	for (int i = 0; i < 300 &&
		!strstr(hull("exec box -- cat /etc/hosts")->out, "pilot");
		i++)
		usleep(STEP_US);
	SAYS(hull("exec box -- cat /etc/hosts")->out, "pilot");
	SAYS(hull("exec pilot -- cat /etc/hosts")->out, "box");
	CODE(hull("remove --force box pilot"), 0);
}

/* Files that are read from outside may be anything inside. */
static void odd_account_files_hold_up_nobody(void)
{
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("exec box -- sh -c 'rm /etc/passwd /etc/group; mkfifo "
		  "/etc/passwd; ln -s /dev/zero /etc/group'"),
		0);
	CODE(hull("exec box --user pilot -- true"), 125);
	CODE(hull("processes box"), 0);
	SAYS(hull("exec box --user 7 -- cat /proc/self/status")->out,
		"Uid:\t7\t");
	CODE(hull("exec box -- sh -c 'rm /etc/passwd; echo "
		  "ghost:x:4294967295:0::/:/bin/sh >/etc/passwd'"),
		0);
	CODE(hull("exec box --user ghost -- true"), 125);
	CODE(hull("exec box --user 4294967295 -- true"), 125);
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {
	{"nothing stronger is seen", nothing_stronger_is_seen},
	{"the reaper is nothing to take over",
		the_reaper_is_nothing_to_take_over},
	{"who stops what enters stops nobody",
		who_stops_what_enters_stops_nobody},
	{"leases hold up nobody", leases_hold_up_nobody},
	{"odd account files hold up nobody", odd_account_files_hold_up_nobody},
	CU_TEST_INFO_NULL};

const struct suite suite_intruder = {"intruder", tests};
