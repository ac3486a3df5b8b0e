#include "container/scope.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/late_bus.h"
#include "sandbox/cgroup.h"

/* How long systemd may take to move this process. */
#define MOVE_MS 3000

#ifdef TH_HAVE_BUS

bool th_scope_wanted(bool user_bus)
{
	return user_bus && th_cgroup_mount() && !th_cgroup_may_make() &&
		!th_cgroup_in_job();
}

static bool is_inside(const char *scope)
{
	struct th_error ignored = {0}; /* then it is not */
	struct th_buf text;
	bool inside = false;

	th_buf_init(&text, 65536);
	if (th_file_read(AT_FDCWD, "/proc/self/cgroup", &text, &ignored) == 1)
		inside = strstr(text.data, scope) != NULL;
	th_buf_release(&text);
	return inside;
}

static int ask(sd_bus *bus, pid_t pid, const char *scope,
	const char *description, struct th_error *err)
{
	sd_bus_error error = {NULL, NULL, 0};
	int rc;

	/* org.freedesktop.systemd1(5): a process that is moved, groups that
	 * are ours, and nothing that stays when the last process has gone. */
	rc = sd_bus_call_method(bus, "org.freedesktop.systemd1",
		"/org/freedesktop/systemd1", "org.freedesktop.systemd1.Manager",
		"StartTransientUnit", &error, NULL, "ssa(sv)a(sa(sv))", scope,
		"fail", 4, "PIDs", "au", 1, (uint32_t)pid, "Delegate", "b", 1,
		"Description", "s", description, "CollectMode", "s",
		"inactive-or-failed", 0);
	if (rc < 0)
		th_fail(err, TH_NOT_POSSIBLE,
			"systemd refused a control group: %.200s",
			error.message ? error.message : strerror(-rc));
	sd_bus_error_free(&error);
	return rc < 0 ? -1 : 0;
}

int th_scope_move(pid_t pid, const char *id, const char *description,
	struct th_error *err)
{
	char scope[80];
	sd_bus *bus = NULL;
	int rc;

	if (th_late_bus(err))
		return -1;
	rc = sd_bus_open_user(&bus);
	if (rc < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, -rc,
			"cannot reach the user's systemd");
	snprintf(scope, sizeof(scope), "tidyhull-%.40s.scope", id);
	rc = ask(bus, pid, scope, description, err);
	sd_bus_flush_close_unref(bus);
	return rc;
}

int th_scope_enter(const char *id, const char *name, struct th_error *err)
{
	const struct timespec step = {.tv_nsec = 2000000};
	int64_t until = th_clock_mono_ms() + MOVE_MS;
	char scope[80], description[120];

	snprintf(scope, sizeof(scope), "tidyhull-%.40s.scope", id);
	snprintf(description, sizeof(description), "container %.80s", name);
	if (th_scope_move(getpid(), id, description, err))
		return -1;
	while (!is_inside(scope)) {
		if (th_clock_mono_ms() > until)
			return th_fail(err, TH_NOT_POSSIBLE,
				"systemd has not moved this process into %s",
				scope);
		nanosleep(&step, NULL);
	}
	return 0;
}

#else

bool th_scope_wanted(bool user_bus)
{
	(void)user_bus;
	return false;
}

int th_scope_move(pid_t pid, const char *id, const char *description,
	struct th_error *err)
{
	(void)pid;
	return th_scope_enter(id, description, err);
}

int th_scope_enter(const char *id, const char *name, struct th_error *err)
{
	(void)id;
	(void)name;
	return th_fail(err, TH_NOT_POSSIBLE,
		"this tidyhull was built without systemd");
}

#endif
