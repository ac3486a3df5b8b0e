/* logs: what programs wrote. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "container/history.h"
#include "view/look.h"

/* One log that is printed, and its next entry. */
struct source {
	char name[TH_NAME_MAX];
	char container[TH_ID_LENGTH + 1];
	char session[TH_ID_LENGTH + 1]; /* "" for the container's own */
	struct th_history *history;
	struct th_log_entry entry;
	bool has_entry, over;
	bool open_line[2]; /* the stream's last entry goes on */
};

struct printing {
	bool times, json, raw;
	size_t width; /* of names; 0: they are not told */
	struct source *sources;
	size_t count;
};

static void print_prefix(
	const struct printing *printing, const struct source *source, FILE *to)
{
	/* Of the 256 colours: middle tones that can be read on dark and on
	 * light ground, neighbours far apart. No red: that would look like an
	 * error. */
	static const int shades[] = {37, 172, 104, 71, 133, 67, 137, 30};
	size_t number = (size_t)(source - printing->sources);

	if (!printing->width)
		return;
	if (colours())
		fprintf(to, "\033[38;5;%dm%s:\033[0m",
			shades[number % (sizeof(shades) / sizeof(*shades))],
			source->name);
	else
		fprintf(to, "%s:", source->name);
	fprintf(to, "%*s", (int)(printing->width - strlen(source->name)) + 1,
		"");
}

static void print_json_line(
	const struct source *source, const struct th_log_entry *entry)
{
	json_t *doc = th_view_log_entry(source->name, entry);
	char *line = json_shown(doc, JSON_COMPACT);

	if (line)
		puts(line);
	free(line);
	json_decref(doc);
}

static void print_entry(struct printing *printing, struct source *source)
{
	const struct th_log_entry *entry = &source->entry;
	FILE *to = entry->stream == TH_STREAM_OUT ? stdout : stderr;
	bool *open_line = &source->open_line[entry->stream];
	char time[TH_TIME_TEXT];

	if (printing->json) {
		print_json_line(source, entry);
		return;
	}
	/* Streams that end up in the same place keep their order. */
	if (to == stderr)
		fflush(stdout);
	if (!*open_line) {
		print_prefix(printing, source, to);
		th_clock_format(entry->time_us, time);
		if (printing->times)
			fprintf(to, "%s  ", time);
	}
	if (printing->raw || !isatty(fileno(to)))
		fwrite(entry->data, 1, entry->len, to);
	else
		print_written(to, entry->data, entry->len);
	/* With several, each line is whole. */
	if (!entry->more || printing->width)
		fputc('\n', to);
	*open_line = entry->more && !printing->width;
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
		"for example 10m for ten minutes ago, or 2026-03-01T05:12:00Z");
}

static int read_options(struct invocation *call,
	struct th_history_options *options, struct th_error *err)
{
	const char *last = option_value(call, "last");
	const char *stream = option_value(call, "stream");
	char *end;

	options->follow = option_given(call, "follow");
	options->cancel = call->hull.context.cancel;
	if (last) {
		options->last = strtol(last, &end, 10);
		if (end == last || *end || options->last < 0)
			return th_fail(err, TH_USAGE,
				"\"%.30s\" is not a number of lines", last);
	}
	if (stream && strcmp(stream, "out") == 0)
		options->streams = TH_STREAMS_OUT;
	else if (stream && strcmp(stream, "err") == 0)
		options->streams = TH_STREAMS_ERR;
	else if (stream)
		return th_fail(err, TH_USAGE,
			"\"%.30s\" is not a value of --stream; use out or err",
			stream);
	if (read_time(option_value(call, "since"), &options->since_us, err))
		return -1;
	return read_time(option_value(call, "until"), &options->until_us, err);
}

static int find_source(struct invocation *call, const char *name,
	struct source *source, struct th_error *err)
{
	struct th_object object;

	if (th_object_find(&call->hull.context, name,
		    TH_KIND_CONTAINER | TH_KIND_SESSION, &object, err))
		return -1;
	if (object.kind == TH_KIND_CONTAINER) {
		snprintf(source->name, sizeof(source->name), "%s",
			object.container.name);
		snprintf(source->container, sizeof(source->container), "%s",
			object.container.id);
		return 0;
	}
	if (!object.session.background) {
		th_fail(err, TH_FAILED,
			"session %s was not in the background: its output went "
			"to whoever started it",
			object.session.id);
		return -1;
	}
	snprintf(source->name, sizeof(source->name), "%s", object.session.id);
	snprintf(source->session, sizeof(source->session), "%s",
		object.session.id);
	snprintf(source->container, sizeof(source->container), "%s",
		object.session.container);
	return 0;
}

