/* An end that the state cannot take: a full, locked or read-only disk. Whoever
 * asks hears of it from here. */
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "keeper/keeper.h"

void keeper_keep(struct keeper *keeper)
{
	keeper_release_run(keeper);
	/* From the file the next command takes it. */
	if (!keeper->records ||
		(keeper->end_written &&
			th_clock_mono_ms() >= keeper->keep_until_ms))
		keeper->phase = PHASE_END;
}

void keeper_tell_state(struct client *client)
{
	struct keeper *keeper = client->keeper;
	char *text = NULL;

	if (keeper->phase != PHASE_RUN || keeper->ended)
		text = th_end_format(&keeper->end);
	keeper_tell(client, TH_TELL_STATE, text ? text : "{}",
		text ? strlen(text) : 2);
	free(text);
}

void keeper_handle_kept(struct client *client, const struct th_message *message)
{
	struct th_error err = {0};

	switch (message->type) {
	case TH_SAY_STATE:
		keeper_tell_state(client);
		return;
	case TH_SAY_STOP:
	case TH_SAY_WAIT:
		keeper_tell_end(client, &client->keeper->ending);
		return;
	default:
		th_fail(&err, TH_FAILED,
			"container \"%s\" has ended, which cannot be recorded "
			"yet: the disk of the store does not take it",
			client->keeper->row.name);
		keeper_tell(client, TH_TELL_FAILED, &err, sizeof(err));
	}
}
