#include "store/machine.h"

#include <stdio.h>
#include <string.h>

#define STATES 5
#define BIT(state) (1u << (state))

/* The states that may follow each state. */
static const unsigned int follow[STATES] = {
	[TH_STATE_CREATED] = BIT(TH_STATE_RUNNING) | BIT(TH_STATE_STOPPED),
	[TH_STATE_RUNNING] = BIT(TH_STATE_RUNNING) | BIT(TH_STATE_PAUSED) |
		BIT(TH_STATE_STOPPED) | BIT(TH_STATE_WAITING),
	[TH_STATE_PAUSED] = BIT(TH_STATE_RUNNING) | BIT(TH_STATE_STOPPED) |
		BIT(TH_STATE_WAITING),
	[TH_STATE_STOPPED] = BIT(TH_STATE_RUNNING) | BIT(TH_STATE_STOPPED),
	[TH_STATE_WAITING] = BIT(TH_STATE_RUNNING) | BIT(TH_STATE_STOPPED) |
		BIT(TH_STATE_WAITING),
};

#define ALIVE (BIT(TH_STATE_RUNNING) | BIT(TH_STATE_PAUSED))
#define ASLEEP (BIT(TH_STATE_CREATED) | BIT(TH_STATE_STOPPED))

static const struct {
	const char *word;
	unsigned int states; /* in which it is possible */
} acts[] = {
	[TH_ACT_START] = {"start", ASLEEP | BIT(TH_STATE_WAITING)},
	[TH_ACT_STOP] = {"stop", ALIVE | BIT(TH_STATE_WAITING)},
	[TH_ACT_RESTART] = {"restart", ALIVE | ASLEEP | BIT(TH_STATE_WAITING)},
	[TH_ACT_KILL] = {"kill", ALIVE},
	[TH_ACT_PAUSE] = {"pause", BIT(TH_STATE_RUNNING)},
	[TH_ACT_RESUME] = {"resume", BIT(TH_STATE_PAUSED)},
	[TH_ACT_EXEC] = {"exec", BIT(TH_STATE_RUNNING)},
	[TH_ACT_ATTACH] = {"attach", ALIVE},
	[TH_ACT_REMOVE] = {"remove", ASLEEP},
};

bool th_container_is_up(const struct th_container_row *row)
{
	return !(BIT(row->state) & ASLEEP);
}

bool th_state_may_follow(enum th_state from, enum th_state to)
{
	return from < STATES && to < STATES && follow[from] & BIT(to);
}

/* "possible now: tidyhull start box; stop, remove --force". */
static int hint_possible(
	const struct th_container_row *row, struct th_error *err)
{
	char list[200] = "";
	size_t used = 0;

	for (size_t i = 0; i < sizeof(acts) / sizeof(*acts); i++) {
		if (!(acts[i].states & BIT(row->state)))
			continue;
		snprintf(list + used, sizeof(list) - used, "%s%s",
			used ? ", " : "", acts[i].word);
		used += strlen(list + used);
	}
	if (!(acts[TH_ACT_REMOVE].states & BIT(row->state)))
		snprintf(list + used, sizeof(list) - used, ", remove --force");
	return th_hint(err, "possible now: %s (tidyhull %s %s)", list,
		row->state == TH_STATE_PAUSED			      ? "resume"
			: acts[TH_ACT_START].states & BIT(row->state) ? "start"
								      : "stop",
		row->name);
}

int th_act_check(const struct th_container_row *row, enum th_act act,
	struct th_error *err)
{
	if (acts[act].states & BIT(row->state))
		return 0;
	if (act == TH_ACT_RESUME)
		th_fail(err, TH_FAILED,
			"container \"%s\" is not paused: it %s%s", row->name,
			row->state == TH_STATE_RUNNING ? "runs" : "is ",
			row->state == TH_STATE_RUNNING
				? ""
				: th_state_word(row->state));
	else if (act == TH_ACT_PAUSE && row->state == TH_STATE_PAUSED)
		th_fail(err, TH_FAILED, "container \"%s\" is already paused",
			row->name);
	else if (act == TH_ACT_START || act == TH_ACT_REMOVE ||
		row->state == TH_STATE_PAUSED)
		th_fail(err,
			act == TH_ACT_START || act == TH_ACT_REMOVE ? TH_IN_USE
								    : TH_FAILED,
			"container \"%s\" is %s", row->name,
			th_state_word(row->state));
	else
		th_fail(err, TH_FAILED,
			"container \"%s\" is not running: it is %s", row->name,
			th_state_word(row->state));
	return hint_possible(row, err);
}
