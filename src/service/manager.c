#include "service/manager.h"

#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/late_bus.h"

bool th_lingers(const char *user)
{
	char path[300];

	snprintf(path, sizeof(path), "/var/lib/systemd/linger/%.200s", user);
	return access(path, F_OK) == 0;
}

#ifdef TH_HAVE_BUS

#define SYSTEMD "org.freedesktop.systemd1"
#define SYSTEMD_PATH "/org/freedesktop/systemd1"
#define MANAGER "org.freedesktop.systemd1.Manager"

struct th_manager {
	sd_bus *bus;
	bool user;
};

int th_manager_open(
	bool user, struct th_manager **manager, struct th_error *err)
{
	sd_bus *bus = NULL;
	int rc;

	if (th_late_bus(err)) {
		err->code = TH_NOT_POSSIBLE;
		return -1;
	}
	rc = user ? sd_bus_open_user(&bus) : sd_bus_open_system(&bus);
	if (rc < 0) {
		th_fail_sys(err, TH_NOT_POSSIBLE, -rc,
			"cannot reach %s over D-Bus",
			user ? "your systemd" : "systemd");
		return th_hint(err,
			user ? "is $XDG_RUNTIME_DIR/bus there? a login by ssh "
			       "or on the console has it, su has not"
			     : "without systemd: tidyhull unit --plain");
	}
	*manager = calloc(1, sizeof(**manager));
	if (!*manager) {
		sd_bus_flush_close_unref(bus);
		return th_fail_memory(err);
	}
	(*manager)->bus = bus;
	(*manager)->user = user;
	return 0;
}

void th_manager_close(struct th_manager *manager)
{
	if (!manager)
		return;
	sd_bus_flush_close_unref(manager->bus);
	free(manager);
}

static int fail(
	int rc, sd_bus_error *error, const char *what, struct th_error *err)
{
	if (rc < 0)
		th_fail(err, TH_NOT_POSSIBLE, "systemd refused to %s: %.200s",
			what, error->message ? error->message : strerror(-rc));
	sd_bus_error_free(error);
	return rc < 0 ? -1 : 0;
}

int th_manager_reload(struct th_manager *manager, struct th_error *err)
{
	sd_bus_error error = {NULL, NULL, 0};
	int rc = sd_bus_call_method(manager->bus, SYSTEMD, SYSTEMD_PATH,
		MANAGER, "Reload", &error, NULL, NULL);

	return fail(rc, &error, "read its units anew", err);
}

int th_manager_enable(
	struct th_manager *manager, const char *unit, struct th_error *err)
{
	sd_bus_error error = {NULL, NULL, 0};
	int rc =
		sd_bus_call_method(manager->bus, SYSTEMD, SYSTEMD_PATH, MANAGER,
			"EnableUnitFiles", &error, NULL, "asbb", 1, unit, 0, 1);

	return fail(rc, &error, "enable the unit", err);
}

int th_manager_disable(
	struct th_manager *manager, const char *unit, struct th_error *err)
{
	sd_bus_error error = {NULL, NULL, 0};
	int rc = sd_bus_call_method(manager->bus, SYSTEMD, SYSTEMD_PATH,
		MANAGER, "DisableUnitFiles", &error, NULL, "asb", 1, unit, 0);

	return fail(rc, &error, "disable the unit", err);
}

/* The text that a call gives; "" where it fails. */
static void ask(struct th_manager *manager, const char *method,
	const char *unit, const char *type, char answer[256])
{
	sd_bus_error error = {NULL, NULL, 0};
	sd_bus_message *reply = NULL;
	const char *text = "";

	answer[0] = '\0';
	if (sd_bus_call_method(manager->bus, SYSTEMD, SYSTEMD_PATH, MANAGER,
		    method, &error, &reply, "s", unit) >= 0 &&
		sd_bus_message_read(reply, type, &text) >= 0)
		snprintf(answer, 256, "%s", text);
	sd_bus_message_unref(reply);
	sd_bus_error_free(&error);
}

void th_manager_state(struct th_manager *manager, const char *unit,
	char enabled[TH_UNIT_STATE], char active[TH_UNIT_STATE])
{
	sd_bus_error error = {NULL, NULL, 0};
	char answer[256], *state = NULL;

	ask(manager, "GetUnitFileState", unit, "s", answer);
	snprintf(enabled, TH_UNIT_STATE, "%.31s", answer);
	active[0] = '\0';
	ask(manager, "LoadUnit", unit, "o", answer);
	if (answer[0] &&
		sd_bus_get_property_string(manager->bus, SYSTEMD, answer,
			"org.freedesktop.systemd1.Unit", "ActiveState", &error,
			&state) >= 0)
		snprintf(active, TH_UNIT_STATE, "%.31s", state);
	free(state);
	sd_bus_error_free(&error);
}

int th_linger(uid_t uid, struct th_error *err)
{
	sd_bus_error error = {NULL, NULL, 0};
	sd_bus *bus = NULL;
	int rc;

	if (th_late_bus(err))
		return -1;
	rc = sd_bus_open_system(&bus);
	if (rc < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, -rc,
			"cannot reach logind over D-Bus");
	rc = sd_bus_call_method(bus, "org.freedesktop.login1",
		"/org/freedesktop/login1", "org.freedesktop.login1.Manager",
		"SetLinger", &error, NULL, "ubb", (uint32_t)uid, 1, 0);
	if (rc < 0)
		th_fail(err, TH_NOT_POSSIBLE,
			"logind does not let this user's services run without "
			"a login: %.150s",
			error.message ? error.message : strerror(-rc));
	sd_bus_error_free(&error);
	sd_bus_flush_close_unref(bus);
	return rc < 0 ? -1 : 0;
}

#else

static int none(struct th_error *err)
{
	th_fail(err, TH_NOT_POSSIBLE,
		"this tidyhull was built without systemd");
	return th_hint(err, "without systemd: tidyhull unit --plain");
}

int th_manager_open(
	bool user, struct th_manager **manager, struct th_error *err)
{
	(void)user;
	(void)manager;
	return none(err);
}

void th_manager_close(struct th_manager *manager)
{
	(void)manager;
}

int th_manager_reload(struct th_manager *manager, struct th_error *err)
{
	(void)manager;
	return none(err);
}

int th_manager_enable(
	struct th_manager *manager, const char *unit, struct th_error *err)
{
	(void)manager;
	(void)unit;
	return none(err);
}

int th_manager_disable(
	struct th_manager *manager, const char *unit, struct th_error *err)
{
	return th_manager_enable(manager, unit, err);
}

void th_manager_state(struct th_manager *manager, const char *unit,
	char enabled[TH_UNIT_STATE], char active[TH_UNIT_STATE])
{
	(void)manager;
	(void)unit;
	enabled[0] = active[0] = '\0';
}

int th_linger(uid_t uid, struct th_error *err)
{
	(void)uid;
	return none(err);
}

#endif
