/* logs: what the program wrote. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "container/history.h"

struct printing {
	bool times, json;
	bool open_line[2]; /* the stream's last entry goes on */
};

static bool print_entry(void *owner, const struct th_log_entry *entry)
{
	struct printing *printing = owner;
	FILE *to = entry->stream == TH_STREAM_OUT ? stdout : stderr;
	char time[TH_TIME_TEXT];

	th_clock_format(entry->time_us, time);
	if (printing->json) {
		/* Bytes that are no text come as they are in the log. */
		json_t *text = json_stringn(entry->data, entry->len);
		char *line;

		line = text
			? json_dumps(json_pack("{s:s s:s s:o s:b}", "time",
					     time, "stream",
					     entry->stream == TH_STREAM_OUT
						     ? "out"
						     : "err",
					     "text", text, "more", entry->more),
				  JSON_COMPACT)
			: NULL;
		if (line)
			puts(line);
		free(line);
		return !ferror(stdout);
	}
	/* Streams that end up in the same place keep their order. */
	if (to == stderr)
		fflush(stdout);
	if (printing->times && !printing->open_line[entry->stream])
		fprintf(to, "%s  ", time);
	fwrite(entry->data, 1, entry->len, to);
	if (!entry->more)
		fputc('\n', to);
	printing->open_line[entry->stream] = entry->more;
	return !ferror(to);
}

/* A point in time, or a span back from now. */
static int read_time(const char *text, int64_t *time_us, struct th_error *err)
{
	int64_t span;

	if (!text)
		return 0;
	if (th_clock_parse_span(text, &span) == 0) {
		*time_us = th_clock_now_us() - span;
		return 0;
	}
	if (th_clock_parse(text, time_us) == 0)
		return 0;
	th_fail(err, TH_USAGE, "\"%.60s\" is not a time", text);
	return th_hint(err,
		"write 10m for ten minutes ago, or "
		"2026-03-01T05:12:00Z");
}

static int read_options(struct invocation *call,
	struct th_history_options *options, struct th_error *err)
{
	const char *last = option_value(call, "last");
	char *end;

	memset(options, 0, sizeof(*options));
	options->last = -1;
	options->follow = option_given(call, "follow");
	options->cancel = call->context.cancel;
	if (last) {
		options->last = strtol(last, &end, 10);
		if (end == last || *end || options->last < 0)
			return th_fail(err, TH_USAGE,
				"\"%.30s\" is not a number of lines", last);
	}
	if (read_time(option_value(call, "since"), &options->since_us, err))
		return -1;
	return read_time(option_value(call, "until"), &options->until_us, err);
}

static int run(struct invocation *call)
{
	struct printing printing = {
		.times = option_given(call, "times"), .json = call->json};
	struct th_history_options options;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (read_options(call, &options, &err))
		return say_error(&err);
	if (options.follow)
		setvbuf(stdout, NULL, _IOLBF, 8192);
	for (int i = 0; i < call->object_count; i++) {
		struct th_object object;

		th_error_clear(&err);
		if (th_object_find(&call->context, call->objects[i],
			    TH_KIND_CONTAINER, &object, &err) ||
			th_history_read(call->context.store,
				object.container.id, &options, print_entry,
				&printing, &err))
			code = say_error(&err);
	}
	return code;
}

static const struct option_spec options[] = {
	{"follow", NULL, "go on until the container ends"},
	{"last", "N", "only the last N lines"},
	{"since", "TIME", "only from then on: 10m, or 2026-03-01T05:12:00Z"},
	{"until", "TIME", "only up to then"},
	{"times", NULL, "the time before each line"}, {NULL, NULL, NULL}};

static const char *const text[] = {
	"Works for containers that run and for those that have ended. What the",
	"program wrote to its standard error comes on standard error.", NULL};

static const char *const examples[] = {"tidyhull logs gauge-north",
	"tidyhull logs --follow --last 10 gauge-north", NULL};

const struct verb verb_logs = {.name = "logs",
	.group = "look",
	.summary = "what the program wrote",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON,
	.least = 1,
	.most = -1,
	.run = run};
