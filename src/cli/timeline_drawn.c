#include "cli/timeline_drawn.h"

#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/draw.h"
#include "cli/output.h"
#include "cli/shown.h"

#define NAME_WIDTH 20
/* For the state that it is in now; the rest is the bar's. */
#define STATE_WIDTH 26
#define BAR_LEAST 20
#define BAR_MOST 400

enum what { NOTHING, CREATED, RUNNING, PAUSED, WAITING, AILING, WHATS };

static const struct {
	const char *word, *block, *letter, *colour;
} looks[WHATS] = {[NOTHING] = {"", " ", " ", ""},
	[CREATED] = {"created", "\u00b7", ".", "\033[36m"},
	[RUNNING] = {"running", "\u2586", "#", "\033[32m"},
	[PAUSED] = {"paused", "\u2592", "=", "\033[33m"},
	[WAITING] = {"waiting", "\u2591", "-", "\033[33m"},
	[AILING] = {"ailing", "\u2593", "!", "\033[31m"}};

struct span {
	int64_t from_us;
	enum what what;
};

struct bar {
	char id[40];
	json_t *last; /* event */
	json_t *end; /* the last one that says how a run has ended */
	struct span *spans; /* each until the next one */
	size_t count;
};

/* ---- taking ---- */

static enum what what_after(const json_t *event, enum what before)
{
	const char *to = doc_text(event, "to");
	const char *kind = doc_text(event, "kind");

	if (strcmp(to, "paused") == 0)
		return PAUSED;
	if (strcmp(to, "waiting") == 0)
		return WAITING;
	if (strcmp(to, "created") == 0)
		return CREATED;
	if (strcmp(to, "running") != 0)
		return NOTHING;
	if (strcmp(kind, "probe-failed") == 0)
		return AILING;
	/* What else happens while it runs does not make it well. */
	if (before == AILING && strcmp(kind, "probe-succeeded") != 0 &&
		strcmp(doc_text(event, "from"), "running") == 0)
		return AILING;
	return RUNNING;
}

static struct bar *bar_of(struct drawn *drawn, const char *id)
{
	struct bar *bars;

	/* It is probably one of the last. */
	for (size_t i = drawn->count; i > 0; i--) {
		if (strcmp(drawn->bars[i - 1].id, id) == 0)
			return &drawn->bars[i - 1];
	}
	bars = realloc(drawn->bars, (drawn->count + 1) * sizeof(*bars));
	if (!bars)
		abort();
	drawn->bars = bars;
	memset(&bars[drawn->count], 0, sizeof(*bars));
	snprintf(bars[drawn->count].id, sizeof(bars->id), "%s", id);
	return &bars[drawn->count++];
}

void drawn_take(struct drawn *drawn, const json_t *event)
{
	struct bar *bar = bar_of(drawn, doc_text(event, "container"));
	enum what before =
		bar->count ? bar->spans[bar->count - 1].what : NOTHING;
	struct span *spans =
		realloc(bar->spans, (bar->count + 1) * sizeof(*spans));

	if (!spans)
		abort();
	bar->spans = spans;
	spans[bar->count].from_us = doc_time(event, "time");
	spans[bar->count].what = what_after(event, before);
	bar->count++;
	json_decref(bar->last);
	bar->last = json_incref((json_t *)(uintptr_t)event);
	if (*doc_text(event, "outcome")) {
		json_decref(bar->end);
		bar->end = json_incref(bar->last);
	}
}

void drawn_release(struct drawn *drawn)
{
	for (size_t i = 0; i < drawn->count; i++) {
		json_decref(drawn->bars[i].last);
		json_decref(drawn->bars[i].end);
		free(drawn->bars[i].spans);
	}
	free(drawn->bars);
}

/* ---- drawing ---- */

struct frame {
	int64_t from_us, to_us;
	int width; /* of the bars */
	int name_width;
	int state_width;
};

/* What there was most of in a column of the picture: of what goes on, rather
 * than of what waits to begin, as short runs are what one looks for. */
static enum what most_of(const struct bar *bar, int64_t from, int64_t to)
{
	int64_t times[WHATS] = {0};
	enum what most = NOTHING;

	for (size_t i = 0; i < bar->count; i++) {
		int64_t start = bar->spans[i].from_us;
		int64_t end =
			i + 1 < bar->count ? bar->spans[i + 1].from_us : to;

		if (start >= to || (end < from && i + 1 < bar->count))
			continue;
		start = start < from ? from : start;
		end = end > to ? to : end;
		/* What took no time has been there all the same. */
		if (end >= start)
			times[bar->spans[i].what] += end - start + 1;
	}
	for (int what = CREATED; what < WHATS; what++) {
		if (times[what] &&
			(most <= CREATED || times[what] > times[most]))
			most = (enum what)what;
	}
	return most;
}

static void draw_cells(const struct frame *frame, const struct bar *bar)
{
	double step = (double)(frame->to_us - frame->from_us) / frame->width;
	enum what before = NOTHING;

	for (int i = 0; i < frame->width; i++) {
		int64_t from = frame->from_us + (int64_t)(step * i);
		int64_t to = frame->from_us + (int64_t)(step * (i + 1));
		enum what what = most_of(bar, from, to);

		if (colours() && what != before)
			printf("%s%s", before ? "\033[0m" : "",
				looks[what].colour);
		fputs(draws_blocks() ? looks[what].block : looks[what].letter,
			stdout);
		before = what;
	}
	if (colours() && before)
		fputs("\033[0m", stdout);
}

