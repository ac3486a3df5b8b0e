/* Freezing and thawing all processes of the container, by the freezer of its
 * control group (cgroup-v2.rst, "cgroup.freeze"). */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "keeper/keeper.h"

/* A process that is deep in the kernel freezes when it comes out of it. */
#define PATIENCE_MS 2000
#define STEP_NS 500000

static bool is_frozen(const struct keeper *keeper)
{
	struct th_error ignored = {0};
	struct th_buf events;
	bool frozen;

	th_buf_init(&events, 4096);
	frozen = th_file_read(keeper->cgroup_fd, "cgroup.events", &events,
			 &ignored) == 1 &&
		strstr(events.data, "frozen 1");
	th_buf_release(&events);
	return frozen;
}

static int write_freeze(
	const struct keeper *keeper, bool freeze, struct th_error *err)
{
	int fd = openat(
		keeper->cgroup_fd, "cgroup.freeze", O_WRONLY | O_CLOEXEC);
	int rc = fd < 0 || write(fd, freeze ? "1" : "0", 1) != 1
		? th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			  "cannot %s the container's control group",
			  freeze ? "freeze" : "thaw")
		: 0;

	th_close(&fd);
	return rc;
}

static int set_frozen(
	const struct keeper *keeper, bool freeze, struct th_error *err)
{
	const struct timespec step = {.tv_nsec = STEP_NS};
	int64_t until_ms = th_clock_mono_ms() + PATIENCE_MS;

	if (keeper->cgroup_fd < 0) {
		th_fail(err, TH_NOT_POSSIBLE,
			"this host has no freezer: there is no version 2 "
			"control group hierarchy");
		return th_hint(err, "tidyhull doctor tells what that needs");
	}
	if (write_freeze(keeper, freeze, err))
		return -1;
	while (is_frozen(keeper) != freeze) {
		if (th_clock_mono_ms() > until_ms) {
			struct th_error ignored = {0};

			/* Half frozen is worse than not at all. */
			write_freeze(keeper, false, &ignored);
			return th_fail(err, TH_FAILED,
				"not all its processes could be frozen");
		}
		nanosleep(&step, NULL);
	}
	return 0;
}

void keeper_thaw(struct keeper *keeper)
{
	struct th_error ignored = {0};

	if (keeper->paused)
		set_frozen(keeper, false, &ignored);
	keeper->paused = false;
}

static int change(struct keeper *keeper, bool pause, const char *actor,
	struct th_error *err)
{
	struct th_change step = {
		.to = pause ? TH_STATE_PAUSED : TH_STATE_RUNNING,
		.pid = keeper->sandbox.pid,
		.cause = pause ? "paused" : "resumed",
		.actor = actor ? actor : ""};

	if (keeper->ended || keeper->stopping)
		return th_fail(err, TH_FAILED, "the container is ending");
	if (keeper->paused == pause)
		return th_fail(err, TH_FAILED, "the container is %s",
			pause ? "paused already" : "not paused");
	if (set_frozen(keeper, pause, err))
		return -1;
	keeper->paused = pause;
	if (th_state_change(keeper->store->db, keeper->id, &step, err) == 0)
		return 0;
	/* What the state does not know must not be. */
	if (pause)
		keeper_thaw(keeper);
	return -1;
}

void keeper_pause_request(
	struct client *client, const struct th_message *message)
{
	const char *actor = NULL;
	struct th_error err = {0};
	json_t *doc = NULL;

	if (th_json_parse(message->data, message->len, "a request", &doc,
		    &err) == 0 &&
		th_json_string(doc, "actor", "a request", &actor, &err) >= 0 &&
		change(client->keeper, message->type == TH_SAY_PAUSE, actor,
			&err) == 0)
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
	else
		keeper_tell(client, TH_TELL_FAILED, &err, sizeof(err));
	json_decref(doc);
}
