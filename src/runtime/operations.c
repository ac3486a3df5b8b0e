/* The operations on a container that was created (runtime.md, "Operations"). */
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "runtime/owner.h"
#include "runtime/record.h"
#include "sandbox/run_hooks.h"
#include "sandbox/sandbox.h"

/* How long a killed process may take to leave. */
#define LEAVE_MS 10000

static int run_hooks(const struct record *record, const char *id,
	enum th_hook_kind kind, struct th_error *err)
{
	bool stopped = kind == TH_HOOK_POSTSTOP;
	char *state = th_hooks_state(&record->bundle, id,
		stopped ? "stopped" : "running", stopped ? 0 : record->pid,
		record->bundle_path);
	int rc;

	if (!state)
		return th_fail_memory(err);
	rc = th_hooks_run(&record->bundle, kind, state, err);
	free(state);
	return rc;
}

int th_runtime_start(const char *dir, const char *id, struct th_error *warning,
	struct th_error *err)
{
	struct record record;
	int rc = -1;

	if (record_open(dir, id, true, &record, err))
		goto out;
	if (record.status != TH_RUNTIME_CREATED) {
		th_fail(err, TH_IN_USE,
			"container \"%s\" cannot be started: it is %s, not "
			"created",
			id, status_word(record.status));
		goto out;
	}
	if (record.bundle.process.missing) {
		th_fail(err, TH_FAILED,
			"container \"%s\" cannot be started: its config.json "
			"does not have a process",
			id);
		goto out;
	}
	rc = th_sandbox_start_waiting(&record.bundle, id, record.bundle_path,
		record.pid, record.connection, err);
	if (rc == 0)
		run_hooks(&record, id, TH_HOOK_POSTSTART, warning);
out:
	record_release(&record);
	return rc;
}

int th_runtime_state(
	const char *dir, const char *id, char **state, struct th_error *err)
{
	struct record record;
	int rc = record_open(dir, id, false, &record, err);

	if (rc == 0) {
		*state = th_hooks_state(&record.bundle, id,
			status_word(record.status),
			record.status == TH_RUNTIME_STOPPED ? 0 : record.pid,
			record.bundle_path);
		rc = *state ? 0 : th_fail_memory(err);
	}
	record_release(&record);
	return rc;
}

/* By a descriptor: the number may be somebody else's by now. */
static int signal_first(
	const struct record *record, int number, struct th_error *err)
{
	int fd = (int)syscall(SYS_pidfd_open, record->pid, 0), rc = 0;

	if (fd < 0 || process_start(record->pid) != record->started ||
		syscall(SYS_pidfd_send_signal, fd, number, NULL, 0))
		rc = th_fail_sys(err, TH_FAILED, errno ? errno : ESRCH,
			"cannot send signal %d", number);
	th_close(&fd);
	return rc;
}

static int signal_all(
	const struct record *record, int number, struct th_error *err)
{
	struct th_cgroup group;
	pid_t *pids = NULL;
	size_t count = 0;
	int rc;

	/* In a group that was there before, others may run too. */
	if (record->made.count == 0)
		return signal_first(record, number, err);
	th_cgroup_open(record->group, &group);
	rc = th_cgroup_processes(&group, &pids, &count, err);
	for (size_t i = 0; rc == 1 && i < count; i++)
		kill(pids[i], number);
	free(pids);
	th_cgroup_close(&group);
	return rc == 0 ? signal_first(record, number, err) : rc < 0 ? -1 : 0;
}

int th_runtime_kill(const char *dir, const char *id, int number, bool all,
	struct th_error *err)
{
	struct record record;
	int rc = -1;

	if (record_open(dir, id, true, &record, err))
		goto out;
	if (record.status != TH_RUNTIME_CREATED &&
		record.status != TH_RUNTIME_RUNNING) {
		th_fail(err, TH_IN_USE,
			"container \"%s\" cannot be sent a signal: it is %s",
			id, status_word(record.status));
		goto out;
	}
	rc = all ? signal_all(&record, number, err)
		 : signal_first(&record, number, err);
out:
	record_release(&record);
	return rc;
}

/* Until the process has gone, or is a zombie of somebody's. */
static void wait_for_end(const struct record *record)
{
	int64_t until_ms = th_clock_mono_ms() + LEAVE_MS;
	struct pollfd fd = {.fd = (int)syscall(SYS_pidfd_open, record->pid, 0),
		.events = POLLIN};

	while (fd.fd >= 0 && process_start(record->pid) == record->started &&
		th_clock_mono_ms() < until_ms)
		poll(&fd, 1, 50);
	th_close(&fd.fd);
}

int th_runtime_delete(const char *dir, const char *id, bool force,
	struct th_error *warning, struct th_error *err)
{
	struct th_error late = {0};
	struct record record;
	int rc = -1;

	if (record_open(dir, id, true, &record, err))
		goto out;
	if (record.status != TH_RUNTIME_STOPPED) {
		if (!force) {
			th_fail(err, TH_IN_USE,
				"container \"%s\" cannot be deleted: it is %s, "
				"not stopped",
				id, status_word(record.status));
			th_hint(err, "tidyhull oci kill %s KILL, or --force",
				id);
			goto out;
		}
		/* It may have ended since it was looked at. */
		if (signal_first(&record, SIGKILL, &late) &&
			process_start(record.pid) == record.started) {
			if (err)
				*err = late;
			goto out;
		}
		wait_for_end(&record);
	}
	if (!th_cgroup_remove_made(&record.made)) {
		th_fail(err, TH_FAILED,
			"the control group of container \"%s\" cannot be "
			"removed",
			id);
		goto out;
	}
	rc = owner_remove_folder(dir, id, err);
	if (rc == 0)
		run_hooks(&record, id, TH_HOOK_POSTSTOP, warning);
out:
	record_release(&record);
	return rc;
}
