#include "cli/meter_screen.h"

#include <curses.h>
#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/draw.h"

#define READ_MS 1000
#define HEAD_LINES 3 /* title, a gap, names of columns */
#define COLUMNS_MAX 12

/* Colours; meanings are told by words and shapes as well. */
enum paint { PLAIN, CALM, HIGH };

struct screen {
	struct invocation *call;
	struct metering *metering;
	char chosen[40]; /* the ID of the row that is chosen, or "" */
	bool large; /* only that one */
	bool disks; /* where there is room for either: not the network */
	size_t first; /* row on the screen */
};

/* One column of the list: what it shows of a container. */
struct column {
	const char *head;
	int width; /* negative: numbers, to the right */
	void (*draw)(int y, int x, int width, const struct metered *one);
	int sort; /* the figure that it is sorted by, or -1 */
};

static void paint(enum paint paint, bool on)
{
	if (!colours())
		return;
	if (on)
		attron(COLOR_PAIR(paint));
	else
		attroff(COLOR_PAIR(paint));
}

static double memory_part(const struct metered *one)
{
	double limit = (double)doc_number(one->now, "memory-limit");

	return limit > 0 ? metered_now(one, MEMORY) / limit : -1;
}

static bool is_limited(const struct metered *one, enum figure figure)
{
	return figure == MEMORY && doc_number(one->now, "memory-limit") > 0;
}

/* What a graph of it reaches to: a limit where there is one, of a CPU at least
 * one whole one, else somewhat more than the most that was seen. */
static double scale_of(
	const struct metered *one, enum figure figure, size_t samples)
{
	double most = metered_most(one, figure, samples);

	if (figure == CPU)
		return most > 100 ? most : 100;
	if (is_limited(one, figure))
		return (double)doc_number(one->now, "memory-limit");
	return most > 0 ? most * 1.25 : 1;
}

/* The newest at the right; height lines, from y down. */
static void draw_graph(int y, int x, int width, int height,
	const struct metered *one, enum figure figure)
{
	double scale = scale_of(one, figure, (size_t)width);
	bool limited = is_limited(one, figure);

	for (int i = 0; i < width; i++) {
		size_t age = (size_t)(width - 1 - i);
		double part = age < one->samples
			? one->past[age].of[figure] / scale
			: -1;

		paint(limited && part > 0.8 ? HIGH : CALM, true);
		for (int line = 0; line < height; line++)
			mvaddstr(y + height - 1 - line, x + i,
				draw_level(part * height - line));
		paint(limited && part > 0.8 ? HIGH : CALM, false);
	}
}

/* ---- the list ---- */

static void draw_name(int y, int x, int width, const struct metered *one)
{
	char text[BAR_TEXT];

	draw_middle(doc_text(one->now, "name"), width, text);
	attron(A_BOLD);
	mvaddstr(y, x, text);
	attroff(A_BOLD);
}

static void draw_right(int y, int x, int width, const char *text)
{
	mvprintw(y, x, "%*.*s", width, width, text);
}

static void draw_figure(
	int y, int x, int width, const struct metered *one, enum figure figure)
{
	char text[SIZE_TEXT + 4];

	figure_text(figure, metered_now(one, figure), text);
	draw_right(y, x, width, text);
}

static void draw_cpu(int y, int x, int width, const struct metered *one)
{
	if (is_state(one->now, "paused"))
		draw_right(y, x, width, "paused");
	else
		draw_figure(y, x, width, one, CPU);
}

static void draw_cpu_past(int y, int x, int width, const struct metered *one)
{
	draw_graph(y, x, width, 1, one, CPU);
}

static void draw_memory(int y, int x, int width, const struct metered *one)
{
	draw_figure(y, x, width, one, MEMORY);
}

/* Against the limit; without one, how it came to be. */
static void draw_memory_bar(int y, int x, int width, const struct metered *one)
{
	double part = memory_part(one);
	char text[BAR_TEXT];

	if (part < 0) {
		draw_graph(y, x, width, 1, one, MEMORY);
		return;
	}
	draw_bar(part, width, text);
	paint(part > 0.8 ? HIGH : CALM, true);
	mvaddstr(y, x, text);
	paint(part > 0.8 ? HIGH : CALM, false);
}

