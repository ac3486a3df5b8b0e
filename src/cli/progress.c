#include "cli/progress.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/output.h"
#include "cli/shown.h"

#define REDRAW_MS 80
#define BAR_WIDTH 30
#define LINES_MAX 24

static void draw_bar(const struct th_progress *layer)
{
	char bar[BAR_WIDTH * 3 + 1];
	const char *forbidden = getenv("NO_COLOR");
	bool plain = forbidden && *forbidden;
	size_t filled = layer->size_bytes
		? (size_t)(layer->done_bytes * BAR_WIDTH / layer->size_bytes)
		: BAR_WIDTH;
	size_t used = 0;

	for (size_t i = 0; i < BAR_WIDTH; i++) {
		const char *mark = i < filled ? "\342\226\210" : "\302\267";

		memcpy(bar + used, mark, strlen(mark));
		used += strlen(mark);
	}
	bar[used] = '\0';
	fprintf(stderr, "  %s%s%s", plain ? "" : "\033[36m", bar,
		plain ? "" : "\033[0m");
}

/* How fast it comes, and how long the rest will take at that. */
static void draw_speed(const struct th_progress *layer)
{
	int64_t spent_ms = th_clock_mono_ms() - layer->began_ms;
	uint64_t come = layer->done_bytes - layer->began_bytes, rate, left;
	char speed[SIZE_TEXT], time[TH_TIME_TEXT];

	if (!layer->began_ms || spent_ms < 300 ||
		layer->done_bytes <= layer->began_bytes)
		return;
	rate = come * 1000 / (uint64_t)spent_ms;
	left = layer->size_bytes - layer->done_bytes;
	if (rate == 0)
		return;
	size_text(rate, speed);
	/* Nobody counts fractions of a second. */
	th_clock_span((int64_t)(left / rate + 1) * 1000000, time);
	fprintf(stderr, "  %9s/s  %s left", speed, time);
}

/* What is said of each phase of docs/json.md. */
static const struct phase {
	const char *word, *text;
	bool has_bar; /* it goes on */
	bool is_end; /* of a layer; the picture at the end shows all of them */
} phases[] = {{"waiting", "waiting", false, false},
	{"here", "already here", false, true},
	{"elsewhere", "waiting: another command is downloading it", false,
		false},
	{"downloading", "downloading", true, false},
	{"unpacking", "unpacking", true, false},
	{"done", "verified and unpacked", false, true},
	{"there", "already in the registry", false, true},
	{"mounted", "mounted from another repository of the registry", false,
		true},
	{"uploading", "uploading", true, false},
	{"sent", "uploaded", false, true}};

static const struct phase *phase_of(const struct th_progress *layer)
{
	for (size_t i = 0; i < sizeof(phases) / sizeof(*phases); i++) {
		if (strcmp(phases[i].word, layer->phase) == 0)
			return &phases[i];
	}
	return &phases[0];
}

static bool is_phase(const struct th_progress *layer, const char *word)
{
	return strcmp(layer->phase, word) == 0;
}

static void draw_layer(const struct th_progress *layer)
{
	char size[SIZE_TEXT];

	size_text(layer->size_bytes, size);
	fprintf(stderr, "\r\033[K  layer %.12s  %9s", layer->digest + 7, size);
	if (phase_of(layer)->has_bar)
		draw_bar(layer);
	if (is_phase(layer, "downloading") || is_phase(layer, "uploading"))
		draw_speed(layer);
	else
		fprintf(stderr, "  %s", phase_of(layer)->text);
	fputc('\n', stderr);
}

static void draw(struct progress *progress, const struct th_progress *layers,
	size_t count)
{
	size_t shown = count > LINES_MAX ? LINES_MAX : count;

	if (progress->drawn && progress->lines)
		fprintf(stderr, "\033[%zuA", progress->lines);
	for (size_t i = 0; i < shown; i++)
		draw_layer(&layers[i]);
	if (count > shown)
		fprintf(stderr, "\r\033[K  and %zu more layers\n",
			count - shown);
	progress->lines = shown + (count > shown);
	progress->drawn = true;
	fflush(stderr);
}

