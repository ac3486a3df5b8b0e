/* Freezing and thawing all processes of the container. */
#ifndef TH_KEEPER_PAUSING_H
#define TH_KEEPER_PAUSING_H

#include <stdbool.h>
#include <stdint.h>

#include "ipc/words.h"

struct client;
struct keeper;

struct pausing {
	bool paused; /* the control group is frozen */
	/* While its processes are on their way there: */
	struct client *client; /* who has asked for it; NULL: nobody */
	bool hold; /* for as long as the client is there */
	char actor[128];
	int64_t next_ms, until_ms;
};

void keeper_pause_request(
	struct client *client, const struct th_message *message);
/* Lets it go on where the command that paused it for a while has gone. */
void keeper_end_hold(struct keeper *keeper);
/* Lets a paused container go on, so that it can hear that it is to end. */
void keeper_thaw(struct keeper *keeper);
bool keeper_is_pausing(const struct keeper *keeper);
/* When there is something to do (of the clock that never jumps; 0: nothing),
 * and doing it. */
int64_t keeper_pause_due(const struct keeper *keeper);
void keeper_pause_work(struct keeper *keeper);
/* Whoever wanted it goes without an answer. */
void keeper_forget_pause(struct client *client);

#endif