static void draw_limit(int y, int x, int width, const struct metered *one)
{
	char text[SIZE_TEXT];

	meter_amount(one->now, "memory-limit", text);
	draw_right(y, x, width, text);
}

static void draw_received(int y, int x, int width, const struct metered *one)
{
	draw_figure(y, x, width, one, RECEIVED);
}

static void draw_sent(int y, int x, int width, const struct metered *one)
{
	draw_figure(y, x, width, one, SENT);
}

static void draw_read(int y, int x, int width, const struct metered *one)
{
	draw_figure(y, x, width, one, READ);
}

static void draw_written(int y, int x, int width, const struct metered *one)
{
	draw_figure(y, x, width, one, WRITTEN);
}

static void draw_processes(int y, int x, int width, const struct metered *one)
{
	char text[48];

	meter_processes(one->now, text);
	draw_right(y, x, width, text);
}

static int name_width(const struct metering *metering)
{
	size_t widest = strlen("container");

	for (size_t i = 0; i < metering->count; i++) {
		size_t len = strlen(doc_text(metering->all[i].now, "name"));

		widest = len > widest ? len : widest;
	}
	return widest > (size_t)COLS / 4 ? COLS / 4 : (int)widest;
}

static int width_of(const struct column *columns, size_t count)
{
	int width = 0;

	for (size_t i = 0; i < count; i++)
		width += (columns[i].width < 0 ? -columns[i].width
					       : columns[i].width) +
			(i ? 2 : 0);
	return width;
}

/* As many as the screen has room for; the history of the CPU gets what is
 * left. */
static size_t choose_columns(
	const struct screen *screen, struct column columns[COLUMNS_MAX])
{
	const struct column received = {
		"received", -9, draw_received, RECEIVED};
	const struct column sent = {"sent", -9, draw_sent, RECEIVED};
	const struct column read = {"read", -9, draw_read, READ};
	const struct column written = {"written", -9, draw_written, READ};
	const struct column limit = {"limit", -8, draw_limit, -1};
	const struct column processes = {"processes", -12, draw_processes, -1};
	size_t count = 0;
	int left;

	columns[count++] = (struct column){
		"container", name_width(screen->metering), draw_name, FIGURES};
	columns[count++] = (struct column){"cpu", -7, draw_cpu, CPU};
	columns[count++] = (struct column){"past", -8, draw_cpu_past, -1};
	columns[count++] = (struct column){"memory", -8, draw_memory, MEMORY};
	columns[count++] = (struct column){"", 6, draw_memory_bar, -1};
	if (COLS >= 130)
		columns[count++] = limit;
	if (COLS >= 100 || !screen->disks) {
		columns[count++] = received;
		columns[count++] = sent;
	}
	if (COLS >= 100 || screen->disks) {
		columns[count++] = read;
		columns[count++] = written;
	}
	if (COLS >= 130)
		columns[count++] = processes;
	left = COLS - 2 - width_of(columns, count);
	if (left > 0)
		columns[2].width -= left < 40 ? left : 40;
	return count;
}

static void draw_heads(
	const struct screen *screen, const struct column *columns, size_t count)
{
	int x = 2;

	for (size_t i = 0; i < count; i++) {
		const struct column *one = &columns[i];
		bool sorted = one->sort == screen->metering->sort && *one->head;
		int width = one->width < 0 ? -one->width : one->width;

		attron(sorted ? A_UNDERLINE | A_BOLD : A_DIM);
		if (one->width < 0)
			draw_right(2, x, width, one->head);
		else
			mvprintw(2, x, "%.*s", width, one->head);
		attroff(A_UNDERLINE | A_BOLD | A_DIM);
		x += width + 2;
	}
}

