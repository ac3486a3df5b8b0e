#include "cli/draw.h"

#include <langinfo.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>

bool draws_blocks(void)
{
	return strcmp(nl_langinfo(CODESET), "UTF-8") == 0;
}

int draw_columns(void)
{
	struct winsize size;

	return ioctl(1, TIOCGWINSZ, &size) == 0 && size.ws_col > 20
		? size.ws_col
		: 80;
}

const char *draw_level(double part)
{
	static const char *const blocks[] = {" ", "\u2581", "\u2582", "\u2583",
		"\u2584", "\u2585", "\u2586", "\u2587", "\u2588"};
	static const char *const letters[] = {
		" ", "_", ".", "-", "~", "=", "+", "*", "#"};
	int level = part <= 0 ? 0 : part >= 1 ? 8 : (int)(part * 8 + 1);

	level = level > 8 ? 8 : level;
	return draws_blocks() ? blocks[level] : letters[level];
}

void draw_bar(double part, int width, char text[BAR_TEXT])
{
	const char *full = draws_blocks() ? "\u2588" : "#";
	const char *rest = draws_blocks() ? "\u2591" : ".";
	int filled = (int)(part * width + 0.5);
	size_t used = 0;

	/* A little is not nothing. */
	if (part > 0 && filled == 0)
		filled = 1;
	text[0] = '\0';
	for (int i = 0; i < width && used + 4 < BAR_TEXT; i++) {
		snprintf(text + used, BAR_TEXT - used, "%s",
			i < filled ? full : rest);
		used = strlen(text);
	}
}

void draw_middle(const char *name, int width, char text[BAR_TEXT])
{
	const char *gap = draws_blocks() ? "\u2026" : "~";
	int len = (int)strlen(name), head = (width - 1) / 2;

	/* Names are ASCII. */
	if (len <= width)
		snprintf(text, BAR_TEXT, "%s", name);
	else
		snprintf(text, BAR_TEXT, "%.*s%s%s", head, name, gap,
			name + len - (width - 1 - head));
}