/* As lists tell it: "stopped: exit code 3"; and what caused it, where there is
 * room. */
static void draw_state(const struct frame *frame, const struct bar *bar)
{
	const char *to = doc_text(bar->last, "to");
	bool ailing = bar->spans[bar->count - 1].what == AILING;
	json_t *like = json_pack("{s:s s:s? s:{s:s s:s s:O? s:O?} s:{}}",
		"state", to, "health", ailing ? "ailing" : NULL, "outcome",
		"kind", doc_text(bar->end, "outcome"), "cause",
		doc_text(bar->end, "kind"), "exit-code",
		json_object_get(bar->end, "code"), "signal",
		json_object_get(bar->end, "code"), "restart");
	const char *cause = shown(doc_text(bar->end, "cause"));
	char cause_of_end[200];
	char state[96];
	int used;

	snprintf(cause_of_end, sizeof(cause_of_end), "%.*s",
		(int)strcspn(cause, ";"), cause);
	state_text(like, state);
	if (strcmp(to, "waiting") == 0)
		snprintf(state, sizeof(state), "waiting");
	used = printf("  %.*s", frame->state_width - 2, state);
	if (bar->end && strcmp(to, "running") != 0 &&
		frame->state_width - used > 20)
		/* What comes next stands behind the semicolon. */
		printf(", %.*s", frame->state_width - used - 2, cause_of_end);
	json_decref(like);
}

static void draw_bar_line(const struct frame *frame, const struct bar *bar)
{
	char name[BAR_TEXT];

	draw_middle(
		shown(doc_text(bar->last, "name")), frame->name_width, name);
	printf("%s%-*s%s ", colours() ? "\033[1m" : "", frame->name_width, name,
		colours() ? "\033[0m" : "");
	draw_cells(frame, bar);
	draw_state(frame, bar);
	putchar('\n');
}

/* The times at both ends, and how long it is. */
static void draw_axis(const struct frame *frame)
{
	char from[TH_TIME_TEXT], to[TH_TIME_TEXT], span[TH_TIME_TEXT];
	bool days;
	int left;

	th_clock_format(frame->from_us, from);
	th_clock_format(frame->to_us, to);
	th_clock_span(frame->to_us - frame->from_us, span);
	days = strncmp(from, to, 10) != 0;
	from[10] = to[10] = ' ';
	left = frame->width - 2 * (days ? 16 : 8) - (int)strlen(span);
	printf("%*s%.*s%*s%s%*s%.*s\n", frame->name_width + 1, "",
		days ? 16 : 8, days ? from : from + 11,
		left / 2 > 1 ? left / 2 : 1, "", span,
		left - left / 2 > 1 ? left - left / 2 : 1, "", days ? 16 : 8,
		days ? to : to + 11);
}

static void draw_legend(const struct frame *frame, const bool seen[WHATS])
{
	printf("%*s", frame->name_width + 1, "");
	for (int what = CREATED; what < WHATS; what++) {
		if (!seen[what])
			continue;
		printf("%s%s%s %s   ", colours() ? looks[what].colour : "",
			draws_blocks() ? looks[what].block : looks[what].letter,
			colours() ? "\033[0m" : "", looks[what].word);
	}
	putchar('\n');
}

static bool is_within(const struct frame *frame, const struct bar *bar)
{
	return bar->spans[bar->count - 1].what != NOTHING ||
		bar->spans[bar->count - 1].from_us >= frame->from_us;
}

static void set_frame(
	struct frame *frame, const struct drawn *drawn, int64_t since_us)
{
	int columns = draw_columns();

	frame->to_us = th_clock_now_us();
	frame->from_us = since_us;
	for (size_t i = 0; i < drawn->count; i++) {
		int len = (int)strlen(doc_text(drawn->bars[i].last, "name"));

		if (!since_us &&
			(i == 0 ||
				drawn->bars[i].spans[0].from_us <
					frame->from_us))
			frame->from_us = drawn->bars[i].spans[0].from_us;
		if (len > frame->name_width)
			frame->name_width = len;
	}
	if (frame->name_width > NAME_WIDTH && columns < 2 * NAME_WIDTH + 80)
		frame->name_width = NAME_WIDTH;
	frame->state_width = columns < 120 ? STATE_WIDTH : columns / 3;
	frame->width = columns - frame->name_width - 1 - frame->state_width;
	if (frame->width < BAR_LEAST)
		frame->width = BAR_LEAST;
	if (frame->width > BAR_MOST)
		frame->width = BAR_MOST;
}

void drawn_print(struct drawn *drawn, int64_t since_us)
{
	struct frame frame = {.name_width = 1};
	bool seen[WHATS] = {false};

	set_frame(&frame, drawn, since_us);
	for (size_t i = 0; i < drawn->count; i++) {
		const struct bar *bar = &drawn->bars[i];

		if (!is_within(&frame, bar))
			continue;
		draw_bar_line(&frame, bar);
		for (size_t k = 0; k < bar->count; k++)
			seen[bar->spans[k].what] = true;
	}
	draw_axis(&frame);
	draw_legend(&frame, seen);
}