/* The source whose entry is the earliest; NULL where none has one. */
static struct source *earliest(struct printing *printing)
{
	struct source *best = NULL;

	for (size_t i = 0; i < printing->count; i++) {
		struct source *one = &printing->sources[i];

		if (one->has_entry &&
			(!best || one->entry.time_us < best->entry.time_us))
			best = one;
	}
	return best;
}

/* Gets the next entry of all that have none; -1 with an error. */
static int refill(struct printing *printing, struct th_error *err)
{
	for (size_t i = 0; i < printing->count; i++) {
		struct source *one = &printing->sources[i];
		int rc;

		if (one->has_entry || one->over)
			continue;
		rc = th_history_next(one->history, &one->entry, err);
		if (rc < 0)
			return -1;
		one->has_entry = rc == 1;
		if (rc == 0)
			one->over = th_history_over(one->history);
	}
	return 0;
}

static struct source *still_open(struct printing *printing)
{
	for (size_t i = 0; i < printing->count; i++) {
		if (!printing->sources[i].over)
			return &printing->sources[i];
	}
	return NULL;
}

static int print_all(struct printing *printing, struct th_error *err)
{
	struct source *source;

	while (!ferror(stdout) && !ferror(stderr)) {
		if (refill(printing, err))
			return -1;
		source = earliest(printing);
		if (source) {
			print_entry(printing, source);
			free(source->entry.data);
			source->has_entry = false;
			continue;
		}
		source = still_open(printing);
		if (!source)
			break;
		fflush(stdout);
		th_history_wait(source->history);
	}
	return 0;
}

static void note_cut(const char *name)
{
	char text[200];

	snprintf(text, sizeof(text),
		"the oldest lines of %.60s are no longer kept; create it with "
		"--log files=N to keep more",
		name);
	say_note(text);
}

static int run(struct invocation *call)
{
	struct printing printing = {.times = option_given(call, "times"),
		.json = call->json,
		.raw = option_given(call, "raw")};
	struct th_history_options options = TH_HISTORY_ALL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (read_options(call, &options, &err))
		return say_error(&err);
	printing.sources =
		calloc((size_t)call->object_count, sizeof(*printing.sources));
	for (int i = 0; printing.sources && i < call->object_count; i++) {
		struct source *source = &printing.sources[printing.count];
		size_t width;

		th_error_clear(&err);
		memset(source, 0, sizeof(*source));
		if (find_source(call, call->objects[i], source, &err) == 0)
			th_container_record(
				&call->hull.context, source->container);
		if (err.code ||
			th_history_open(call->hull.context.store,
				source->container,
				source->session[0] ? source->session : NULL,
				&options, &source->history, &err)) {
			code = say_error(&err);
			continue;
		}
		if (th_history_cut(source->history) && !call->quiet)
			note_cut(source->name);
		printing.count++;
		width = strlen(source->name);
		if (call->object_count > 1 && width > printing.width)
			printing.width = width;
	}
	th_error_clear(&err);
	if (print_all(&printing, &err))
		code = say_error(&err);
	for (size_t i = 0; i < printing.count; i++) {
		if (printing.sources[i].has_entry)
			free(printing.sources[i].entry.data);
		th_history_close(printing.sources[i].history);
	}
	free(printing.sources);
	return code;
}

static const struct option_spec options[] = {
	{"follow", NULL, "continue until the container ends, across restarts"},
	{"last", "N", "only the last N lines"},
	{"since", "TIME",
		"only from this time on: 10m, or 2026-03-01T05:12:00Z"},
	{"until", "TIME", "only up to this time"},
	{"stream", "WHICH", "only out, or only err"},
	{"times", NULL, "show the time of each line"},
	{"raw", NULL, "let control characters through to the terminal"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Works for running and ended containers, and for background sessions.",
	"Output written to standard error comes out on standard error. Several",
	"logs are merged by time, each line prefixed with its container's",
	"name. On a terminal, colours pass and other control characters are",
	"shown as <U+001B>; elsewhere all comes out as it was written.", NULL};

static const char *const examples[] = {"tidyhull logs gauge-north",
	"tidyhull logs --follow --last 10 gauge-north gauge-south",
	"tidyhull logs --since 10m --stream err ledger", NULL};

const struct verb verb_logs = {.name = "logs",
	.group = "look",
	.summary = "show what programs have written",
	.usage = "CONTAINER|SESSION...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS,
	.least = 1,
	.most = -1,
	.run = run};
