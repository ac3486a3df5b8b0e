/* Taking away, in steps, what a run leaves on the host. */
#ifndef TH_KEEPER_CLOSING_H
#define TH_KEEPER_CLOSING_H

#include <stdbool.h>
#include <stdint.h>

struct keeper;

struct closing {
	bool devices; /* the network's are on their way, or what they leave */
	int tries; /* to take the devices away */
	int64_t next_ms, until_ms;
	/* When bridges that nobody needs are taken down (0: no more), and the
	 * promise that they will be. */
	int64_t tidy_ms;
	int lingers_fd;
};

/* The group first, then EVENT_GROUP_GONE; the devices beside what comes. */
void keeper_close_run(struct keeper *keeper);
void keeper_close_devices(struct keeper *keeper);
/* True while the next run would find devices of the last one. */
bool keeper_has_devices(const struct keeper *keeper);
/* When there is something to do (of the clock that never jumps; 0: nothing),
 * doing it, and all of it at once. */
int64_t keeper_close_due(const struct keeper *keeper);
void keeper_close_work(struct keeper *keeper);
void keeper_close_all(struct keeper *keeper);
/* The bridges at the very end, when nobody waits for it any more. */
void keeper_close_bridges(struct keeper *keeper);

#endif
