#include "cli/progress.h"

#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/output.h"

#define REDRAW_MS 80
#define BAR_WIDTH 30
#define LINES_MAX 24

static void draw_bar(const struct th_layer_progress *layer)
{
	char bar[BAR_WIDTH * 3 + 1];
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
	fprintf(stderr, "  %s", bar);
}

static void draw_layer(
	const struct progress *progress, const struct th_layer_progress *layer)
{
	char size[SIZE_TEXT], speed[SIZE_TEXT];
	int64_t spent = th_clock_mono_ms() - progress->begin_ms;

	size_text(layer->size_bytes, size);
	fprintf(stderr, "\r\033[K  layer %.12s  %9s", layer->blob + 7, size);
	switch (layer->phase) {
	case TH_LAYER_WAITING:
		fputs("  waiting", stderr);
		break;
	case TH_LAYER_HERE:
		fputs("  already here", stderr);
		break;
	case TH_LAYER_TRANSFER:
		draw_bar(layer);
		if (spent > 200) {
			size_text(layer->done_bytes * 1000 / (uint64_t)spent,
				speed);
			fprintf(stderr, "  %s/s", speed);
		}
		break;
	case TH_LAYER_DONE:
		fputs("  verified and unpacked", stderr);
		break;
	}
	fputc('\n', stderr);
}

static void draw(struct progress *progress,
	const struct th_layer_progress *layers, size_t count)
{
	size_t shown = count > LINES_MAX ? LINES_MAX : count;

	if (progress->drawn && progress->lines)
		fprintf(stderr, "\033[%zuA", progress->lines);
	for (size_t i = 0; i < shown; i++)
		draw_layer(progress, &layers[i]);
	if (count > shown)
		fprintf(stderr, "\r\033[K  and %zu more layers\n",
			count - shown);
	progress->lines = shown + (count > shown);
	progress->drawn = true;
	fflush(stderr);
}

static void log_plainly(struct progress *progress,
	const struct th_layer_progress *layers, size_t count)
{
	char size[SIZE_TEXT];
	size_t done = 0;

	if (!progress->drawn) {
		for (size_t i = 0; i < count; i++) {
			size_text(layers[i].size_bytes, size);
			fprintf(stderr, "layer %.12s %s: %s\n",
				layers[i].blob + 7, size,
				layers[i].phase == TH_LAYER_HERE
					? "already here"
					: "downloading");
		}
		progress->drawn = true;
	}
	for (size_t i = 0; i < count; i++)
		done += layers[i].phase == TH_LAYER_DONE;
	if (done > progress->done_told)
		fprintf(stderr, "%zu layer%s verified and unpacked\n", done,
			done == 1 ? "" : "s");
	progress->done_told = done;
}

void progress_show(
	void *owner, const struct th_layer_progress *layers, size_t count)
{
	struct progress *progress = owner;
	int64_t now = th_clock_mono_ms();
	bool all = true;

	if (progress->quiet)
		return;
	if (!progress->begin_ms)
		progress->begin_ms = now;
	if (!on_terminal()) {
		log_plainly(progress, layers, count);
		return;
	}
	for (size_t i = 0; i < count; i++)
		all &= layers[i].phase == TH_LAYER_HERE ||
			layers[i].phase == TH_LAYER_DONE;
	if (!all && now < progress->next_ms)
		return;
	progress->next_ms = now + REDRAW_MS;
	draw(progress, layers, count);
}

void progress_pulled(void *owner, const struct th_pulled *pulled)
{
	struct progress *progress = owner;

	if (!progress->quiet)
		fprintf(stderr, "pulled %s\n", pulled->name);
	progress_end(progress);
}

void progress_end(struct progress *progress)
{
	progress->drawn = false;
	progress->lines = progress->done_told = 0;
	progress->begin_ms = progress->next_ms = 0;
}