/* In a pipe: a line when a layer is found here, and one when it is done. */
static void log_plainly(struct progress *progress,
	const struct th_progress *layers, size_t count)
{
	for (size_t i = 0; i < count && i < PROGRESS_LAYERS; i++) {
		const struct phase *phase = phase_of(&layers[i]);
		char size[SIZE_TEXT];

		/* What is here is told at once, and only then. */
		if (progress->told[i] == phase->word ||
			is_phase(&layers[i], "here") == progress->drawn ||
			!(phase->is_end || is_phase(&layers[i], "elsewhere")))
			continue;
		size_text(layers[i].size_bytes, size);
		fprintf(stderr, "layer %.12s %s: %s\n", layers[i].digest + 7,
			size, phase->text);
		progress->told[i] = phase->word;
	}
	progress->drawn = true;
}

void progress_show(void *owner, const struct th_progress *layers, size_t count)
{
	struct progress *progress = owner;
	int64_t now = th_clock_mono_ms();
	bool all = true;

	if (progress->quiet)
		return;
	if (!on_terminal()) {
		log_plainly(progress, layers, count);
		return;
	}
	for (size_t i = 0; i < count; i++)
		all &= phase_of(&layers[i])->is_end;
	if (!all && now < progress->next_ms)
		return;
	progress->next_ms = now + REDRAW_MS;
	draw(progress, layers, count);
}

/* ---- work on this host ---- */

/* What is over before one looks up needs no picture. */
#define LONG_MS 1000

static const char *done_word(const char *verb)
{
	static const char *const words[][2] = {{"pack", "packed"},
		{"capture", "captured"}, {"copy", "copied"},
		{"doctor", "checked"}, {"sweep", "freed"}};

	for (size_t i = 0; i < sizeof(words) / sizeof(*words); i++) {
		if (strcmp(verb, words[i][0]) == 0)
			return words[i][1];
	}
	return "done";
}

static void draw_work(struct progress *progress, uint64_t done, uint64_t all,
	int64_t spent_ms)
{
	char size[SIZE_TEXT], whole[SIZE_TEXT], speed[SIZE_TEXT];
	char left[TH_TIME_TEXT];
	uint64_t rate = done * 1000 / (uint64_t)spent_ms;

	size_text(done, size);
	size_text(all, whole);
	size_text(rate, speed);
	fprintf(stderr, "\r\033[K  %s%s%s %s, %s/s", size, all ? " of " : "",
		all ? whole : "", done_word(progress->verb), speed);
	if (rate && all > done) {
		th_clock_span(
			(int64_t)((all - done) / rate + 1) * 1000000, left);
		fprintf(stderr, ", %s left", left);
	}
	fflush(stderr);
	progress->works = true;
}

void progress_working(void *owner, uint64_t done_bytes, uint64_t all_bytes)
{
	struct progress *progress = owner;
	int64_t now = th_clock_mono_ms();

	if (!done_bytes && !all_bytes) {
		if (progress->works)
			fputs("\r\033[K", stderr);
		progress->works = false;
		progress->began_ms = 0;
		return;
	}
	if (!progress->began_ms)
		progress->began_ms = now;
	if (progress->quiet || !on_terminal() || now < progress->next_ms ||
		now - progress->began_ms < LONG_MS)
		return;
	progress->next_ms = now + REDRAW_MS;
	draw_work(progress, done_bytes, all_bytes, now - progress->began_ms);
}

void progress_notice(void *owner, const char *text)
{
	const struct progress *progress = owner;
	size_t len = strcspn(text, "\n");
	char line[512];

	if (progress->quiet)
		return;
	snprintf(line, sizeof(line), "%.*s", (int)len, text);
	say_note(line);
	/* What to do about it stands below. */
	if (text[len])
		fprintf(stderr, "  %s\n",
			shown(text + len + 1 + strspn(text + len + 1, " ")));
}

void progress_pulled(void *owner, const json_t *pulled)
{
	struct progress *progress = owner;
	const json_t *notes = doc_part(pulled, "notes");
	const char *from = doc_text(pulled, "from");

	progress_end(progress);
	if (progress->pulled) {
		progress->pulled(progress->owner, pulled);
		return;
	}
	for (size_t i = 0; !progress->quiet && i < json_array_size(notes); i++)
		say_note(doc_item(notes, i));
	if (!progress->quiet)
		fprintf(stderr, "pulled %s%s%s\n", doc_text(pulled, "name"),
			*from ? " from " : "", from);
}

void progress_end(struct progress *progress)
{
	progress->drawn = false;
	progress->lines = 0;
	progress->next_ms = 0;
	memset(progress->told, 0, sizeof(progress->told));
}
