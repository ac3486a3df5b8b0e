/* What a run leaves on the host: its control group, whose processes take a
 * moment to go, and its network devices, which the kernel takes away a moment
 * after their namespace. Neither is waited for: the loop comes by again. */
#include <stdio.h>
#include <time.h>

#include "base/clock.h"
#include "base/file.h"
#include "keeper/keeper.h"
#include "network/network.h"
#include "sandbox/cgroup.h"
#include "sandbox/rights.h"

/* A process that does not go after so long is left to others. */
#define GROUP_MS 2000
#define DEVICES_MS 1000
#define STEP_MS 2
/* To make a bridge again right after it was taken away takes a start three
 * times as long: so long the next one may take. */
#define LINGER_MS 600
/* When it is tried again, where the networks are locked. */
#define AGAIN_MS 50

static bool group_has_gone(struct keeper *keeper)
{
	struct closing *closing = &keeper->closing;

	if (th_cgroup_remove_step(keeper->group_path, TH_CGROUP_LEVELS) == 0 &&
		th_clock_mono_ms() < closing->until_ms)
		return false;
	keeper->group_path[0] = '\0';
	return true;
}

static void close_group(struct keeper *keeper)
{
	struct closing *closing = &keeper->closing;

	if (keeper->group_path[0] && !group_has_gone(keeper)) {
		closing->next_ms = th_clock_mono_ms() + STEP_MS;
		return;
	}
	keeper_event(keeper, EVENT_GROUP_GONE, NULL);
}

/* Where somebody holds the lock of the networks it is tried again; he looks at
 * all of them, too. */
static void tidy(struct keeper *keeper)
{
	struct closing *closing = &keeper->closing;

	closing->tidy_ms = 0;
	if (closing->lingers_fd > 0)
		th_close(&closing->lingers_fd);
	/* The last one does it. */
	if (th_network_is_lingering(keeper->store))
		return;
	if (!keeper_tidy_bridges(keeper))
		closing->tidy_ms = th_clock_mono_ms() + AGAIN_MS;
}

/* A user's networks go with the program that holds them; and a manager that
 * watches this process would wait for it. */
static void linger(struct keeper *keeper)
{
	struct closing *closing = &keeper->closing;

	if (keeper->store->unprivileged || *keeper->notify) {
		tidy(keeper);
		return;
	}
	if (closing->lingers_fd <= 0)
		closing->lingers_fd = th_network_linger(keeper->store);
	closing->tidy_ms = th_clock_mono_ms() + LINGER_MS;
}

static void close_devices(struct keeper *keeper)
{
	struct closing *closing = &keeper->closing;
	bool late = th_clock_mono_ms() >= closing->until_ms;

	if (keeper_unplug_step(keeper, late)) {
		closing->devices = false;
		linger(keeper);
		return;
	}
	/* Most are gone at once; to look takes a little. */
	closing->next_ms = th_clock_mono_ms() + (STEP_MS << closing->tries);
	if (closing->tries < 5)
		closing->tries++;
}

void keeper_close_run(struct keeper *keeper)
{
	struct closing *closing = &keeper->closing;

	th_cgroup_close(&keeper->cgroup);
	keeper_enter(keeper, STATE_CLOSING);
	closing->until_ms = th_clock_mono_ms() + GROUP_MS;
	close_group(keeper);
}

void keeper_close_devices(struct keeper *keeper)
{
	struct closing *closing = &keeper->closing;

	closing->devices = true;
	closing->tries = 0;
	closing->until_ms = th_clock_mono_ms() + DEVICES_MS;
	close_devices(keeper);
}

int64_t keeper_close_due(const struct keeper *keeper)
{
	const struct closing *closing = &keeper->closing;

	return keeper->state == STATE_CLOSING || closing->devices
		? closing->next_ms
		: closing->tidy_ms;
}

bool keeper_has_devices(const struct keeper *keeper)
{
	return keeper->closing.devices;
}

static void work(struct keeper *keeper)
{
	if (keeper->state == STATE_CLOSING)
		close_group(keeper);
	else if (keeper->closing.devices)
		close_devices(keeper);
	else if (keeper->closing.tidy_ms)
		tidy(keeper);
}

void keeper_close_work(struct keeper *keeper)
{
	int64_t due = keeper_close_due(keeper);

	if (!due || th_clock_mono_ms() < due)
		return;
	th_rights_raise();
	work(keeper);
	th_rights_rest();
}

static void sleep_until(int64_t due_ms)
{
	int64_t left = due_ms - th_clock_mono_ms();
	const struct timespec time = {
		.tv_sec = left / 1000, .tv_nsec = left % 1000 * 1000000};

	if (left > 0)
		nanosleep(&time, NULL);
}

void keeper_close_all(struct keeper *keeper)
{
	while (keeper->state == STATE_CLOSING || keeper->closing.devices) {
		sleep_until(keeper->closing.next_ms);
		work(keeper);
	}
}

void keeper_close_bridges(struct keeper *keeper)
{
	const int64_t until_ms = th_clock_mono_ms() + LINGER_MS + DEVICES_MS;

	while (keeper->closing.tidy_ms && keeper->closing.tidy_ms < until_ms) {
		sleep_until(keeper->closing.tidy_ms);
		tidy(keeper);
	}
}
