/* What networks leave on the host of root: bridges that stay for a moment, and
 * what the killed have left. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/wait.h>
#include <unistd.h>

#include "e2e/harness.h"

static bool no_bridge_is_there(void *arg)
{
	(void)arg;
	return !strstr(as_root("ip -o link")->out, ": th");
}

static void launch_boat(void)
{
	CODE(hull("launch --name boat --network canal selwick/base -- sleep "
		  "1000"),
		0);
}

/* The number of the first bridge; 0: there is none. */
static int bridge(void)
{
	const char *at = strstr(as_root("ip -o link")->out, ": th");

	while (at && at[-1] >= '0' && at[-1] <= '9')
		at--;
	return at ? atoi(at) : 0;
}

/* To all keepers: of those that linger nothing else is known. */
static void signal_keepers(const char *signal)
{
	as_root("sh -c 'for p in /proc/[0-9]*; do if grep -qs "
		"^tidyhull-keeper $p/cmdline; then kill -%s ${p#/proc/}; fi; "
		"done'",
		signal);
}

static bool somebody_lingers(void *arg)
{
	char path[300];

	(void)arg;
	snprintf(path, sizeof(path), "%s/run/linger.lock", world_store);
	return is_held(path);
}

static bool nobody_lingers(void *arg)
{
	return !somebody_lingers(arg);
}

/* And has done all the rest: its container's own lock has gone. */
static bool somebody_only_lingers(void *arg)
{
	return somebody_lingers(arg) &&
		as_root("sh -c 'ls %s/run/????????????.lock'", world_store)
			->code != 0;
}

/* A run whose keeper is caught while its bridge is still there; the number of
 * that, 0 where it was too late each time. */
static int run_and_hold(const char *network)
{
	for (int tries = 0; tries < 20; tries++) {
		int number;

		CODE(hull("run --network %s selwick/base -- true", network), 0);
		wait_until(somebody_only_lingers, NULL);
		signal_keepers("STOP");
		number = bridge();
		if (number && somebody_lingers(NULL))
			return number;
		signal_keepers("CONT");
	}
	return 0;
}

/* What comes right behind the last container has not to make it again; and
 * nothing stays for good, whoever is killed meanwhile. */
static void a_bridge_stays_for_a_moment(void)
{
	int first = run_and_hold("canal");

	CHECK(first > 0);
	CODE(hull("run --network canal selwick/base -- true"), 0);
	CHECK_INT(bridge(), first);
	/* That is no finding, and no command takes it away. */
	SAYS(hull("doctor --verify")->out, "all is well");
	CODE(hull("list"), 0);
	CHECK_INT(bridge(), first);
	signal_keepers("CONT");
	CHECK(wait_until(no_bridge_is_there, NULL));
	CHECK_TEXT(as_root("nft list tables")->out, "");
	/* The network itself goes at once, as its number may be another's. */
	CHECK(run_and_hold("canal") > 0);
	CODE(hull("remove network:canal"), 0);
	CHECK_INT(bridge(), 0);
	signal_keepers("CONT");
	CHECK(run_and_hold("quayside") > 0);
	signal_keepers("KILL");
	/* A process that was killed takes a moment to let go. */
	CHECK(wait_until(nobody_lingers, NULL));
	CODE(hull("list"), 0);
	CHECK_INT(bridge(), 0);
}

/* For so long; the process that has it. */
static pid_t lock_networks(int ms)
{
	char path[300];
	pid_t pid;
	int fd;

	snprintf(path, sizeof(path), "%s/run/network.lock", world_store);
	fd = open(path, O_RDWR | O_CLOEXEC);
	CHECK(fd >= 0 && flock(fd, LOCK_EX) == 0);
	pid = fork();
	if (pid == 0) {
		usleep((useconds_t)ms * 1000);
		_exit(0);
	}
	close(fd);
	return pid;
}

/* Its moment is over, and its keeper waits for others to take it away. */
static void a_bridge_that_is_to_go_is_no_finding(void)
{
	pid_t locks;
	int status;

	CODE(hull("run --network canal selwick/base -- true"), 0);
	CHECK(wait_until(somebody_lingers, NULL));
	locks = lock_networks(1500);
	CHECK(wait_until(nobody_lingers, NULL));
	CHECK(bridge() > 0);
	SAYS(hull("doctor --verify")->out, "all is well");
	CHECK(waitpid(locks, &status, 0) == locks && status == 0);
	CHECK(wait_until(no_bridge_is_there, NULL));
}

