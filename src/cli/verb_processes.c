/* processes: what runs inside. */
#include <stdio.h>

#include "base/clock.h"
#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"

static void add_row(struct table *table, const json_t *process)
{
	char cpu[TH_TIME_TEXT], memory[SIZE_TEXT], ago[48];

	th_clock_span(doc_number(process, "cpu-us"), cpu);
	size_text((uint64_t)doc_number(process, "memory"), memory);
	ago_text(doc_time(process, "started"), ago);
	table_row(table);
	table_cell(table, "bold", "%d", (int)doc_number(process, "inside-pid"));
	table_cell(table, NULL, "%d", (int)doc_number(process, "pid"));
	table_cell(table, NULL, "%s", doc_text(process, "user"));
	table_cell(table, NULL, "%s", cpu);
	table_cell(table, NULL, "%s", memory);
	table_cell(table, NULL, "%s", ago);
	table_cell(table, NULL, "%s", doc_text(process, "command"));
}

static void print_table(const json_t *processes)
{
	struct table *table = table_new();
	const json_t *process;
	size_t i;

	table_column(table, "inside", TABLE_RIGHT);
	table_column(table, "host", TABLE_RIGHT);
	table_column(table, "user", 0);
	table_column(table, "cpu", TABLE_RIGHT);
	table_column(table, "memory", TABLE_RIGHT);
	table_column(table, "since", TABLE_LESS);
	table_column(table, "command", TABLE_BREAK);
	json_array_foreach(processes, i, process)
	{
		add_row(table, process);
	}
	table_print(table);
}

static void print_ids(const json_t *processes)
{
	const json_t *process;
	size_t i;

	json_array_foreach(processes, i, process)
	{
		printf("%d\n", (int)doc_number(process, "pid"));
	}
}

static int show(struct invocation *call, const char *name, json_t *all)
{
	struct th_error err = {0};
	json_t *inside = NULL;

	if (th_container_inside(call->hull, name, &inside, &err))
		return say_error(&err);
	if (call->json) {
		json_array_append(all, inside);
	} else if (call->quiet) {
		print_ids(doc_part(inside, "processes"));
	} else {
		if (call->object_count > 1)
			printf("%s\n", doc_text(inside, "name"));
		print_table(doc_part(inside, "processes"));
	}
	json_decref(inside);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	json_t *all = json_array();
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		int one;

		if (i > 0 && !call->json && !call->quiet)
			putchar('\n');
		one = show(call, call->objects[i], all);
		code = code ? code : one;
	}
	if (call->json)
		print_json(json_pack("{s:O}", "containers", all));
	json_decref(all);
	return code;
}

static const char *const text[] = {"Each process has two IDs: the one seen in "
				   "the container, and the host's.",
	"User names are the container's.", NULL};

static const char *const examples[] = {"tidyhull processes gauge-north",
	"tidyhull processes gauge-north --sort -memory", NULL};

const struct verb verb_processes = {.name = "processes",
	.group = "look",
	.called = "ps top pstree tasks proc",
	.takes = "container",
	.summary = "show the processes in a container",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS | VERB_TABLE |
		VERB_WATCH,
	.least = 1,
	.most = -1,
	.run = run};
