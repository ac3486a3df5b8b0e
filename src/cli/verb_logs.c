/* logs: what programs wrote. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/each.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/stream.h"
#include "cli/verbs.h"

/* One log that is printed, and its next line. */
struct source {
	char *name;
	th_lines *lines;
	struct th_line line;
	bool has_line, over;
	bool open_line[2]; /* the stream's last entry goes on */
};

struct printing {
	bool times, json;
	bool visible[2]; /* control characters are shown, on this stream */
	struct stream stream; /* where json is set */
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

/* What is no UTF-8 goes as base 64, and has no text. */
static json_t *base64_json(const struct th_line *line)
{
	struct th_buf coded;
	json_t *text;

	th_buf_init(&coded, 2 * line->bytes + 8);
	th_buf_base64(&coded, line->text, line->bytes);
	text = json_string(coded.data);
	th_buf_release(&coded);
	return text;
}

static json_t *line_json(
	const struct source *source, const struct th_line *line)
{
	char time[TH_TIME_TEXT];
	json_t *said = json_stringn(line->text, line->bytes);

	th_clock_format(line->time_us, time);
	return json_pack("{s:s s:s s:s s:b s:o s:o}", "container", source->name,
		"time", time, "stream", line->is_error ? "err" : "out", "more",
		(int)line->more, "text", said ? said : json_null(), "base64",
		said ? json_null() : base64_json(line));
}

static void print_time(int64_t time_us, FILE *to)
{
	char time[TH_TIME_TEXT];

	th_clock_format(time_us, time);
	fprintf(to, "%s  ", time);
}

static void print_line(struct printing *printing, struct source *source)
{
	const struct th_line *line = &source->line;
	FILE *to = line->is_error ? stderr : stdout;
	bool *open_line = &source->open_line[line->is_error];

	if (printing->json) {
		stream_put(&printing->stream, line_json(source, line));
		return;
	}
	/* Streams that end up in the same place keep their order. */
	if (to == stderr)
		fflush(stdout);
	if (!*open_line) {
		print_prefix(printing, source, to);
		if (printing->times)
			print_time(line->time_us, to);
	}
	if (printing->visible[line->is_error])
		print_written(to, line->text, line->bytes);
	else
		fwrite_unlocked(line->text, 1, line->bytes, to);
	/* With several, each line is whole. */
	if (!line->more || printing->width)
		putc_unlocked('\n', to);
	*open_line = line->more && !printing->width;
}

static int bad_last(const char *last, struct th_error *err)
{
	th_fail(err, TH_USAGE, "\"%.30s\" is not a number of lines", last);
	return th_hint(err, "for example --last 50; since a time: --since 10m");
}

static int read_options(struct invocation *call, struct th_lines_wish *wish,
	struct th_error *err)
{
	const char *last = option_value(call, "last");
	const char *stream = option_value(call, "stream");
	char *end;

	wish->last = -1;
	wish->follow = option_given(call, "follow");
	if (last) {
		wish->last = strtol(last, &end, 10);
		if (end == last || *end || wish->last < 0)
			return bad_last(last, err);
	}
	wish->out = stream && strcmp(stream, "out") == 0;
	wish->err = stream && strcmp(stream, "err") == 0;
	if (stream && !wish->out && !wish->err)
		return th_fail(err, TH_USAGE,
			"\"%.30s\" is not a value of --stream; use out or err",
			stream);
	if (read_time(option_value(call, "since"), &wish->since_us, err))
		return -1;
	return read_time(option_value(call, "until"), &wish->until_us, err);
}

/* The source whose line is the earliest; NULL where none has one. */
static struct source *earliest(struct printing *printing)
{
	struct source *best = NULL;

	for (size_t i = 0; i < printing->count; i++) {
		struct source *one = &printing->sources[i];

		if (one->has_line &&
			(!best || one->line.time_us < best->line.time_us))
			best = one;
	}
	return best;
}

/* Gets the next line of all that have none; -1 with an error. */
static int refill(struct printing *printing, struct th_error *err)
{
	for (size_t i = 0; i < printing->count; i++) {
		struct source *one = &printing->sources[i];
		int rc;

		if (one->has_line || one->over)
			continue;
		rc = th_lines_next(one->lines, &one->line, err);
		if (rc < 0)
			return -1;
		one->has_line = rc == 1;
		if (rc == 0)
			one->over = th_lines_over(one->lines);
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
			print_line(printing, source);
			source->has_line = false;
			continue;
		}
		source = still_open(printing);
		if (!source)
			break;
		fflush(stdout);
		th_lines_wait(source->lines);
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

/* Under the name that it is told by. */
static int open_source(struct invocation *call, const char *name,
	const struct th_lines_wish *wish, struct source *source,
	struct th_error *err)
{
	json_t *object = NULL;
	int rc = th_object(call->hull, name,
		TH_KIND_CONTAINER | TH_KIND_SESSION, TH_BRIEF, &object, err);

	memset(source, 0, sizeof(*source));
	if (rc == 0) {
		source->name = strdup(doc_text(object,
			strcmp(doc_text(object, "kind"), "session") == 0
				? "id"
				: "name"));
		rc = source->name ? 0 : th_fail_memory(err);
	}
	if (rc == 0)
		rc = th_lines_open(call->hull, doc_text(object, "id"), wish,
			&source->lines, err);
	json_decref(object);
	if (rc)
		free(source->name);
	return rc;
}

static int run(struct invocation *call)
{
	bool raw = option_given(call, "raw");
	struct printing printing = {.times = option_given(call, "times"),
		.json = call->json,
		.visible = {!raw && isatty(1), !raw && isatty(2)}};
	struct th_lines_wish wish = {0};
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (read_options(call, &wish, &err) || stream_may_follow(call, &err))
		return say_error(&err);
	stream_open(&printing.stream, call, "lines");
	printing.sources =
		calloc((size_t)call->object_count, sizeof(*printing.sources));
	for (int i = 0; printing.sources && i < call->object_count; i++) {
		struct source *source = &printing.sources[printing.count];
		size_t width;

		th_error_clear(&err);
		if (open_source(call, call->objects[i], &wish, source, &err)) {
			code = say_error(&err);
			continue;
		}
		if (th_lines_cut(source->lines) && !call->quiet)
			note_cut(source->name);
		printing.count++;
		width = strlen(source->name);
		if (call->object_count > 1 && width > printing.width)
			printing.width = width;
	}
	th_error_clear(&err);
	if (print_all(&printing, &err))
		code = say_error(&err);
	if (call->json)
		stream_close(&printing.stream);
	for (size_t i = 0; i < printing.count; i++) {
		th_lines_close(printing.sources[i].lines);
		free(printing.sources[i].name);
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
	.called = "log tail output journal stdout less more",
	.takes = "container session group",
	.summary = "show what programs have written",
	.usage = "CONTAINER|SESSION...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_LINES | VERB_GROUPS,
	.least = 1,
	.most = -1,
	.run = run};
