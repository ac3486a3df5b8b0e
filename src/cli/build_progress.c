#include "cli/build_progress.h"

#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/output.h"
#include "cli/shown.h"

#define COLUMNS_USUAL 80
#define RIGHT_COLUMNS 22 /* for size and time */
#define NAME_COLUMNS 24

static size_t columns(void)
{
	struct winsize size;

	return ioctl(2, TIOCGWINSZ, &size) == 0 && size.ws_col > 40
		? size.ws_col
		: COLUMNS_USUAL;
}

static const char *name_of(const struct build_progress *progress, size_t number)
{
	const struct th_recipe_image *image = &progress->recipe->images[number];

	return *image->key ? image->key : image->name ? image->name : "image";
}

/* As wide as the longest, so that the steps stand below one another. */
static int name_columns(const struct build_progress *progress)
{
	size_t longest = 0;

	for (size_t i = 0; i < progress->recipe->image_count; i++) {
		size_t len = strlen(name_of(progress, i));

		longest = len > longest ? len : longest;
	}
	return longest > NAME_COLUMNS ? NAME_COLUMNS : (int)longest;
}

static void erase(struct build_progress *progress)
{
	if (progress->alive)
		fputs("\r\033[K", stderr);
	progress->alive = false;
}

static const char *colour(
	const struct build_progress *progress, const char *code)
{
	return progress->terminal && colours() ? code : "";
}

/* "  3  do make install": with the image's name where there are several. */
static size_t print_head(struct build_progress *progress, size_t image,
	size_t step, const char *text, size_t room)
{
	bool several = progress->recipe->image_count > 1;
	char line[1024];
	size_t len;

	snprintf(line, sizeof(line), "%-*.*s%3zu  %s",
		several ? name_columns(progress) : 0, NAME_COLUMNS,
		several ? name_of(progress, image) : "", step + 1, shown(text));
	len = strlen(line);
	if (len > room && room > 3) {
		memcpy(line + room - 3, "...", 4);
		len = room;
	}
	fputs(line, stderr);
	return len;
}

static void print_alive(struct build_progress *progress, const char *text)
{
	size_t width = columns() - 1;
	size_t used = print_head(progress, progress->image, progress->step,
		text, width > 30 ? width - 20 : width);

	if (progress->said[0] && used + 6 < width)
		fprintf(stderr, "  %s%.*s%s", colour(progress, "\033[90m"),
			(int)(width - used - 3), progress->said,
			colour(progress, "\033[0m"));
	fflush(stderr);
	progress->alive = true;
}

static void print_done(struct build_progress *progress,
	const struct th_build_event *event, const char *right)
{
	size_t width = progress->terminal ? columns() - 1 : COLUMNS_USUAL;
	size_t room =
		width > RIGHT_COLUMNS + 20 ? width - RIGHT_COLUMNS : width;
	size_t used = print_head(
		progress, event->image, event->step, event->text, room - 1);

	fprintf(stderr, "%*s%s%s%s\n", (int)(room - used), "",
		colour(progress,
			event->what == TH_BUILD_STEP_REMEMBERED ? "\033[90m"
								: "\033[32m"),
		right, colour(progress, "\033[0m"));
}

static void tell_done(
	struct build_progress *progress, const struct th_build_event *event)
{
	char span[TH_TIME_TEXT], size[SIZE_TEXT], right[80];

	erase(progress);
	progress->said[0] = '\0';
	if (event->what == TH_BUILD_STEP_REMEMBERED) {
		progress->remembered++;
		print_done(progress, event, "        remembered");
		return;
	}
	progress->run++;
	th_clock_span(event->took_us, span);
	size_text(event->bytes, size);
	snprintf(right, sizeof(right), "%9s  %9s",
		event->bytes ? size : "no change", span);
	print_done(progress, event, right);
}

static void tell_planned(
	struct build_progress *progress, const struct th_build_event *event)
{
	static const char *const reasons[] = {"nothing like it was run before",
		"its files have changed", "the image before it has changed",
		"its files and the image before it have changed"};

	const char *reason = reasons[event->reason];

	if (event->reason == TH_STEP_CONTENT &&
		strncmp(event->text, "take", 4) == 0)
		reason = "what it takes has changed";
	progress->planned++;
	print_head(progress, event->image, event->step, event->text,
		COLUMNS_USUAL * 10);
	fprintf(stderr, "\n       would run: %s\n",
		event->behind ? "a step before it would run" : reason);
}

/* The last whole line counts, without what moves the cursor. */
static void note_output(
	struct build_progress *progress, const char *text, size_t len)
{
	size_t end = len, begin;

	while (end > 0 && (text[end - 1] == '\n' || text[end - 1] == '\r'))
		end--;
	begin = end;
	while (begin > 0 && text[begin - 1] != '\n' && text[begin - 1] != '\r')
		begin--;
	if (end == begin)
		return;
	snprintf(progress->said, sizeof(progress->said), "%.*s",
		(int)(end - begin), text + begin);
	snprintf(progress->said, sizeof(progress->said), "%.79s",
		shown(progress->said));
}

static void tell_output(
	struct build_progress *progress, const struct th_build_event *event)
{
	if (progress->output) {
		erase(progress);
		fwrite(event->text, 1, event->len, stderr);
		return;
	}
	if (!progress->terminal)
		return;
	note_output(progress, event->text, event->len);
}

void build_progress_tell(void *owner, const struct th_build_event *event)
{
	static char text[300];
	struct build_progress *progress = owner;

	if (event->what == TH_BUILD_NOTE) {
		erase(progress);
		fprintf(stderr, "note: %s\n", shown(event->text));
		return;
	}
	if (progress->quiet) {
		progress->run += event->what == TH_BUILD_STEP_DONE;
		progress->remembered += event->what == TH_BUILD_STEP_REMEMBERED;
		return;
	}
	switch (event->what) {
	case TH_BUILD_STEP_RUNS:
		erase(progress);
		snprintf(text, sizeof(text), "%s", event->text);
		progress->image = event->image;
		progress->step = event->step;
		progress->said[0] = '\0';
		if (progress->terminal)
			print_alive(progress, text);
		break;
	case TH_BUILD_OUTPUT:
		tell_output(progress, event);
		if (progress->terminal && !progress->output &&
			event->image == progress->image) {
			erase(progress);
			print_alive(progress, text);
		}
		break;
	case TH_BUILD_STEP_DONE:
	case TH_BUILD_STEP_REMEMBERED:
		tell_done(progress, event);
		break;
	case TH_BUILD_STEP_PLANNED:
		tell_planned(progress, event);
		break;
	case TH_BUILD_IMAGE_BEGINS:
	case TH_BUILD_IMAGE_DONE:
	case TH_BUILD_NOTE:
		break;
	}
}

void build_progress_end(struct build_progress *progress)
{
	erase(progress);
	fflush(stderr);
}
