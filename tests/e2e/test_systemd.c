/* Control groups that systemd gives over D-Bus: a real bus, and a stand-in for
 * the manager behind it. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/bus.h"
#include "e2e/harness.h"

/* Where the process is, as the kernel says. */
static const char *group_of(const char *pid)
{
	return as_root("cat /proc/%s/cgroup", pid)->out;
}

static void a_scope_is_asked_for(void)
{
	char id[32], scope[80], pid[32];
	struct result *result;

	bus_begin("");
	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	snprintf(id, sizeof(id), "%s", field("box", "id"));
	snprintf(pid, sizeof(pid), "%s", field("box", "pid"));
	snprintf(scope, sizeof(scope), "/tidyhull-%s.scope/", id);
	SAYS(group_of(pid), scope);
	/* All that works on the group finds it, from outside the scope too. */
	result = hull("pause box");
	CODE(result, 0);
	CHECK_TEXT(field("box", "state"), "paused");
	CODE(hull("resume box"), 0);
	SAYS(hull("processes box")->out, "sleep 1000");
	CODE(hull("exec box -- true"), 0);
	CODE(hull("restart box"), 0);
	SAYS(group_of(field("box", "pid")), scope);
	/* One whose keeper is lost is ended by its group. */
	kill_keeper("box");
	SAYS(hull("list --all")->out, "keeper lost");
	CODE(hull("start box"), 0);
	SAYS(group_of(field("box", "pid")), scope);
	CODE(hull("remove --force box"), 0);
	bus_end();
}

static bool pilot_is_in_a_scope(void *arg)
{
	(void)arg;
	return strstr(as_root("sh -c 'cat /proc/$(pgrep tidyhull-pilot)/"
			      "cgroup'")
			       ->out,
		       "/tidyhull-networks-") != NULL;
}

/* What holds the networks outlives the login, too. */
static void networks_have_a_scope(void)
{
	bus_begin("");
	CODE(hull("launch selwick/base --name box -- sleep 1000"), 0);
	CHECK(wait_until(pilot_is_in_a_scope, NULL));
	CODE(hull("remove --force box"), 0);
	/* The scope goes with the last process in it. */
	while (as_root("pgrep tidyhull-pilot")->code == 0)
		usleep(50000);
	bus_end();
}

/* Without a manager it is as on hosts without systemd. */
static void none_is_no_obstacle(void)
{
	bus_begin("");
	bus_end_manager();
	CODE(hull("run selwick/base --network none -- true"), 0);
	bus_end();
}

static const CU_TestInfo tests[] = {
	{"a scope is asked for", a_scope_is_asked_for},
	{"networks have a scope", networks_have_a_scope},
	{"none is no obstacle", none_is_no_obstacle}, CU_TEST_INFO_NULL};

const struct suite suite_systemd = {"systemd", tests};
