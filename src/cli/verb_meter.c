/* meter: what running containers use, live. */
#include <stdio.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/meter_screen.h"
#include "cli/metering.h"
#include "cli/output.h"
#include "cli/verbs.h"

#define ONCE_MS 250
#define LINE_MS 1000

static void print_once(const struct metering *metering)
{
	static const char *const names[] = {"container", "cpu", "memory",
		"processes", "read", "written", "received", "sent"};
	struct table *table = table_new();

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++)
		table_column(table, names[i],
			i > 3		? TABLE_RIGHT | TABLE_LESS
				: i > 0 ? TABLE_RIGHT
					: 0);
	for (size_t i = 0; i < metering->count; i++) {
		const json_t *one = metering->all[i].now;
		char text[64];

		table_row(table);
		table_cell(table, "bold", "%s", doc_text(one, "name"));
		figure_text(CPU, metered_now(&metering->all[i], CPU), text);
		if (is_state(one, "paused"))
			table_cell(table, "yellow", "paused");
		else
			table_cell(table, NULL, "%s", text);
		meter_memory(one, text);
		table_cell(table, NULL, "%s", text);
		meter_processes(one, text);
		table_cell(table, NULL, "%s", text);
		/* The columns have the names of the members. */
		for (size_t k = 4; k < 8; k++) {
			meter_amount(one, names[k], text);
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

/* The reading with its time; a new reference. */
static json_t *reading_json(const struct metering *metering)
{
	char time[TH_TIME_TEXT];
	json_t *list = json_deep_copy(metering->list), *one;
	size_t i;

	/* Of one reading alone it means nothing. */
	json_array_foreach(list, i, one)
	{
		json_object_del(one, "time-us");
	}
	th_clock_format(th_clock_now_us(), time);
	return json_pack("{s:s s:o}", "time", time, "containers", list);
}

static void print_line(const struct metering *metering)
{
	print_json_line(reading_json(metering));
	fflush(stdout);
}

static int once(struct invocation *call, struct metering *metering)
{
	struct th_error err = {0};

	if (metering_read(call, metering, &err))
		return say_error(&err);
	if (metering->count)
		wait_ms(ONCE_MS);
	if (metering->count && metering_read(call, metering, &err))
		return say_error(&err);
	if (call->json_lines)
		print_line(metering);
	else if (call->json)
		print_json(reading_json(metering));
	else if (metering->count)
		print_once(metering);
	else
		puts("no containers are running; those that ended: tidyhull "
		     "list --all");
	return EXIT_DONE;
}

/* Reading after reading, until Ctrl-C or nobody reads them. */
static int stream(struct invocation *call, struct metering *metering)
{
	struct th_error err = {0};

	while (!interrupted() && !ferror(stdout)) {
		if (metering_read(call, metering, &err))
			return say_error(&err);
		print_line(metering);
		wait_ms(LINE_MS);
	}
	return EXIT_DONE;
}

/* The figure of a column of the table; by name where it is none. */
static int figure_of(const char *column)
{
	static const char *const names[FIGURES] = {
		"cpu", "memory", "received", "sent", "read", "written"};

	for (int i = 0; column && i < FIGURES; i++) {
		if (strcmp(column + (*column == '-'), names[i]) == 0)
			return i <= MEMORY ? i : i - (i - RECEIVED) % 2;
	}
	return FIGURES;
}

static int measure(struct invocation *call, struct metering *metering)
{
	if (call->json_lines && !option_given(call, "once"))
		return stream(call, metering);
	if (call->json || option_given(call, "once") || !isatty(1) ||
		!isatty(0))
		return once(call, metering);
	metering->sort = figure_of(option_value(call, "sort"));
	return meter_screen(call, metering);
}

static int run(struct invocation *call)
{
	struct metering metering = {.sort = FIGURES};
	int code;

	if (call->object_count)
		metering.names =
			doc_of_texts(call->objects, (size_t)call->object_count);
	code = measure(call, &metering);
	metering_release(&metering);
	return code;
}

static const struct option_spec options[] = {
	{"once", NULL, "print one reading and exit"}, {NULL, NULL, NULL}};

static const char *const text[] = {"CPU (100 % is one whole CPU), memory, "
				   "processes, disk reads and writes,",
	"and network traffic. Without control group controllers, memory is the",
	"sum over all processes, so that shared memory counts several times.",
	"On a terminal, with histories, steered by keys: c, m, n, d, a sort by",
	"CPU, memory, network, disks, name; Enter shows one in large. With",
	"--json-lines, a reading every second.", NULL};

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
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_LINES | VERB_GROUPS |
		VERB_TABLE,
	.least = 0,
	.most = -1,
	.run = run};
