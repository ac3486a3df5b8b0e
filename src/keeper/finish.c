/* What is recorded, told and cleaned when a container ends. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/keeper.h"
#include "keeper/lock.h"
#include "network/network.h"
#include "sandbox/cgroup.h"

/* The program's own status, where a reaper stood between. */
static int program_status(const struct keeper *keeper)
{
	int status = 0;

	if (keeper->sandbox.status >= 0 &&
		read(keeper->sandbox.status, &status, sizeof(status)) ==
			sizeof(status))
		return status;
	return keeper->status;
}

static void read_outcome(const struct keeper *keeper, struct th_ending *ending)
{
	int status = program_status(keeper);

	memset(ending, 0, sizeof(*ending));
	ending->by_force = keeper->by_force;
	if (!WIFSIGNALED(status)) {
		ending->outcome = TH_OUTCOME_EXITED;
		ending->code = WEXITSTATUS(status);
		return;
	}
	ending->outcome = TH_OUTCOME_SIGNAL;
	ending->code = WTERMSIG(status);
	if (ending->code != SIGKILL || keeper->by_force)
		return;
	if (keeper->stands_for)
		ending->code = keeper->stands_for;
	else if (!keeper->end_cause[0] &&
		th_cgroup_memory_kills(&keeper->cgroup) > 0)
		ending->outcome = TH_OUTCOME_OUT_OF_MEMORY;
}

static void record_end(struct keeper *keeper, const struct th_ending *ending)
{
	bool asked = keeper->end_cause[0] != '\0';
	char cause[256];
	struct th_change change = {.to = TH_STATE_STOPPED,
		.outcome = (enum th_outcome)ending->outcome,
		.code = ending->code,
		.cause = cause,
		.actor = asked ? keeper->ended_by : "keeper"};
	struct th_error ignored = {0};

	snprintf(cause, sizeof(cause), "%s%s",
		asked ? keeper->end_cause
			: ending->outcome == TH_OUTCOME_OUT_OF_MEMORY
			? "the kernel ended it: its memory was used up"
			: "its process ended",
		keeper->by_force ? ", and killed after the grace period" : "");
	change.reason = asked ? cause : "";
	if (keeper->plan.keep)
		th_state_change(
			keeper->store->db, keeper->id, &change, &ignored);
	else
		th_state_remove(
			keeper->store->db, keeper->id, "keeper", &ignored);
}

static void tell_end(struct keeper *keeper, const struct th_ending *ending)
{
	while (keeper->clients) {
		struct client *client = keeper->clients;

		if (client->attached || client->waits_for_end)
			keeper_tell(
				client, TH_TELL_ENDED, ending, sizeof(*ending));
		keeper_drop_client(client);
	}
}

/* Whatever the container held on the host. Its network pair is the last: the
 * kernel takes it down a moment after the namespace is let go. */
static void release_host(struct keeper *keeper)
{
	struct th_error ignored = {0};
	int fd = keeper->listener.fd;
	bool plugged = keeper->netns_fd >= 0 && keeper->plan.network &&
		th_network_is_shared(keeper->plan.network);
	char path[64];

	th_loop_forget(&keeper->loop, &keeper->listener);
	th_close(&fd);
	th_close(&keeper->netns_fd);
	th_close(&keeper->overlay_fd);
	if (plugged) {
		th_network_unplugged(keeper->id);
		th_network_tidy(keeper->store, &ignored);
	}
	snprintf(path, sizeof(path), "%.32s.sock", keeper->id);
	unlinkat(keeper->store->run_fd, path, 0);
}

static void discard_folder(struct keeper *keeper)
{
	struct th_error ignored = {0};

	if (th_store_hold(keeper->store, &ignored))
		return;
	th_store_remove_container(keeper->store, keeper->id, &ignored);
	th_store_let_go(keeper->store);
}

void keeper_finish(struct keeper *keeper)
{
	struct th_ending ending;

	keeper_end_sessions(keeper);
	keeper_close_streams(keeper);
	th_relay_free(keeper->relay);
	keeper->relay = NULL;
	th_log_close(&keeper->log);
	read_outcome(keeper, &ending);
	th_cgroup_close(&keeper->cgroup);
	th_cgroup_remove(keeper->group_path, TH_CGROUP_LEVELS);
	record_end(keeper, &ending);
	tell_end(keeper, &ending);
	release_host(keeper);
	if (!keeper->plan.keep)
		discard_folder(keeper);
	th_lock_drop(keeper->store->run_fd, keeper->id, &keeper->lock_fd);
}

void keeper_abort(struct keeper *keeper, const struct th_error *why)
{
	struct th_change change = {.to = TH_STATE_STOPPED,
		.outcome = TH_OUTCOME_COULD_NOT_START,
		.reason = why->msg,
		.cause = "could not be started",
		.actor = keeper->actor};
	struct th_error ignored = {0};

	/* Without the lock the container is somebody else's. */
	if (keeper->lock_fd < 0)
		return;
	th_sandbox_abandon(&keeper->sandbox);
	keeper_close_streams(keeper);
	th_relay_free(keeper->relay);
	keeper->relay = NULL;
	for (size_t i = 0; keeper->port_fds && i < keeper->plan.port_count;
		i++) {
		th_close(&keeper->port_fds[i][0]);
		th_close(&keeper->port_fds[i][1]);
	}
	th_log_close(&keeper->log);
	th_cgroup_close(&keeper->cgroup);
	if (keeper->group_path[0])
		th_cgroup_remove(keeper->group_path, TH_CGROUP_LEVELS);
	if (keeper->row.id[0])
		th_state_change(
			keeper->store->db, keeper->id, &change, &ignored);
	release_host(keeper);
	th_lock_drop(keeper->store->run_fd, keeper->id, &keeper->lock_fd);
}
