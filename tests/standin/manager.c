/* Stands in for a user's systemd on a bus: gives transient scopes as it would,
 * below a control group that the test has made.
 *
 *   manager GROUP UID [refuse-enable] [allow-linger]
 *
 * and plays the parts of systemd and logind that units are installed by. What
 * it is asked is told on standard output. */
#include <errno.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <systemd/sd-bus.h>
#include <unistd.h>

static const char *top;
static uid_t owner;

static int put(const char *folder, const char *file, unsigned int number)
{
	char path[600];
	FILE *to;

	snprintf(path, sizeof(path), "%s/%s", folder, file);
	to = fopen(path, "w");
	if (!to)
		return -errno;
	fprintf(to, "%u", number);
	return fclose(to) ? -errno : 0;
}

/* What the manager's user may write in a delegated group (cgroup-v2.rst). */
static int give(const char *folder)
{
	static const char *const files[] = {
		"", "cgroup.procs", "cgroup.subtree_control", "cgroup.threads"};
	char path[600];

	for (size_t i = 0; i < 4; i++) {
		snprintf(path, sizeof(path), "%s/%s", folder, files[i]);
		if (chown(path, owner, owner))
			return -errno;
	}
	return 0;
}

static int start(sd_bus_message *m, void *data, sd_bus_error *error)
{
	const char *name, *mode, *key, *contents;
	unsigned int pid = 0;
	int delegate = 0, rc;
	char folder[500];
	char type;

	(void)data;
	rc = sd_bus_message_read(m, "ss", &name, &mode);
	if (rc >= 0)
		rc = sd_bus_message_enter_container(m, 'a', "(sv)");
	while (rc >= 0 &&
		(rc = sd_bus_message_enter_container(m, 'r', "sv")) > 0) {
		rc = sd_bus_message_read(m, "s", &key);
		if (rc >= 0)
			rc = sd_bus_message_peek_type(m, &type, &contents);
		if (rc >= 0)
			rc = sd_bus_message_enter_container(m, 'v', contents);
		if (rc < 0)
			break;
		if (strcmp(key, "PIDs") == 0) {
			const void *list;
			size_t size;

			rc = sd_bus_message_read_array(m, 'u', &list, &size);
			if (rc >= 0 && size == sizeof(pid))
				memcpy(&pid, list, size);
		} else if (strcmp(key, "Delegate") == 0) {
			rc = sd_bus_message_read(m, "b", &delegate);
		} else {
			rc = sd_bus_message_skip(m, contents);
		}
		sd_bus_message_exit_container(m);
		sd_bus_message_exit_container(m);
	}
	if (rc < 0 || !pid || !delegate || strchr(name, '/'))
		return sd_bus_error_set(error,
			"org.freedesktop.DBus.Error.InvalidArgs",
			"not what a scope needs");
	/* One that nobody is in any more is gone. */
	snprintf(folder, sizeof(folder), "%s/%s/tidyhull-outside", top, name);
	rmdir(folder);
	snprintf(folder, sizeof(folder), "%s/%s", top, name);
	rmdir(folder);
	if (mkdir(folder, 0755) || give(folder) ||
		put(folder, "cgroup.procs", pid))
		return sd_bus_error_set_errno(error, errno);
	return sd_bus_reply_method_return(m, "o", "/org/freedesktop/job/1");
}

static bool refuse_enable, allow_linger;

static int tell(sd_bus_message *m, const char *what, const char *name)
{
	printf("%s %s\n", what, name);
	fflush(stdout);
	return sd_bus_message_rewind(m, 1);
}

static int reload(sd_bus_message *m, void *data, sd_bus_error *error)
{
	(void)data;
	(void)error;
	tell(m, "reload", "");
	return sd_bus_reply_method_return(m, "");
}

/* The first of a list of names. */
static const char *first_name(sd_bus_message *m)
{
	const char *name = "";

	if (sd_bus_message_enter_container(m, 'a', "s") >= 0)
		sd_bus_message_read(m, "s", &name);
	return name;
}

static int enable(sd_bus_message *m, void *data, sd_bus_error *error)
{
	(void)data;
	if (refuse_enable)
		return sd_bus_error_set(error,
			"org.freedesktop.DBus.Error.AccessDenied",
			"Access denied");
	tell(m, "enable", first_name(m));
	return sd_bus_reply_method_return(m, "ba(sss)", 1, 0);
}

