#include "cli/stream.h"

#include <stdio.h>
#include <stdlib.h>

#include "cli/output.h"
#include "cli/shown.h"

void stream_open(
	struct stream *stream, const struct invocation *call, const char *name)
{
	stream->name = name;
	stream->lines = call->json_lines;
	stream->begun = false;
}

static void begin(struct stream *stream)
{
	if (!stream->begun && !stream->lines)
		printf("{\"%s\": [", stream->name);
	stream->begun = true;
}

void stream_put(struct stream *stream, json_t *one)
{
	bool first = !stream->begun;
	char *text;

	if (stream->lines) {
		print_json_line(one);
		return;
	}
	text = json_shown(one, JSON_COMPACT);
	begin(stream);
	if (text)
		printf("%s\n%s", first ? "" : ",", text);
	free(text);
	json_decref(one);
}

void stream_close(struct stream *stream)
{
	begin(stream);
	if (!stream->lines)
		puts("]}");
}

int stream_may_follow(const struct invocation *call, struct th_error *err)
{
	if (!call->json || call->json_lines || !option_given(call, "follow"))
		return 0;
	th_fail(err, TH_USAGE, "a JSON document has an end, --follow has none");
	return th_hint(err, "use --json-lines: one document on each line");
}
