/* meter: what running containers use, live. */
#include <curses.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "cli/output.h"
#include "cli/verbs.h"
#include "container/meter.h"
#include "view/look.h"

#define SHOWN_MAX 500
#define ONCE_MS 250
#define LIVE_MS 1000
#define BAR_WIDTH 12
/* Columns that all of it needs; below that disks and network are left out. */
#define WIDE 130

struct reading {
	struct th_container_row row;
	struct th_meter now, before;
	bool has_before;
};

/* ---- reading ---- */

static bool is_wanted(
	const struct invocation *call, const struct th_container_row *row)
{
	if (row->state != TH_STATE_RUNNING && row->state != TH_STATE_PAUSED)
		return false;
	if (!call->object_count)
		return true;
	for (int i = 0; i < call->object_count; i++) {
		const char *text = call->objects[i];

		if (strncmp(text, "container:", 10) == 0)
			text += 10;
		if (strcmp(text, row->name) == 0 ||
			strncmp(text, row->id, strlen(text)) == 0)
			return true;
	}
	return false;
}

static void remember(
	struct reading *to, const struct reading *old, size_t count)
{
	for (size_t i = 0; i < count; i++) {
		if (strcmp(old[i].row.id, to->row.id) == 0) {
			to->before = old[i].now;
			to->has_before = true;
		}
	}
}

/* Reads all anew; what was read before is the other end of the rates. */
static int read_all(struct invocation *call, struct reading **list,
	size_t *count, struct th_error *err)
{
	struct th_container_row *rows = NULL;
	struct reading *made;
	size_t row_count = 0, n = 0;

	if (th_container_rows(&call->hull.context, &rows, &row_count, err))
		return -1;
	made = calloc(row_count + 1, sizeof(*made));
	for (size_t i = 0; made && i < row_count && n < SHOWN_MAX; i++) {
		struct th_error gone = {0};

		if (!is_wanted(call, &rows[i]))
			continue;
		made[n].row = rows[i];
		/* One that ends meanwhile is no failure of the others. */
		if (th_container_meter(
			    &call->hull.context, &rows[i], &made[n].now, &gone))
			continue;
		remember(&made[n], *list, *count);
		n++;
	}
	free(rows);
	free(*list);
	*list = made;
	*count = n;
	return made ? 0 : th_fail_memory(err);
}

/* Hundredths of one CPU; -1 before the second reading. */
static double cpu_percent(const struct reading *one)
{
	int64_t span = one->now.time_us - one->before.time_us;
	int64_t used = one->now.usage.cpu_us - one->before.usage.cpu_us;

	if (!one->has_before || span <= 0 || used < 0)
		return -1;
	return (double)used * 100 / (double)span;
}

static void amount(int64_t bytes, char text[SIZE_TEXT])
{
	if (bytes == TH_UNSET)
		snprintf(text, SIZE_TEXT, "-");
	else
		size_text((uint64_t)bytes, text);
}

static void memory_text(const struct th_usage *usage, char text[64])
{
	char used[SIZE_TEXT], limit[SIZE_TEXT];

	amount(usage->memory_bytes, used);
	amount(usage->memory_limit, limit);
	snprintf(text, 64, "%s%s%s", used,
		usage->memory_limit == TH_UNSET ? "" : " of ",
		usage->memory_limit == TH_UNSET ? "" : limit);
}

static void count_text(const struct th_usage *usage, char text[48])
{
	if (usage->processes_limit != TH_UNSET)
		snprintf(text, 48, "%lld of %lld", (long long)usage->processes,
			(long long)usage->processes_limit);
	else
		snprintf(text, 48, "%lld", (long long)usage->processes);
}

/* ---- once ---- */

static void print_once(const struct reading *list, size_t count)
{
	static const char *const names[] = {"container", "cpu", "memory",
		"processes", "read", "written", "received", "sent"};
	struct table *table = table_new();

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++)
		table_column(table, names[i], i > 0);
	for (size_t i = 0; i < count; i++) {
		const struct th_usage *usage = &list[i].now.usage;
		int64_t bytes[] = {usage->read_bytes, usage->written_bytes,
			list[i].now.received_bytes, list[i].now.sent_bytes};
		char text[64];

		table_row(table);
		table_cell(table, "bold", "%s", list[i].row.name);
		if (list[i].row.state == TH_STATE_PAUSED)
			table_cell(table, "yellow", "paused");
		else
			table_cell(
				table, NULL, "%.1f %%", cpu_percent(&list[i]));
		memory_text(usage, text);
		table_cell(table, NULL, "%s", text);
		count_text(usage, text);
		table_cell(table, NULL, "%s", text);
		for (size_t k = 0; k < 4; k++) {
			amount(bytes[k], text);
			table_cell(table, NULL, "%s", text);
		}
	}
	table_print(table);
}

static void wait_ms(long ms)
{
	const struct timespec span = {
		.tv_sec = ms / 1000, .tv_nsec = ms % 1000 * 1000000};

	nanosleep(&span, NULL);
}

static int once(struct invocation *call)
{
	struct reading *list = NULL;
	struct th_error err = {0};
	json_t *all;
	size_t count = 0;

	if (read_all(call, &list, &count, &err))
		return say_error(&err);
	if (count)
		wait_ms(ONCE_MS);
	if (count && read_all(call, &list, &count, &err)) {
		free(list);
		return say_error(&err);
	}
	if (call->json) {
		all = json_array();
		for (size_t i = 0; i < count; i++)
			json_array_append_new(all,
				th_view_meter(&list[i].row, &list[i].now,
					cpu_percent(&list[i])));
		print_json(json_pack("{s:o}", "containers", all));
	} else if (count) {
		print_once(list, count);
	} else {
		puts("no containers are running");
	}
	free(list);
	return EXIT_DONE;
}

