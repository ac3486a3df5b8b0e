#include "e2e/bus.h"

#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

static char top[220]; /* where the manager makes its scopes */
static pid_t bus, manager;
static uid_t user;
static char own_group[sizeof(world_group)];

static bool has_text(void *arg)
{
	return file_holds(arg, "ready");
}

static bool is_there(void *arg)
{
	return access(arg, F_OK) == 0;
}

void bus_begin(const char *options)
{
	static char ready[] = "manager.out";
	char address[256], path[200], config[1000];

	/* A user whose login has been given nothing. */
	snprintf(own_group, sizeof(own_group), "%s", world_group);
	world_group[0] = '\0';
	if (own_group[0]) {
		snprintf(top, sizeof(top), "%.180s.user", own_group);
		mkdir(top, 0755);
	}
	user = world_user;
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
	setenv("DBUS_SYSTEM_BUS_ADDRESS", address, 1);
	world_user = 0;
	manager = other_start(ready, "%s/manager %s %d %s", world_build,
		*top ? top : "/", WORLD_USER, options);
	world_user = user;
	CHECK(wait_until(has_text, ready));
}

void bus_end_manager(void)
{
	if (manager > 0) {
		signal_to(manager, SIGTERM);
		wait_for(manager);
	}
	manager = -1;
}

void bus_end(void)
{
	unsetenv("DBUS_SESSION_BUS_ADDRESS");
	unsetenv("DBUS_SYSTEM_BUS_ADDRESS");
	bus_end_manager();
	signal_to(bus, SIGTERM);
	wait_for(bus);
	/* systemd removes a scope that nobody is in. */
	if (own_group[0]) {
		as_root("find %s -depth -mindepth 1 -type d -exec rmdir {} +",
			top);
		CHECK_INT(rmdir(top), 0);
	}
	snprintf(world_group, sizeof(own_group), "%s", own_group);
}