static bool no_stray_guard_is_there(void *arg)
{
	(void)arg;
	return !strstr(as_root("nft list ruleset")->out, "th-stray");
}

/* From 6.16 on the kernel leaves a guard whose device goes. */
static void guards_of_the_killed_go(void)
{
	char table[64];
	const char *at;

	launch_boat();
	at = strstr(as_root("nft list tables")->out, "table netdev ");
	CHECK(at != NULL);
	if (at) {
		snprintf(table, sizeof(table), "%.*s",
			(int)strcspn(at + 13, "\n"), at + 13);
		CODE(as_root("ip link add th-stray type veth peer name "
			     "hull-peer"),
			0);
		CODE(as_root("nft add chain netdev %s th-stray '{ type filter "
			     "hook ingress device \"th-stray\" priority 0; }'",
			     table),
			0);
		CODE(as_root("ip link delete th-stray"), 0);
	}
	CODE(hull("run --network canal selwick/base -- true"), 0);
	CHECK(wait_until(no_stray_guard_is_there, NULL));
	/* The other one's stays. */
	SAYS(as_root("nft list ruleset")->out, "chain th-");
	CODE(hull("remove --force boat"), 0);
	CODE(hull("remove network:canal"), 0);
}

/* As of a run that was killed, and whose end nobody has seen. */
static void a_device_of_the_killed_is_taken_over(void)
{
	char id[64];

	CODE(hull("create --name boat --network canal selwick/base -- sleep "
		  "1000"),
		0);
	snprintf(id, sizeof(id), "%s", field("boat", "id"));
	CODE(as_root("ip link add th-%s type veth peer name hull-peer", id), 0);
	CODE(hull("start boat"), 0);
	CODE(hull("exec boat -- true"), 0);
	CODE(as_root("ip link show hull-peer"), 1);
	CODE(hull("remove --force boat"), 0);
	CODE(hull("remove network:canal"), 0);
}

/* How often the rules of the ways out speak of a network. */
static int ways_out(void)
{
	const char *at = as_root("nft list ruleset")->out;
	int count = 0;

	while ((at = strstr(at, "masquerade"))) {
		at++;
		count++;
	}
	return count;
}

static bool only_one_has_ways_out(void *arg)
{
	(void)arg;
	return ways_out() == 2;
}

/* While another network is up; of both kinds of addresses. */
static bool one_keeper_is_left(void *arg)
{
	(void)arg;
	return atoi(as_root("sh -c 'grep -ls ^tidyhull-keeper "
			    "/proc/[0-9]*/cmdline | wc -l'")
			       ->out) == 1;
}

static void rules_go_with_their_network(void)
{
	char table[64];
	const char *at;

	launch_boat();
	CHECK_INT(ways_out(), 2);
	CODE(hull("run --network quayside selwick/base -- true"), 0);
	CHECK(wait_until(somebody_lingers, NULL));
	signal_keepers("STOP");
	CODE(hull("remove network:quayside"), 0);
	CHECK_INT(ways_out(), 2);
	signal_keepers("CONT");
	/* As it goes, it writes all rules anew. */
	CHECK(wait_until(one_keeper_is_left, NULL));
	/* Of one whose starter was killed before there was a bridge. */
	at = strstr(as_root("nft list tables")->out, "table inet ");
	CHECK(at != NULL);
	if (at) {
		snprintf(table, sizeof(table), "%.*s",
			(int)strcspn(at + 11, "\n"), at + 11);
		CODE(as_root("nft add rule inet %s leaving ip saddr "
			     "10.99.0.0/20 masquerade",
			     table),
			0);
	}
	CHECK_INT(ways_out(), 3);
	CODE(hull("run --network canal selwick/base -- true"), 0);
	CHECK(wait_until(only_one_has_ways_out, NULL));
	CODE(hull("remove --force boat"), 0);
	CODE(hull("remove network:canal"), 0);
}

static const CU_TestInfo tests[] = {
	{"a bridge stays for a moment", a_bridge_stays_for_a_moment},
	{"a bridge that is to go is no finding",
		a_bridge_that_is_to_go_is_no_finding},
	{"a device of the killed is taken over",
		a_device_of_the_killed_is_taken_over},
	{"rules go with their network", rules_go_with_their_network},
	{"guards of the killed go", guards_of_the_killed_go},
	CU_TEST_INFO_NULL};

const struct suite suite_network_traces = {"network-traces", tests};