/* ---- live ---- */

static void draw_bar(int y, int x, double part)
{
	int filled = (int)(part * BAR_WIDTH + 0.5);

	filled = filled > BAR_WIDTH ? BAR_WIDTH : filled < 0 ? 0 : filled;
	attron(COLOR_PAIR(part > 0.8 ? 2 : 1));
	for (int i = 0; i < BAR_WIDTH; i++)
		mvaddstr(y, x + i, i < filled ? "\342\226\210" : "\302\267");
	attroff(COLOR_PAIR(part > 0.8 ? 2 : 1));
}

static void draw_one(int y, const struct reading *one)
{
	const struct th_usage *usage = &one->now.usage;
	double percent = cpu_percent(one);
	char memory[64], processes[48], read[SIZE_TEXT], written[SIZE_TEXT];
	char in[SIZE_TEXT], out[SIZE_TEXT];

	memory_text(usage, memory);
	count_text(usage, processes);
	amount(usage->read_bytes, read);
	amount(usage->written_bytes, written);
	amount(one->now.received_bytes, in);
	amount(one->now.sent_bytes, out);
	attron(A_BOLD);
	mvprintw(y, 0, "%-18.18s", one->row.name);
	attroff(A_BOLD);
	if (one->row.state == TH_STATE_PAUSED)
		mvprintw(y, 19, "%8s", "paused");
	else if (percent >= 0)
		mvprintw(y, 19, "%6.1f %%", percent);
	draw_bar(y, 28, percent < 0 ? 0 : percent / 100);
	mvprintw(y, 42, "%-20.20s", memory);
	if (COLS < WIDE) {
		mvprintw(y, 63, "%12s", processes);
		return;
	}
	if (usage->memory_limit > 0)
		draw_bar(y, 63,
			(double)usage->memory_bytes /
				(double)usage->memory_limit);
	mvprintw(y, 77, "%12s  %9s %9s  %9s %9s", processes, read, written, in,
		out);
}

static void draw(const struct reading *list, size_t count)
{
	size_t room = LINES > 4 ? (size_t)LINES - 4 : 1;

	erase();
	attron(A_REVERSE);
	mvprintw(0, 0, "%-*s", COLS, "");
	mvprintw(0, 0, " tidyhull meter: %zu container%s; q quits", count,
		count == 1 ? "" : "s");
	attroff(A_REVERSE);
	attron(A_DIM);
	mvprintw(2, 0, "%-18s %8s", "container", "cpu");
	mvprintw(2, 42, "memory");
	if (COLS < WIDE)
		mvprintw(2, 63, "%12s", "processes");
	else
		mvprintw(2, 77, "%12s  %9s %9s  %9s %9s", "processes", "read",
			"written", "received", "sent");
	attroff(A_DIM);
	for (size_t i = 0; i < count && i < room; i++)
		draw_one((int)i + 3, &list[i]);
	if (count > room)
		mvprintw(LINES - 1, 0, "and %zu more", count - room);
	refresh();
}

static int live(struct invocation *call)
{
	struct reading *list = NULL;
	struct th_error err = {0};
	size_t count = 0;
	int key = 0;

	if (!initscr()) {
		th_fail(&err, TH_FAILED, "this terminal cannot be drawn on");
		th_hint(&err, "tidyhull meter --once");
		return say_error(&err);
	}
	cbreak();
	noecho();
	curs_set(0);
	start_color();
	use_default_colors();
	init_pair(1, COLOR_CYAN, -1);
	init_pair(2, COLOR_RED, -1);
	timeout(LIVE_MS);
	while (key != 'q' && key != 27 && !err.code) {
		/* Control-C comes as a wish (main.c). */
		if (atomic_load(call->hull.context.cancel))
			break;
		if (read_all(call, &list, &count, &err) == 0) {
			draw(list, count);
			key = getch();
		}
	}
	endwin();
	free(list);
	return err.code ? say_error(&err) : EXIT_DONE;
}

static int run(struct invocation *call)
{
	struct th_object object;
	struct th_error err = {0};

	for (int i = 0; i < call->object_count; i++) {
		if (th_object_find(&call->hull.context, call->objects[i],
			    TH_KIND_CONTAINER, &object, &err))
			return say_error(&err);
		th_object_release(&object);
	}
	if (call->json || option_given(call, "once") || !isatty(1) ||
		!isatty(0))
		return once(call);
	return live(call);
}

static const struct option_spec options[] = {
	{"once", NULL, "print one reading and exit"}, {NULL, NULL, NULL}};

static const char *const text[] = {"CPU (100 % is one whole CPU), memory, "
				   "processes, disk reads and writes,",
	"and network traffic. Without control group controllers, memory is the",
	"sum over all processes, so that shared memory counts several times.",
	NULL};

static const char *const examples[] = {"tidyhull meter",
	"tidyhull meter gauge-north ledger", "tidyhull meter --once --json",
	NULL};

const struct verb verb_meter = {.name = "meter",
	.group = "look",
	.summary = "live figures for CPU, memory, disks and network",
	.usage = "[CONTAINER...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS,
	.least = 0,
	.most = -1,
	.run = run};
