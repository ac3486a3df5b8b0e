/* Control groups that systemd gives over D-Bus: a real bus, and a stand-in for
 * the manager behind it. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

static char top[220]; /* where the manager makes its scopes */
static pid_t bus, manager;
static char own_group[sizeof(world_group)];

static bool has_text(void *arg)
{
	return file_holds(arg, "ready");
}

static bool is_there(void *arg)
{
	return access(arg, F_OK) == 0;
}

static void begin_session(void)
{
	static char ready[] = "manager.out";
	char address[256], path[200], config[1000];

	/* A user whose login has been given nothing. */
	snprintf(own_group, sizeof(own_group), "%s", world_group);
	world_group[0] = '\0';
	snprintf(top, sizeof(top), "%.180s.user", own_group);
	mkdir(top, 0755);
	snprintf(path, sizeof(path), "%s/bus", world_folder);
	snprintf(address, sizeof(address), "unix:path=%s", path);
	/* Two users speak on it, as the manager is played by root. */
	snprintf(config, sizeof(config),
		"<busconfig><type>session</type><listen>%s</listen>"
		"<auth>EXTERNAL</auth><policy context=\"default\">"
		"<allow user=\"*\"/><allow send_destination=\"*\"/>"
		"<allow receive_sender=\"*\"/><allow own=\"*\"/></policy>"
		"</busconfig>",
		address);
	put_file("bus.conf", config);
	bus = other_start("bus.out",
		"dbus-daemon --nofork --nopidfile --config-file=%s/bus.conf",
		world_folder);
	CHECK(wait_until(is_there, path));
	setenv("DBUS_SESSION_BUS_ADDRESS", address, 1);
	world_user = 0;
	manager = other_start(
		ready, "%s/manager %s %d", world_build, top, WORLD_USER);
	world_user = WORLD_USER;
	CHECK(wait_until(has_text, ready));
}

static void end_session(void)
{
	unsetenv("DBUS_SESSION_BUS_ADDRESS");
	signal_to(manager, SIGTERM);
	wait_for(manager);
	signal_to(bus, SIGTERM);
	wait_for(bus);
	/* systemd removes a scope that nobody is in. */
	as_root("find %s -depth -mindepth 1 -type d -exec rmdir {} +", top);
	CHECK_INT(rmdir(top), 0);
	snprintf(world_group, sizeof(own_group), "%s", own_group);
}

/* Where the process is, as the kernel says. */
static const char *group_of(const char *pid)
{
	return as_root("cat /proc/%s/cgroup", pid)->out;
}

static void a_scope_is_asked_for(void)
{
	char id[32], scope[80], pid[32];
	struct result *result;

	begin_session();
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
	as_root("pkill -9 tidyhull-keeper");
	SAYS(hull("list --all")->out, "keeper lost");
	CODE(hull("start box"), 0);
	SAYS(group_of(field("box", "pid")), scope);
	CODE(hull("remove --force box"), 0);
	end_session();
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
	begin_session();
	CODE(hull("launch selwick/base --name box -- sleep 1000"), 0);
	CHECK(wait_until(pilot_is_in_a_scope, NULL));
	CODE(hull("remove --force box"), 0);
	/* The scope goes with the last process in it. */
	while (as_root("pgrep tidyhull-pilot")->code == 0)
		usleep(50000);
	end_session();
}

/* Without a manager it is as on hosts without systemd. */
static void none_is_no_obstacle(void)
{
	begin_session();
	signal_to(manager, SIGTERM);
	CODE(hull("run selwick/base --network none -- true"), 0);
	end_session();
}

static const CU_TestInfo tests[] = {
	{"a scope is asked for", a_scope_is_asked_for},
	{"networks have a scope", networks_have_a_scope},
	{"none is no obstacle", none_is_no_obstacle}, CU_TEST_INFO_NULL};

const struct suite suite_systemd = {"systemd", tests};