static size_t place_of_chosen(const struct screen *screen)
{
	for (size_t i = 0; i < screen->metering->count; i++) {
		if (strcmp(screen->metering->all[i].id, screen->chosen) == 0)
			return i;
	}
	return screen->metering->count;
}

static void draw_list(struct screen *screen, size_t room)
{
	struct column columns[COLUMNS_MAX];
	size_t count = choose_columns(screen, columns);
	size_t chosen = place_of_chosen(screen);

	draw_heads(screen, columns, count);
	/* The one that is chosen is on the screen. */
	if (chosen < screen->metering->count && chosen < screen->first)
		screen->first = chosen;
	if (chosen < screen->metering->count && chosen >= screen->first + room)
		screen->first = chosen - room + 1;
	if (screen->first >= screen->metering->count)
		screen->first = 0;
	for (size_t row = 0; row < room; row++) {
		size_t at = screen->first + row;
		int x = 2, y = HEAD_LINES + (int)row;

		if (at >= screen->metering->count)
			break;
		if (at == chosen)
			mvaddstr(y, 0, ">");
		for (size_t i = 0; i < count; i++) {
			int width = columns[i].width < 0 ? -columns[i].width
							 : columns[i].width;

			columns[i].draw(
				y, x, width, &screen->metering->all[at]);
			x += width + 2;
		}
	}
}

/* ---- one in large ---- */

static void draw_panel(int y, int x, int width, int height,
	const struct metered *one, enum figure figure)
{
	static const char *const heads[] = {
		"cpu", "memory", "received", "sent", "read", "written"};
	char now[SIZE_TEXT + 4], most[SIZE_TEXT + 4], limit[SIZE_TEXT];

	figure_text(figure, metered_now(one, figure), now);
	figure_text(figure, metered_most(one, figure, (size_t)width), most);
	attron(A_BOLD);
	mvprintw(y, x, "%-9s", heads[figure]);
	attroff(A_BOLD);
	printw("%s", now);
	attron(A_DIM);
	if (is_limited(one, figure)) {
		meter_amount(one->now, "memory-limit", limit);
		printw(" of %s", limit);
	}
	printw(", most %s", most);
	attroff(A_DIM);
	draw_graph(y + 1, x, width, height - 2, one, figure);
}

static void draw_large(const struct metered *one)
{
	int width = (COLS - 4) / 2, height = (LINES - 4) / 3;
	char processes[48];

	meter_processes(one->now, processes);
	width = width > HISTORY ? HISTORY : width;
	mvprintw(1, 1, "%s, %s processes; the last %d s",
		doc_text(one->now, "state"), processes,
		one->samples < (size_t)width ? (int)one->samples : width);
	if (height < 3)
		return;
	for (int figure = 0; figure < FIGURES; figure++)
		draw_panel(3 + figure / 2 * height, 1 + figure % 2 * (COLS / 2),
			width, height, one, (enum figure)figure);
}

/* ---- all of it ---- */

static void draw_title(const struct screen *screen, const struct metered *large)
{
	const struct metering *metering = screen->metering;
	double cpu = 0, memory = 0;
	char text[SIZE_TEXT];

	for (size_t i = 0; i < metering->count; i++) {
		double one = metered_now(&metering->all[i], CPU);

		cpu += one > 0 ? one : 0;
		one = metered_now(&metering->all[i], MEMORY);
		memory += one > 0 ? one : 0;
	}
	size_text((uint64_t)memory, text);
	attron(A_REVERSE);
	mvprintw(0, 0, "%-*s", COLS, "");
	if (large)
		mvprintw(0, 1, "%s (%s)", doc_text(large->now, "name"),
			large->id);
	else
		mvprintw(0, 1,
			"%zu container%s running: CPU %.1f %%, memory %s",
			metering->count, metering->count == 1 ? "" : "s", cpu,
			text);
	attroff(A_REVERSE);
}