static int disable(sd_bus_message *m, void *data, sd_bus_error *error)
{
	(void)data;
	(void)error;
	tell(m, "disable", first_name(m));
	return sd_bus_reply_method_return(m, "a(sss)", 0);
}

static int file_state(sd_bus_message *m, void *data, sd_bus_error *error)
{
	(void)data;
	(void)error;
	return sd_bus_reply_method_return(m, "s", "enabled");
}

static int load(sd_bus_message *m, void *data, sd_bus_error *error)
{
	(void)data;
	(void)error;
	return sd_bus_reply_method_return(
		m, "o", "/org/freedesktop/systemd1/unit/any");
}

static int active(sd_bus *bus, const char *path, const char *interface,
	const char *property, sd_bus_message *reply, void *data,
	sd_bus_error *error)
{
	(void)bus;
	(void)path;
	(void)interface;
	(void)property;
	(void)data;
	(void)error;
	return sd_bus_message_append(reply, "s", "active");
}

static int linger(sd_bus_message *m, void *data, sd_bus_error *error)
{
	(void)data;
	tell(m, "linger", "");
	if (!allow_linger)
		return sd_bus_error_set(error,
			"org.freedesktop.DBus.Error."
			"InteractiveAuthorizationRequired",
			"Interactive authentication required.");
	return sd_bus_reply_method_return(m, "");
}

static const sd_bus_vtable unit[] = {SD_BUS_VTABLE_START(0),
	SD_BUS_PROPERTY("ActiveState", "s", active, 0, 0), SD_BUS_VTABLE_END};
static const sd_bus_vtable login[] = {SD_BUS_VTABLE_START(0),
	SD_BUS_METHOD(
		"SetLinger", "ubb", "", linger, SD_BUS_VTABLE_UNPRIVILEGED),
	SD_BUS_VTABLE_END};
static const sd_bus_vtable methods[] = {SD_BUS_VTABLE_START(0),
	SD_BUS_METHOD("Reload", "", "", reload, SD_BUS_VTABLE_UNPRIVILEGED),
	SD_BUS_METHOD("EnableUnitFiles", "asbb", "ba(sss)", enable,
		SD_BUS_VTABLE_UNPRIVILEGED),
	SD_BUS_METHOD("DisableUnitFiles", "asb", "a(sss)", disable,
		SD_BUS_VTABLE_UNPRIVILEGED),
	SD_BUS_METHOD("GetUnitFileState", "s", "s", file_state,
		SD_BUS_VTABLE_UNPRIVILEGED),
	SD_BUS_METHOD("LoadUnit", "s", "o", load, SD_BUS_VTABLE_UNPRIVILEGED),
	SD_BUS_METHOD("StartTransientUnit", "ssa(sv)a(sa(sv))", "o", start,
		SD_BUS_VTABLE_UNPRIVILEGED),
	SD_BUS_VTABLE_END};

int main(int argc, char **argv)
{
	sd_bus *bus = NULL;
	int rc;

	if (argc < 3)
		return 2;
	for (int i = 3; i < argc; i++) {
		refuse_enable |= strcmp(argv[i], "refuse-enable") == 0;
		allow_linger |= strcmp(argv[i], "allow-linger") == 0;
	}
	top = argv[1];
	owner = (uid_t)atoi(argv[2]);
	rc = sd_bus_open_user(&bus);
	if (rc >= 0)
		rc = sd_bus_add_object_vtable(bus, NULL,
			"/org/freedesktop/systemd1",
			"org.freedesktop.systemd1.Manager", methods, NULL);
	if (rc >= 0)
		rc = sd_bus_add_object_vtable(bus, NULL,
			"/org/freedesktop/systemd1/unit/any",
			"org.freedesktop.systemd1.Unit", unit, NULL);
	if (rc >= 0)
		rc = sd_bus_add_object_vtable(bus, NULL,
			"/org/freedesktop/login1",
			"org.freedesktop.login1.Manager", login, NULL);
	if (rc >= 0)
		rc = sd_bus_request_name(bus, "org.freedesktop.systemd1", 0);
	if (rc >= 0)
		rc = sd_bus_request_name(bus, "org.freedesktop.login1", 0);
	if (rc < 0) {
		fprintf(stderr, "manager: %s\n", strerror(-rc));
		return 1;
	}
	puts("ready");
	fflush(stdout);
	while (rc >= 0) {
		rc = sd_bus_process(bus, NULL);
		if (rc == 0)
			rc = sd_bus_wait(bus, UINT64_MAX);
	}
	return 0;
}
