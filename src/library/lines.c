/* The log of a container, or of a session. */
#include <stdlib.h>
#include <string.h>

#include "container/history.h"
#include "library/library.h"

struct th_lines {
	struct th_history_options options; /* the history points to them */
	struct th_history *history;
};

/* Whose log it is; session stays empty where it is the container's own. */
static int find_source(th_hull *hull, const char *name,
	char id[TH_ID_LENGTH + 1], char session[TH_ID_LENGTH + 1],
	struct th_error *err)
{
	struct th_object object;
	int rc = 0;

	session[0] = '\0';
	if (th_object_find(&hull->context, name,
		    TH_KIND_CONTAINER | TH_KIND_SESSION, &object, err))
		return -1;
	if (object.kind == TH_KIND_CONTAINER) {
		memcpy(id, object.container.id, sizeof(object.container.id));
	} else if (!object.session.background) {
		rc = th_fail(err, TH_FAILED,
			"session %s was not in the background: its output went "
			"to whoever started it",
			object.session.id);
	} else {
		memcpy(id, object.session.container,
			sizeof(object.session.container));
		memcpy(session, object.session.id, sizeof(object.session.id));
	}
	th_object_release(&object);
	return rc;
}

int th_lines_open(th_hull *hull, const char *name,
	const struct th_lines_wish *wish, th_lines **lines, th_error *error)
{
	const struct th_history_options all = TH_HISTORY_ALL;
	char id[TH_ID_LENGTH + 1], session[TH_ID_LENGTH + 1];
	struct th_error own = {0};
	struct th_lines *made;

	error = error ? error : &own;
	*lines = NULL;
	if (find_source(hull, name, id, session, error))
		return -1;
	made = calloc(1, sizeof(*made));
	if (!made)
		return th_fail_memory(error);
	made->options = all;
	made->options.since_us = wish->since_us;
	made->options.until_us = wish->until_us;
	made->options.last = wish->last < 0 ? -1 : wish->last;
	made->options.streams = wish->out == wish->err ? TH_STREAMS_BOTH
		: wish->out			       ? TH_STREAMS_OUT
						       : TH_STREAMS_ERR;
	made->options.follow = wish->follow;
	made->options.cancel = hull->context.cancel;
	th_container_record(&hull->context, id);
	if (th_history_open(hull->context.store, id,
		    session[0] ? session : NULL, &made->options, &made->history,
		    error)) {
		free(made);
		return -1;
	}
	*lines = made;
	return 0;
}

int th_lines_next(th_lines *lines, struct th_line *line, th_error *error)
{
	struct th_error own = {0};
	struct th_log_entry entry;
	int rc = th_history_next(lines->history, &entry, error ? error : &own);

	if (rc != 1)
		return rc;
	line->time_us = entry.time_us;
	line->is_error = entry.stream == TH_STREAM_ERR;
	line->more = entry.more;
	line->text = entry.data;
	line->bytes = entry.len;
	return 1;
}

bool th_lines_over(th_lines *lines)
{
	return th_history_over(lines->history);
}

bool th_lines_cut(const th_lines *lines)
{
	return th_history_cut(lines->history);
}

void th_lines_wait(th_lines *lines)
{
	th_history_wait(lines->history);
}

void th_lines_close(th_lines *lines)
{
	if (!lines)
		return;
	th_history_close(lines->history);
	free(lines);
}
