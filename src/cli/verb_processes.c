/* processes: what runs inside. */
#include <stdio.h>
#include <stdlib.h>

#include "base/clock.h"
#include "base/json.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "container/processes.h"
#include "view/look.h"

static void add_row(struct table *table, const struct th_process_row *row)
{
	char cpu[TH_TIME_TEXT], memory[SIZE_TEXT], ago[48];

	th_clock_span((int64_t)row->cpu_us, cpu);
	size_text(row->memory_bytes, memory);
	ago_text(row->started_us, ago);
	table_row(table);
	table_cell(table, "bold", "%d", row->inside_pid);
	table_cell(table, NULL, "%d", row->pid);
	table_cell(table, NULL, "%s", row->user);
	table_cell(table, NULL, "%s", cpu);
	table_cell(table, NULL, "%s", memory);
	table_cell(table, NULL, "%s", ago);
	table_cell(table, NULL, "%s", row->command);
}

static void print_table(const struct th_process_row *rows, size_t count)
{
	struct table *table = table_new();

	table_column(table, "inside", true);
	table_column(table, "host", true);
	table_column(table, "user", false);
	table_column(table, "cpu", true);
	table_column(table, "memory", true);
	table_column(table, "since", false);
	table_column(table, "command", false);
	for (size_t i = 0; i < count; i++)
		add_row(table, &rows[i]);
	table_print(table);
}

static int show(struct invocation *call, const char *name, json_t *all)
{
	struct th_process_row *rows = NULL;
	struct th_object object;
	struct th_error err = {0};
	json_t *list = NULL;
	size_t count = 0;

	if (th_object_find(&call->hull.context, name, TH_KIND_CONTAINER,
		    &object, &err) ||
		th_container_processes(&call->hull.context, &object.container,
			&rows, &count, &err))
		return say_error(&err);
	if (call->json) {
		list = json_array();
		for (size_t i = 0; i < count; i++)
			json_array_append_new(list, th_view_process(&rows[i]));
		json_array_append_new(all,
			json_pack("{s:s s:s s:o}", "name",
				object.container.name, "id",
				object.container.id, "processes", list));
	} else if (call->quiet) {
		for (size_t i = 0; i < count; i++)
			printf("%d\n", rows[i].pid);
	} else {
		if (call->object_count > 1)
			printf("%s\n", object.container.name);
		print_table(rows, count);
	}
	free(rows);
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

static const char *const examples[] = {"tidyhull processes gauge-north", NULL};

const struct verb verb_processes = {.name = "processes",
	.group = "look",
	.summary = "show the processes in a container",
	.usage = "CONTAINER...",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS,
	.least = 1,
	.most = -1,
	.run = run};
