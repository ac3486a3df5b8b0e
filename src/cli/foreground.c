#include "cli/foreground.h"

#include <unistd.h>

#include "cli/attach.h"
#include "cli/doc.h"
#include "cli/output.h"

/* Half a run is none. */
static int give_up(
	struct invocation *call, const char *id, const struct th_error *err)
{
	struct th_error ignored = {0}; /* swept later */

	th_remove(call->hull, id, TH_KIND_CONTAINER, true, NULL, &ignored);
	say_error(err);
	return attach_failure(err);
}

int foreground_run(
	struct invocation *call, const json_t *container, bool terminal)
{
	const char *id = doc_text(container, "id");
	struct th_news end = {.told = TH_TOLD_NOTHING};
	struct th_error err = {0};
	struct leave_keys keys;
	struct attach_options attach = {.name = doc_text(container, "name"),
		.input = true,
		.terminal = terminal && isatty(0),
		.pass_signals = true,
		.leave = &keys};
	int rc;

	if (attach_keys(call, &keys, &err))
		return give_up(call, id, &err);
	attach_prepare();
	if (th_talk_start(call->hull, id, attach_size(), &attach.talk, &err))
		return give_up(call, id, &err);
	rc = attach_run(&attach, &end, &err);
	th_talk_close(attach.talk);
	return attach_code(call, &attach, rc, &end, &err);
}
