/* Several containers at a time: in which order, and ending them. */
#include <poll.h>
#include <stdlib.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "group/group.h"
#include "library/library.h"
#include "store/machine.h"
#include "view/describe.h"

static bool has_order(const struct th_group *group)
{
	for (size_t i = 0; i < group->count; i++) {
		if (group->items[i].after_count)
			return true;
	}
	return false;
}

int th_containers_order(
	th_hull *hull, const json_t *names, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_group group;
	json_t *list, *made;

	error = error ? error : &own;
	library_begin(doc);
	if (library_ordered(hull, names, &group, error))
		return -1;
	list = json_array();
	for (size_t i = 0; i < group.count; i++)
		json_array_append_new(list,
			th_view_container(
				&hull->context, &group.items[i].before));
	made = json_pack("{s:o s:b}", "containers", list, "ordered",
		(int)has_order(&group));
	th_group_release(&group);
	return library_give(made, doc, error);
}

/* ---- ending them ---- */

/* How often the one who waits is told. */
#define TELL_MS 200
/* After so many of these it is asked whether the keeper still answers. */
#define LOOKS 15
/* Whoever ends takes a processor for a while. One more than these are told at a
 * time, and so long the next ones wait for them. */
#define AT_A_TIME_MAX 64
#define PACE_MS 20

struct ending {
	th_hull *hull;
	const struct th_end_watch *watch;
	int grace_ms;
	struct th_error *err; /* the first one */
};

struct one_ending {
	const struct th_container_row *row;
	int channel; /* -1: there is nothing to wait for */
};

static void tell_ended(struct ending *work, const struct th_container_row *row,
	const struct th_ending *how, const struct th_error *err)
{
	json_t *container, *ending;

	if (err && !work->err->code)
		*work->err = *err;
	if (!work->watch || !work->watch->ended)
		return;
	container = th_view_container(&work->hull->context, row);
	ending = how ? library_ending(how) : NULL;
	work->watch->ended(work->watch->owner, container, ending, err);
	json_decref(container);
	json_decref(ending);
}

static void tell_waits(
	struct ending *work, const struct th_container_row *row, size_t others)
{
	json_t *container;

	if (!work->watch || !work->watch->waits)
		return;
	container = json_pack("{s:s s:s}", "name", row->name, "id", row->id);
	work->watch->waits(work->watch->owner, container, others);
	json_decref(container);
}

static void end_begin(struct ending *work, struct one_ending *one)
{
	struct th_error err = {0};

	one->channel = -1;
	if (!th_container_is_up(one->row))
		tell_ended(work, one->row, NULL, NULL);
	else if (th_container_stop_begin(&work->hull->context, one->row, 0,
			 work->grace_ms, &one->channel, &err))
		tell_ended(work, one->row, NULL, &err);
}

static void end_await(
	struct ending *work, struct one_ending *one, size_t others)
{
	struct th_ending how;
	struct th_error err = {0};
	int rc;

	for (int looks = 1; (rc = th_container_stop_await(
				     &one->channel, TELL_MS, &how, &err)) == 0;
		looks++) {
		tell_waits(work, one->row, others);
		if (looks % LOOKS == 0 &&
			th_container_end_stuck(
				&work->hull->context, one->row, &err)) {
			th_close(&one->channel);
			rc = -1;
			break;
		}
	}
	tell_ended(work, one->row, rc < 0 ? NULL : &how, rc < 0 ? &err : NULL);
}

static size_t pace(void)
{
	long cores = sysconf(_SC_NPROCESSORS_ONLN);
	long pace = 1 + (cores > 0 ? cores : 1);

	return (size_t)(pace < AT_A_TIME_MAX ? pace : AT_A_TIME_MAX);
}

/* Hundreds that end in the same moment would keep everybody else from the
 * processors for as long as that takes. Those that take their time are not
 * waited for. */
static void keep_pace(const struct one_ending *list, size_t count)
{
	struct pollfd channels[AT_A_TIME_MAX];
	int64_t until_ms = th_clock_mono_ms() + PACE_MS, left_ms = PACE_MS;
	size_t open = 0;

	for (size_t i = 0; i < count; i++) {
		channels[i] = (struct pollfd){
			.fd = list[i].channel, .events = POLLIN};
		open += list[i].channel >= 0;
	}
	while (open && left_ms > 0 && poll(channels, count, (int)left_ms) > 0) {
		open = 0;
		for (size_t i = 0; i < count; i++) {
			if (channels[i].revents)
				channels[i].fd = -1;
			open += channels[i].fd >= 0;
		}
		left_ms = until_ms - th_clock_mono_ms();
	}
}

/* All are told first, and then waited for; of groups those first that others do
 * not wait for. */
static int end_all(struct ending *work, const struct th_group *group)
{
	struct one_ending *list = calloc(group->count + 1, sizeof(*list));
	size_t end = group->count, from, told, at_a_time = pace();

	if (!list)
		return th_fail_memory(work->err);
	for (; end > 0; end = from) {
		told = 0;
		for (from = end; from > 0 &&
			group->items[from - 1].rank ==
				group->items[end - 1].rank;
			from--) {
			list[from - 1].row = &group->items[from - 1].before;
			end_begin(work, &list[from - 1]);
			if (++told % at_a_time == 0)
				keep_pace(&list[from - 1], at_a_time);
		}
		for (size_t i = from; i < end; i++) {
			if (list[i].channel >= 0)
				end_await(work, &list[i], end - i - 1);
		}
	}
	free(list);
	return work->err->code ? -1 : 0;
}

int th_containers_end(th_hull *hull, const json_t *names, int grace_ms,
	bool stays_due, const struct th_end_watch *watch, th_error *error)
{
	struct th_error own = {0};
	struct ending work = {.hull = hull,
		.watch = watch,
		.grace_ms = grace_ms,
		.err = error ? error : &own};
	struct th_group group;
	int rc;

	if (library_ordered(hull, names, &group, work.err))
		return -1;
	hull->context.stays_due = stays_due;
	rc = end_all(&work, &group);
	hull->context.stays_due = false;
	th_group_release(&group);
	return rc;
}
