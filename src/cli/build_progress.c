#include "cli/build_progress.h"

#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/doc.h"
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
	const json_t *image = json_array_get(progress->images, number);
	const char *key = doc_text(image, "key");
	const char *name = doc_text(image, "name");

	return *key ? key : *name ? name : "image";
}

/* As wide as the longest, so that the steps stand below one another. */
static int name_columns(const struct build_progress *progress)
{
	size_t longest = 0;

	for (size_t i = 0; i < json_array_size(progress->images); i++) {
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

/* Several blanks in a row are one: a step's text has lost its lines. */
static void squeeze(const char *text, char *words, size_t size)
{
	size_t used = 0;

	for (; *text && used + 1 < size; text++) {
		if (*text != ' ' || (used && words[used - 1] != ' '))
			words[used++] = *text;
	}
	words[used] = '\0';
}

/* "  3  do make install": with the image's name where there are several. */
static size_t print_head(struct build_progress *progress, size_t image,
	size_t step, const char *text, size_t room)
{
	bool several = json_array_size(progress->images) > 1;
	char line[1024], words[400];
	size_t len;

	squeeze(shown(text), words, sizeof(words));
	snprintf(line, sizeof(line), "%-*.*s%3zu  %s",
		several ? name_columns(progress) : 0, NAME_COLUMNS,
		several ? name_of(progress, image) : "", step + 1, words);
	len = strlen(line);
	if (len > room && room > 3) {
		memcpy(line + room - 3, "...", 4);
		len = room;
	}
	fputs(line, stderr);
	return len;
}

/* The step that was begun last, or another one that still runs. */
static void print_alive(struct build_progress *progress)
{
	size_t width = columns() - 1, used;
	const char *said;

	for (size_t i = 0; !progress->now[progress->image].runs &&
		i < json_array_size(progress->images);
		i++) {
		if (progress->now[i].runs)
			progress->image = i;
	}
	if (!progress->terminal || !progress->now[progress->image].runs)
		return;
	said = progress->now[progress->image].said;
	used = print_head(progress, progress->image,
		progress->now[progress->image].step,
		progress->now[progress->image].text,
		*said && width > 60 ? width / 2 : width);
	if (*said && used + 6 < width)
		fprintf(stderr, "  %s%.*s%s", colour(progress, "\033[90m"),
			(int)(width - used - 3), said,
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
		colour(progress, event->bytes ? "\033[32m" : "\033[90m"), right,
		colour(progress, "\033[0m"));
}

static void tell_done(
	struct build_progress *progress, const struct th_build_event *event)
{
	char span[TH_TIME_TEXT], size[SIZE_TEXT], right[80];

	erase(progress);
	progress->now[event->image].runs = false;
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
	struct build_progress *progress, const struct th_build_event *event)
{
	const char *text = event->text;
	size_t end = event->len, begin;
	char line[200];

	while (end > 0 && (text[end - 1] == '\n' || text[end - 1] == '\r'))
		end--;
	begin = end;
	while (begin > 0 && text[begin - 1] != '\n' && text[begin - 1] != '\r')
		begin--;
	if (end == begin)
		return;
	snprintf(line, sizeof(line), "%.*s", (int)(end - begin), text + begin);
	snprintf(progress->now[event->image].said,
		sizeof(progress->now[0].said), "%.79s", shown(line));
}

static void tell_output(
	struct build_progress *progress, const struct th_build_event *event)
{
	if (progress->output) {
		erase(progress);
		fwrite(event->text, 1, event->len, stderr);
		return;
	}
	note_output(progress, event);
	if (event->image == progress->image) {
		erase(progress);
		print_alive(progress);
	}
}

static void tell_run(
	struct build_progress *progress, const struct th_build_event *event)
{
	erase(progress);
	progress->image = event->image;
	progress->now[event->image].runs = true;
	progress->now[event->image].step = event->step;
	progress->now[event->image].said[0] = '\0';
	snprintf(progress->now[event->image].text,
		sizeof(progress->now[0].text), "%s", event->text);
	print_alive(progress);
}

void build_progress_tell(void *owner, const struct th_build_event *event)
{
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
		tell_run(progress, event);
		break;
	case TH_BUILD_OUTPUT:
		tell_output(progress, event);
		break;
	case TH_BUILD_STEP_DONE:
	case TH_BUILD_STEP_REMEMBERED:
		tell_done(progress, event);
		print_alive(progress);
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
