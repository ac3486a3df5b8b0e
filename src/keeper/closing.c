/* What a run leaves on the host: its control group, whose processes take a
 * moment to go, and its network devices, which the kernel takes away a moment
 * after their namespace. Neither is waited for: the loop comes by again. */
#include <stdio.h>
#include <time.h>

#include "base/clock.h"
#include "keeper/keeper.h"
#include "sandbox/cgroup.h"
#include "sandbox/rights.h"

/* A process that does not go after so long is left to others. */
#define GROUP_MS 2000
#define DEVICES_MS 1000
#define STEP_MS 2

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

static void close_devices(struct keeper *keeper)
{
	struct closing *closing = &keeper->closing;
	bool late = th_clock_mono_ms() >= closing->until_ms;

	if (keeper_unplug_step(keeper, late) || late) {
		closing->devices = false;
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
		: 0;
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

void keeper_close_all(struct keeper *keeper)
{
	int64_t due;

	while ((due = keeper_close_due(keeper)) != 0) {
		int64_t left = due - th_clock_mono_ms();
		const struct timespec time = {.tv_nsec = left * 1000000};

		if (left > 0)
			nanosleep(&time, NULL);
		work(keeper);
	}
}
