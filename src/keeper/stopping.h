/* Signals to the program, and the stop with its grace period. */
#ifndef TH_KEEPER_STOPPING_H
#define TH_KEEPER_STOPPING_H

#include <stdbool.h>
#include <stdint.h>

#include "model/cause.h"

struct keeper;

/* Who has wanted what of this run. */
struct stopping {
	bool asked; /* it is to end */
	bool by_force; /* the grace period was over */
	bool by_person; /* the stop is one that holds */
	bool once_more; /* it is half of a restart */
	bool ailing; /* because of its probe */
	int64_t force_ms; /* when the grace period is over */
	char actor[128]; /* of the stop, or "" */
	struct th_cause cause;
	/* The last signal that a person sent, which may be why it ends. */
	int sent;
	bool sent_holds; /* as a stop does */
	int64_t sent_ms;
	char sent_by[128];
	int stands_for; /* the signal that a hard kill was sent for */
};

/* To the program itself. */
void keeper_signal(struct keeper *keeper, int number);
/* The same of a person, whose doing its end may be; holds: as a stop does. */
void keeper_send_signal(
	struct keeper *keeper, int number, bool holds, const char *actor);
void keeper_begin_stop(struct keeper *keeper, int number, int64_t grace_ms,
	const struct th_cause *cause, const char *actor);
/* The grace period is over. */
void keeper_force(struct keeper *keeper);
/* Kills it: whoever it was started for has gone. */
void keeper_end_bound(struct keeper *keeper);
/* Before the next run. */
void keeper_forget_stop(struct keeper *keeper);

#endif
