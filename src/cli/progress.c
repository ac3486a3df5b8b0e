#include "cli/progress.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/output.h"
#include "cli/shown.h"

#define REDRAW_MS 80
#define BAR_WIDTH 30
#define LINES_MAX 24

static void draw_bar(const struct th_layer_progress *layer)
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
static void draw_speed(const struct th_layer_progress *layer)
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

static const char *phase_word(enum th_layer_phase phase)
{
	static const char *const words[] = {[TH_LAYER_WAITING] = "waiting",
		[TH_LAYER_HERE] = "already here",
		[TH_LAYER_ELSEWHERE] =
			"waiting: another command is downloading it",
		[TH_LAYER_TRANSFER] = "downloading",
		[TH_LAYER_UNPACK] = "unpacking",
		[TH_LAYER_DONE] = "verified and unpacked",
		[TH_LAYER_THERE] = "already in the registry",
		[TH_LAYER_MOUNTED] =
			"mounted from another repository of the registry",
		[TH_LAYER_UPLOAD] = "uploading",
		[TH_LAYER_SENT] = "uploaded"};

	return words[phase];
}

static bool has_bar(enum th_layer_phase phase)
{
	return phase == TH_LAYER_TRANSFER || phase == TH_LAYER_UPLOAD ||
		phase == TH_LAYER_UNPACK;
}

/* What ends a layer; the picture at the end shows all of them. */
static bool is_end(enum th_layer_phase phase)
{
	return phase != TH_LAYER_WAITING && phase != TH_LAYER_ELSEWHERE &&
		!has_bar(phase);
}

static void draw_layer(const struct th_layer_progress *layer)
{
	char size[SIZE_TEXT];

	size_text(layer->size_bytes, size);
	fprintf(stderr, "\r\033[K  layer %.12s  %9s", layer->blob + 7, size);
	if (has_bar(layer->phase))
		draw_bar(layer);
	if (layer->phase == TH_LAYER_TRANSFER ||
		layer->phase == TH_LAYER_UPLOAD)
		draw_speed(layer);
	else
		fprintf(stderr, "  %s", phase_word(layer->phase));
	fputc('\n', stderr);
}

static void draw(struct progress *progress,
	const struct th_layer_progress *layers, size_t count)
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
	const struct th_layer_progress *layers, size_t count)
{
	for (size_t i = 0; i < count && i < PROGRESS_LAYERS; i++) {
		enum th_layer_phase phase = layers[i].phase;
		char size[SIZE_TEXT];

		/* What is here is told at once, and only then. */
		if (progress->told[i] == phase ||
			(phase == TH_LAYER_HERE) == progress->drawn ||
			!(is_end(phase) || phase == TH_LAYER_ELSEWHERE))
			continue;
		size_text(layers[i].size_bytes, size);
		fprintf(stderr, "layer %.12s %s: %s\n", layers[i].blob + 7,
			size, phase_word(phase));
		progress->told[i] = phase;
	}
	progress->drawn = true;
}

void progress_show(
	void *owner, const struct th_layer_progress *layers, size_t count)
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
		all &= is_end(layers[i].phase);
	if (!all && now < progress->next_ms)
		return;
	progress->next_ms = now + REDRAW_MS;
	draw(progress, layers, count);
}

void progress_pulled(void *owner, const struct th_pulled *pulled)
{
	struct progress *progress = owner;

	for (size_t i = 0; !progress->quiet && i < pulled->notes.count; i++)
		say_note(pulled->notes.items[i]);
	if (!progress->quiet)
		fprintf(stderr, "pulled %s%s%s\n", pulled->name,
			pulled->from[0] ? " from " : "", pulled->from);
	progress_end(progress);
}

void progress_end(struct progress *progress)
{
	progress->drawn = false;
	progress->lines = 0;
	progress->next_ms = 0;
	memset(progress->told, 0, sizeof(progress->told));
}
