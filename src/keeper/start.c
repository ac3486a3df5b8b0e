/* Everything that a keeper does before its container's program runs. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "keeper/keeper.h"
#include "container/root.h"
#include "container/secrets.h"

/* How long another program may hold up a restart with a locked database or a
 * lock: it is tried again until then. */
#define START_PATIENCE_MS 5000

/* With user IDs of its own the container's process makes it: what the overlay
 * writes has the rights of who mounted it. */
static int open_root(struct keeper *keeper, struct th_error *err)
{
	/* Of a step of a build only what it has written counts, and that is
	 * read before the container goes. */
	bool discard = !keeper->plan.keep || keeper->bound;

	if (keeper->own_ids.first) {
		th_root_layers_release(&keeper->layers);
		return th_plan_layers(&keeper->plan, "", keeper->id, discard,
			&keeper->layers, err);
	}
	return th_plan_open_root(&keeper->plan, keeper->store, keeper->id,
		discard, &keeper->overlay_fd, err);
}

/* Nobody has asked for it, so it is no failure where that cannot be done. */
static void bound_processes(struct keeper *keeper)
{
	struct th_error ignored = {0}; /* as above */
	struct th_resources bound;

	th_resources_init(&bound);
	bound.pids = PROCESSES_DEFAULT;
	th_cgroup_limit(&keeper->cgroup, &bound, &ignored);
	th_resources_release(&bound);
}

static int make_group(struct keeper *keeper, struct th_error *err)
{
	th_group_path_of(keeper->store, keeper->id,
		keeper->bundle.cgroup_path ? keeper->bundle.cgroup_path : "",
		keeper->group_path, sizeof(keeper->group_path));
	/* Of an unprivileged user the kernel takes no device nodes anyway. */
	if (th_cgroup_make(keeper->group_path, &keeper->bundle.resources,
		    !keeper->plan.unprivileged, &keeper->cgroup, err))
		return -1;
	if (keeper->bundle.resources.pids == TH_UNSET)
		bound_processes(keeper);
	return 0;
}

static int create(struct keeper *keeper, struct th_error *err)
{
	struct th_sandbox_options *options = &keeper->options;
	const char *reaper =
		th_bundle_annotation(&keeper->bundle, "org.tidyhull.reaper");
	const char *number = th_bundle_annotation(
		&keeper->bundle, "org.tidyhull.program-pid");
	int rc;

	if (!keeper->bundle_path)
		keeper->bundle_path = th_format(
			"%s/containers/%s", keeper->store->root, keeper->id);
	if (!keeper->bundle_path)
		return th_fail_memory(err);
	options->bundle = &keeper->bundle;
	options->id = keeper->id;
	options->bundle_path = keeper->bundle_path;
	options->root_mount = keeper->overlay_fd;
	options->overlay =
		keeper->own_ids.first ? &keeper->layers.overlay : NULL;
	options->overlay_base = keeper->own_ids.store_mount;
	options->mount_fds = keeper->own_ids.mount_fds;
	keeper->own_ids.mount_fds = NULL; /* closed there */
	options->cgroup = &keeper->cgroup;
	options->filter =
		keeper->kept_filter.code.len ? &keeper->kept_filter.code : NULL;
	options->reaper = reaper && strcmp(reaper, "yes") == 0;
	/* No other keeper of this host has the number. */
	options->program_pid =
		number && strcmp(number, "of-host") == 0 ? getpid() : 0;
	options->listener = -1;
	options->handed = keeper->ports.handed;
	rc = th_secrets_mount(keeper->folder_fd,
		keeper->own_ids.first + keeper->bundle.process.uid,
		keeper->own_ids.first + keeper->bundle.process.gid,
		&options->memory_mount, err);
	options->memory_target = TH_SECRETS_TARGET;
	if (rc == 0)
		rc = keeper_hand_ports(keeper, &options->handed_count, err);
	if (rc == 0)
		rc = keeper_make_streams(keeper, options->stdio, err);
	if (rc == 0)
		rc = th_sandbox_create(options, &keeper->sandbox, err);
	if (!keeper->bundle.process.terminal) {
		for (int i = 0; i < 3; i++)
			th_close(&options->stdio[i]);
	}
	th_close(&options->memory_mount);
	return rc;
}

/* After the program runs, not before: a state that says "running" is never
 * about a process that has not started. */
