/* The state machine of containers: which step may follow which state, and what
 * a person can do in each. The only place that knows.
 *
 *            created ----------.
 *               |              | could not start
 *               v              v
 *   paused <-> running -----> stopped
 *      |        |  ^           ^ |
 *      |        v  | next try  | | start
 *      '-----> waiting --------' '--> running
 */
#ifndef TH_STORE_MACHINE_H
#define TH_STORE_MACHINE_H

#include <stdbool.h>

#include "store/container_state.h"

/* True where a step from the one state to the other is one of the machine's.
 * Running to running and waiting to waiting are steps too: a restart that a
 * person asked for, and a try that failed. */
bool th_state_may_follow(enum th_state from, enum th_state to);

/* True where the container has a keeper by its state: it runs, is paused, or
 * waits for its next try. */
bool th_container_is_up(const struct th_container_row *row);

/* What a person can ask of a container. */
enum th_act {
	TH_ACT_START,
	TH_ACT_STOP,
	TH_ACT_RESTART,
	TH_ACT_KILL,
	TH_ACT_PAUSE,
	TH_ACT_RESUME,
	TH_ACT_EXEC,
	TH_ACT_ATTACH,
	TH_ACT_REMOVE
};

/* 0 where the act is possible in the container's state. Otherwise an error
 * that says why not, with what would be possible as its hint. */
int th_act_check(const struct th_container_row *row, enum th_act act,
	struct th_error *err);

#endif
