/* The states of a container's keeper, and what happens in each. */
#ifndef TH_KEEPER_LIFE_H
#define TH_KEEPER_LIFE_H

#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"
#include "model/cause.h"

struct client;
struct keeper;

/*                 +------------------ RUNNING ---> STOPPING
 *                 |                      |            |
 *   STARTING -----+                      +-> DRAINING <+
 *      ^          |                             |
 *      |          +------- it failed ------> CLOSING ---> KEEPING ---> DONE
 *      |                                        |                       ^
 *      +------------------------ WAITING <------+-----------------------+
 */
enum keeper_state {
	STATE_STARTING, /* nothing of it runs yet */
	STATE_RUNNING,
	STATE_STOPPING, /* told to end, with a grace period */
	STATE_DRAINING, /* it has ended; its last output is read */
	STATE_CLOSING, /* its control group is on its way */
	STATE_WAITING, /* between two runs */
	STATE_KEEPING, /* the end is known, and stands nowhere but here */
	STATE_DONE, /* no run comes any more */
	STATE_COUNT
};

enum keeper_event {
	EVENT_ROUND, /* a round of the loop: is anything due? */
	EVENT_PROGRAM_ENDED,
	EVENT_GROUP_GONE,
	EVENT_STOP, /* for good */
	EVENT_HOST_ENDS, /* the same, until the host is there again */
	EVENT_START, /* now, and not when the wait is over */
	EVENT_RESTART,
	EVENT_COUNT
};

/* What comes with an event that somebody wanted. */
struct order {
	struct client *client; /* who hears of it; may be NULL */
	int signal;
	int64_t grace_ms;
	enum th_cause_kind cause;
	const char *actor; /* "" where it is not known */
};

/* What is to come: the next run. */
struct next_run {
	int tries; /* restarts in a row */
	int64_t at_ms; /* of the clock that never jumps */
	int64_t held_up_ms; /* since when others hold it up, or 0 */
	char asked_by[128]; /* who has asked for it, or "" */
};

/* The one place where the state changes. */
void keeper_enter(struct keeper *keeper, enum keeper_state state);
/* What the table says of the event in the present state; without an entry it
 * means nothing there. */
void keeper_event(struct keeper *keeper, enum keeper_event event,
	const struct order *order);
/* True where there is a process that hears signals. */
bool keeper_runs(const struct keeper *keeper);
/* True from a start to the end of all that the run has left inside. */
bool keeper_has_run(const struct keeper *keeper);

int keeper_watch_process(struct keeper *keeper, struct th_error *err);
/* To the end of the last run. */
void keeper_serve(struct keeper *keeper);

#endif
