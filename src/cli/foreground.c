#include "cli/foreground.h"

#include <unistd.h>

#include "base/file.h"
#include "cli/attach.h"
#include "cli/output.h"

static int code_of(const struct th_error *err)
{
	return err->code == TH_NO_PROGRAM ? EXIT_NO_PROGRAM
		: err->code == TH_NO_EXEC ? EXIT_NO_EXEC
					  : EXIT_TOOL;
}

int foreground_run(
	struct invocation *call, struct th_container_row *row, bool terminal)
{
	struct th_ending ending = {0};
	struct th_error err = {0}, ignored = {0}; /* swept later */
	struct attach_options attach = {.context = &call->hull.context,
		.row = row,
		.channel = -1,
		.console = -1,
		.input = true,
		.terminal = terminal && isatty(0),
		.pass_signals = true};
	struct leave_keys keys;
	int rc;

	if (attach_keys(call, &keys, &err)) {
		th_container_remove(&call->hull.context, row, true, &ignored);
		say_error(&err);
		return EXIT_TOOL;
	}
	attach.leave = &keys;
	attach_prepare();
	if (th_container_start(&call->hull.context, row, TH_ATTACHED_INPUT,
		    attach_size(), &attach.channel, &err)) {
		th_container_remove(&call->hull.context, row, true, &ignored);
		say_error(&err);
		return code_of(&err);
	}
	th_state_get(call->hull.context.store->db, row->id, row, &ignored);
	rc = attach_run(&attach, &ending, &err);
	th_close(&attach.channel);
	return attach_code(call, &attach, rc, &ending, &err);
}
