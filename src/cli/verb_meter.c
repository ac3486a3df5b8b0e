/* meter: what running containers use, live. */
#include <curses.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"

#define SHOWN_MAX 500
#define ONCE_MS 250
#define LIVE_MS 1000
#define BAR_WIDTH 12
/* Columns that all of it needs; below that disks and network are left out. */
#define WIDE 130

struct reading {
	json_t *names; /* of those that are wanted; NULL: all */
	json_t *list; /* of what was read last */
	size_t count;
};

/* ---- reading ---- */

/* Hundredths of one CPU, since the reading before; null without one. */
static json_t *cpu_since(const json_t *before, const json_t *now)
{
	const char *id = doc_text(now, "id");
	const json_t *one;
	size_t i;

	json_array_foreach(before, i, one)
	{
		int64_t span =
			doc_number(now, "time-us") - doc_number(one, "time-us");
		int64_t used =
			doc_number(now, "cpu-us") - doc_number(one, "cpu-us");

		if (strcmp(doc_text(one, "id"), id) == 0 && span > 0 &&
			used >= 0)
			return json_real((double)used * 100 / (double)span);
	}
	return json_null();
}

/* Reads all anew; what was read before is the other end of the rates. */
static int read_all(
	struct invocation *call, struct reading *reading, struct th_error *err)
{
	json_t *doc = NULL, *one, *list;
	size_t i;

	if (th_container_usage(call->hull, reading->names, &doc, err))
		return -1;
	list = json_incref(doc_part(doc, "containers"));
	json_decref(doc);
	json_array_foreach(list, i, one)
	{
		json_object_set_new(
			one, "cpu-percent", cpu_since(reading->list, one));
	}
	json_decref(reading->list);
	reading->list = list;
	reading->count = json_array_size(list) > SHOWN_MAX
		? SHOWN_MAX
		: json_array_size(list);
	return 0;
}

/* -1 before the second reading. */
static double cpu_percent(const json_t *one)
{
	const json_t *percent = json_object_get(one, "cpu-percent");

	return json_is_real(percent) ? json_real_value(percent) : -1;
}

static bool counts(const json_t *one, const char *key)
{
	return json_is_integer(json_object_get(one, key));
}

static void amount(const json_t *one, const char *key, char text[SIZE_TEXT])
{
	if (counts(one, key))
		size_text((uint64_t)doc_number(one, key), text);
	else
		snprintf(text, SIZE_TEXT, "-");
}

static void memory_text(const json_t *one, char text[64])
{
	bool limited = counts(one, "memory-limit");
	char used[SIZE_TEXT], limit[SIZE_TEXT];

	amount(one, "memory", used);
	amount(one, "memory-limit", limit);
	snprintf(text, 64, "%s%s%s", used, limited ? " of " : "",
		limited ? limit : "");
}

static void count_text(const json_t *one, char text[48])
{
	long long processes = (long long)doc_number(one, "processes");

	if (counts(one, "processes-limit"))
		snprintf(text, 48, "%lld of %lld", processes,
			(long long)doc_number(one, "processes-limit"));
	else
		snprintf(text, 48, "%lld", processes);
}

/* ---- once ---- */

static void print_once(const struct reading *reading)
{
	static const char *const names[] = {"container", "cpu", "memory",
		"processes", "read", "written", "received", "sent"};
	struct table *table = table_new();

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++)
		table_column(table, names[i],
			i > 3		? TABLE_RIGHT | TABLE_LESS
				: i > 0 ? TABLE_RIGHT
					: 0);
	for (size_t i = 0; i < reading->count; i++) {
		const json_t *one = json_array_get(reading->list, i);
		char text[64];

		table_row(table);
		table_cell(table, "bold", "%s", doc_text(one, "name"));
		if (is_state(one, "paused"))
			table_cell(table, "yellow", "paused");
		else
			table_cell(table, NULL, "%.1f %%", cpu_percent(one));
		memory_text(one, text);
		table_cell(table, NULL, "%s", text);
		count_text(one, text);
		table_cell(table, NULL, "%s", text);
		/* The columns have the names of the members. */
		for (size_t k = 4; k < 8; k++) {
			amount(one, names[k], text);
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

static void print_doc(const struct reading *reading)
{
	json_t *one;
	size_t i;

	/* Of one reading alone it means nothing. */
	json_array_foreach(reading->list, i, one)
	{
		json_object_del(one, "time-us");
	}
	print_json(json_pack("{s:O}", "containers", reading->list));
}

static int once(struct invocation *call, struct reading *reading)
{
	struct th_error err = {0};

	if (read_all(call, reading, &err))
		return say_error(&err);
	if (reading->count)
		wait_ms(ONCE_MS);
	if (reading->count && read_all(call, reading, &err))
		return say_error(&err);
	if (call->json)
		print_doc(reading);
	else if (reading->count)
		print_once(reading);
	else
		puts("no containers are running; those that ended: tidyhull "
		     "list --all");
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

static void draw_one(int y, const json_t *one)
{
	double percent = cpu_percent(one);
	char memory[64], processes[48], read[SIZE_TEXT], written[SIZE_TEXT];
	char in[SIZE_TEXT], out[SIZE_TEXT];

	memory_text(one, memory);
	count_text(one, processes);
	amount(one, "read", read);
	amount(one, "written", written);
	amount(one, "received", in);
	amount(one, "sent", out);
	attron(A_BOLD);
	mvprintw(y, 0, "%-18.18s", doc_text(one, "name"));
	attroff(A_BOLD);
	if (is_state(one, "paused"))
		mvprintw(y, 19, "%8s", "paused");
	else if (percent >= 0)
		mvprintw(y, 19, "%6.1f %%", percent);
	draw_bar(y, 28, percent < 0 ? 0 : percent / 100);
	mvprintw(y, 42, "%-20.20s", memory);
	if (COLS < WIDE) {
		mvprintw(y, 63, "%12s", processes);
		return;
	}
	if (doc_number(one, "memory-limit") > 0)
		draw_bar(y, 63,
			(double)doc_number(one, "memory") /
				(double)doc_number(one, "memory-limit"));
	mvprintw(y, 77, "%12s  %9s %9s  %9s %9s", processes, read, written, in,
		out);
}

static void draw(const struct reading *reading)
{
	size_t room = LINES > 4 ? (size_t)LINES - 4 : 1;
	size_t count = reading->count;

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
		draw_one((int)i + 3, json_array_get(reading->list, i));
	if (count > room)
		mvprintw(LINES - 1, 0, "and %zu more", count - room);
	refresh();
}

static int live(struct invocation *call, struct reading *reading)
{
	struct th_error err = {0};
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
		if (interrupted())
			break;
		if (read_all(call, reading, &err) == 0) {
			draw(reading);
			key = getch();
		}
	}
	endwin();
	return err.code ? say_error(&err) : EXIT_DONE;
}

static int run(struct invocation *call)
{
	struct reading reading = {.names = NULL};
	int code;

	if (call->object_count)
		reading.names =
			doc_of_texts(call->objects, (size_t)call->object_count);
	code = call->json || option_given(call, "once") || !isatty(1) ||
			!isatty(0)
		? once(call, &reading)
		: live(call, &reading);
	json_decref(reading.names);
	json_decref(reading.list);
	return code;
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
	.called = "top stats usage monitor htop watch metrics",
	.takes = "container",
	.summary = "live figures for CPU, memory, disks and network",
	.usage = "[CONTAINER...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS,
	.least = 0,
	.most = -1,
	.run = run};
