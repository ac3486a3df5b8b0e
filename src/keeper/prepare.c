/* What a keeper holds from the first run of its container to the last. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/keeper.h"
#include "container/lock.h"

/* How long an earlier keeper may take to leave. */
#define LAST_KEEPER_MS 15000
/* How often it is looked whether it is one that leaves. */
#define LOOK_MS 100

/* The keeper of the last run may still be cleaning up behind it. */
static int take_lock(struct keeper *keeper, struct th_error *err)
{
	struct th_store *store = keeper->store;
	int rc;

	rc = th_lock_take(store->run_fd, keeper->id, &keeper->lock_fd, err);
	/* One that is leaving, or another start that was quicker? */
	for (int ms = 0; rc == 0 && ms < LAST_KEEPER_MS; ms += LOOK_MS) {
		rc = th_state_get(store->db, keeper->id, &keeper->row, err);
		keeper->row.id[0] = '\0';
		if (rc != 1 || keeper->row.state != TH_STATE_STOPPED)
			return rc < 0 ? -1 : 0;
		rc = th_lock_wait(store->run_fd, keeper->id, LOOK_MS,
			&keeper->lock_fd, err);
	}
	return rc;
}

int keeper_load(struct keeper *keeper, struct th_error *err)
{
	int rc;

	rc = th_state_get(keeper->store->db, keeper->id, &keeper->row, err);
	if (rc == 0)
		return th_fail(err, TH_NOT_FOUND,
			"the container %s no longer exists", keeper->id);
	if (rc < 0)
		return -1;
	th_plan_release(&keeper->plan);
	th_bundle_release(&keeper->bundle);
	rc = th_plan_read_whole(
		keeper->folder_fd, &keeper->row, &keeper->plan, err);
	keeper->store->unprivileged = keeper->plan.unprivileged;
	if (rc == 0)
		rc = keeper_open_filter(keeper)
			? th_bundle_read_unfiltered(
				  keeper->folder_fd, &keeper->bundle, err)
			: th_bundle_read(
				  keeper->folder_fd, &keeper->bundle, err);
	if (rc)
		return -1;
	keeper->policy = keeper->plan.policy;
	keeper_probe_take(keeper, &keeper->plan.probe);
	if (!keeper->bundle.process.has_oom_score) {
		keeper->bundle.process.has_oom_score = true;
		keeper->bundle.process.oom_score_adj = keeper->score;
	}
	return 0;
}

/* The files that are mounted below /etc and written while the container runs. A
 * container that took a lease on one could make every writer wait for 45 s: the
 * kernel gives none while somebody has the file open for writing (fcntl(2),
 * "Leases"), so that this keeper does, from before its program to its end. */
static int hold_files(struct keeper *keeper, struct th_error *err)
{
	static const char *const names[] = {"hosts", "hostname", "resolv.conf"};

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++) {
		if (openat(keeper->folder_fd, names[i],
			    O_WRONLY | O_CLOEXEC | O_NONBLOCK) < 0)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot open the container's %s", names[i]);
	}
	return 0;
}

int keeper_prepare(struct keeper *keeper, struct th_error *err)
{
	char path[64];
	int rc = take_lock(keeper, err);

	if (rc == 0)
		return th_fail(err, TH_IN_USE,
			"the container is already running, or is being started "
			"or removed by another command");
	if (rc < 0)
		return -1;
	snprintf(path, sizeof(path), "containers/%s", keeper->id);
	keeper->folder_fd = openat(keeper->store->root_fd, path,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (keeper->folder_fd < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot open the container's folder");
	keeper->last.fd = th_outcome_reserve(keeper->folder_fd, err);
	if (keeper->last.fd < 0 || hold_files(keeper, err) ||
		keeper_load(keeper, err) || keeper_open_log(keeper, err) ||
		keeper_bind_ports(keeper, err))
		return -1;
	return keeper_listen(keeper, err);
}