static int record(
	struct keeper *keeper, const char *actor, struct th_error *err)
{
	bool again = keeper->last.run_us != 0;
	char place[TH_CGROUP_PATH];
	struct th_change change = {.to = TH_STATE_RUNNING,
		.at_us = keeper->last.run_us = th_clock_now_us(),
		.pid = keeper->sandbox.pid,
		.boot = keeper->store->boot_id,
		.cause = {.kind = again ? TH_CAUSE_STARTED_AGAIN
					: TH_CAUSE_STARTED},
		.actor = actor,
		/* What waited has held its ports all the time. */
		.ports = keeper->ports.rows,
		.port_count = again ? 0 : keeper->ports.row_count,
		.wanted = TH_WANTED,
		.tries = keeper->next.tries,
		.health = keeper->probing.probe.kind ? "warming" : "",
		.cgroup = place};

	th_cgroup_place(keeper->group_path, place);
	if (!again) {
		struct th_db *db = keeper->store->db;
		/* What is to be started again with the host is, also after a
		 * power cut. */
		bool due = keeper->plan.keep && keeper->policy.kind != TH_NEVER;

		if (th_db_begin_durable(db, due, err))
			return -1;
		return th_db_end(
			db, th_state_change(db, keeper->id, &change, err), err);
	}
	/* It runs, whether the state can be told now or later. */
	keeper_record_change(keeper, &change);
	return 0;
}

int keeper_start(struct keeper *keeper, const char *actor, struct th_error *err)
{
	if (keeper_load_filter(keeper, err) || make_group(keeper, err) ||
		keeper_own_users(keeper, err) || open_root(keeper, err) ||
		keeper_find_network(keeper, err) || create(keeper, err))
		return -1;
	/* The two sides work at the same time: mounts inside; here the network,
	 * and the keeper's own bounds, which the kernel takes time to check. */
	if (keeper_join_network(keeper, err) ||
		keeper_watch_process(keeper, err) ||
		keeper_confine(keeper, err))
		return -1;
	if (th_sandbox_ready(&keeper->sandbox, err))
		return -1;
	if (keeper->bundle.process.terminal) {
		struct winsize size = {.ws_row = keeper->size.rows,
			.ws_col = keeper->size.columns};

		if (size.ws_row)
			ioctl(keeper->sandbox.console, TIOCSWINSZ, &size);
	}
	/* From here on a failure means a program that has run. */
	if (th_sandbox_start(&keeper->sandbox, err))
		return -1;
	keeper_watch_streams(keeper);
	keeper->started_ms = th_clock_mono_ms();
	if (record(keeper, actor, err))
		return -1;
	keeper_enter(keeper, STATE_RUNNING);
	keeper_probe_begin(keeper);
	return 0;
}

/* What one run has left in the keeper's memory. */
static void forget_run(struct keeper *keeper)
{
	keeper_end_relays(keeper);
	th_close(&keeper->sandbox.status);
	memset(&keeper->sandbox, 0, sizeof(keeper->sandbox));
	keeper->sandbox.pidfd = keeper->sandbox.channel = -1;
	keeper->sandbox.console = keeper->sandbox.status = -1;
	memset(&keeper->options, 0, sizeof(keeper->options));
	memset(&keeper->cgroup, 0, sizeof(keeper->cgroup));
	keeper->cgroup.fd = -1;
	keeper->group_path[0] = '\0';
	keeper_filter_release(&keeper->kept_filter);
	keeper_forget_streams(keeper);
	keeper_forget_stop(keeper);
	keeper->pausing.paused = false;
	keeper->last.status = keeper->sessions.ended = 0;
}

/* Somebody else holds what the start needs: not for long, as a rule. */
static bool is_held_up(struct keeper *keeper, const struct th_error *err)
{
	int64_t now_ms = th_clock_mono_ms();

	if (!th_error_busy(err))
		return false;
	if (!keeper->next.held_up_ms)
		keeper->next.held_up_ms = now_ms;
	return now_ms - keeper->next.held_up_ms < START_PATIENCE_MS;
}

int keeper_start_again(struct keeper *keeper)
{
	struct th_error err = {0};
	char actor[sizeof(keeper->next.asked_by)];

	snprintf(actor, sizeof(actor), "%s",
		keeper->next.asked_by[0] ? keeper->next.asked_by : "keeper");
	/* Asked for by a person: a new row of tries begins. */
	if (keeper->next.asked_by[0])
		keeper->next.tries = 0;
	keeper_enter(keeper, STATE_STARTING);
	forget_run(keeper);
	if (keeper_load(keeper, &err) || keeper_start(keeper, actor, &err)) {
		keeper_fail_run(keeper, &err, is_held_up(keeper, &err));
		return -1;
	}
	keeper->next.asked_by[0] = '\0';
	keeper->next.held_up_ms = 0;
	th_outcome_clear(keeper->last.fd);
	keeper_notify_started(keeper);
	return 0;
}