static void draw_keys(const struct screen *screen, size_t hidden)
{
	attron(A_DIM);
	if (screen->large)
		mvaddstr(LINES - 1, 1, "Enter: back   q: quit");
	else
		mvaddstr(LINES - 1, 1,
			"sort by: c cpu, m memory, n network, d disks, a name; "
			"Enter: one; q: quit");
	if (hidden)
		mvprintw(LINES - 2, 2, "and %zu more: arrows", hidden);
	attroff(A_DIM);
}

static void draw(struct screen *screen)
{
	const struct metering *metering = screen->metering;
	size_t chosen = place_of_chosen(screen), hidden = 0;
	size_t room =
		LINES > HEAD_LINES + 3 ? (size_t)LINES - HEAD_LINES - 2 : 1;

	erase();
	if (chosen == metering->count)
		screen->large = false;
	draw_title(screen, screen->large ? &metering->all[chosen] : NULL);
	if (screen->large) {
		draw_large(&metering->all[chosen]);
	} else if (!metering->count) {
		mvaddstr(2, 2, "no containers are running");
	} else {
		hidden = metering->count > room ? metering->count - room : 0;
		draw_list(screen, room);
	}
	draw_keys(screen, hidden);
	refresh();
}

/* ---- keys ---- */

static void move_choice(struct screen *screen, int by)
{
	size_t count = screen->metering->count;
	size_t at = place_of_chosen(screen);

	if (!count)
		return;
	if (at == count)
		at = by > 0 ? 0 : count - 1;
	else if (by < 0 ? at > 0 : at + 1 < count)
		at = by < 0 ? at - 1 : at + 1;
	snprintf(screen->chosen, sizeof(screen->chosen), "%s",
		screen->metering->all[at].id);
}

static void sort_by(struct screen *screen, int figure)
{
	metering_sort(screen->metering, figure);
	if (figure == RECEIVED || figure == READ)
		screen->disks = figure == READ;
}

/* False where it is enough. */
static bool take_key(struct screen *screen, int key)
{
	switch (key) {
	case 'q':
		return false;
	case 27: /* also the beginning of keys that are not known */
		screen->large = false;
		break;
	case 'c':
		sort_by(screen, CPU);
		break;
	case 'm':
		sort_by(screen, MEMORY);
		break;
	case 'n':
		sort_by(screen, RECEIVED);
		break;
	case 'd':
		sort_by(screen, READ);
		break;
	case 'a':
		sort_by(screen, FIGURES);
		break;
	case KEY_DOWN:
		move_choice(screen, 1);
		break;
	case KEY_UP:
		move_choice(screen, -1);
		break;
	case '\n':
	case '\r':
	case KEY_ENTER:
		if (!screen->large && !screen->chosen[0])
			move_choice(screen, 1);
		screen->large = !screen->large;
		break;
	default:
		break;
	}
	return true;
}

static bool begin(void)
{
	if (!initscr())
		return false;
	cbreak();
	noecho();
	keypad(stdscr, TRUE);
	set_escdelay(25);
	curs_set(0);
	if (colours()) {
		start_color();
		use_default_colors();
		init_pair(CALM, COLOR_CYAN, -1);
		init_pair(HIGH, COLOR_RED, -1);
	}
	return true;
}

int meter_screen(struct invocation *call, struct metering *metering)
{
	struct screen screen = {.call = call, .metering = metering};
	struct th_error err = {0};
	int64_t due = 0;
	bool more = true;

	if (!begin()) {
		th_fail(&err, TH_FAILED, "this terminal cannot be drawn on");
		th_hint(&err, "tidyhull meter --once");
		return say_error(&err);
	}
	/* Control-C comes as a wish (main.c). */
	while (more && !interrupted()) {
		int64_t now = th_clock_mono_ms();

		/* A key is no reason to read: rates need their span. */
		if (now >= due) {
			if (metering_read(call, metering, &err))
				break;
			due = now + READ_MS;
		}
		draw(&screen);
		now = th_clock_mono_ms();
		timeout(due > now ? (int)(due - now) : 0);
		more = take_key(&screen, getch());
	}
	endwin();
	return err.code ? say_error(&err) : EXIT_DONE;
}
