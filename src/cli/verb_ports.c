/* ports: where the ports of containers lead. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "view/describe.h"
#include "cli/output.h"
#include "cli/verbs.h"

static void add_rows(
	struct invocation *call, struct table *table, const json_t *doc)
{
	const json_t *ports = json_object_get(doc, "ports");
	const char *name = json_string_value(json_object_get(doc, "name"));
	json_t *port;
	size_t i;

	(void)call;
	json_array_foreach(ports, i, port)
	{
		const char *url =
			json_string_value(json_object_get(port, "url"));
		const char *address =
			json_string_value(json_object_get(port, "address"));
		bool six = strchr(address, ':') != NULL;

		table_row(table);
		table_cell(table, "bold", "%s", name);
		table_cell(table, NULL, "%lld/%s",
			(long long)json_integer_value(
				json_object_get(port, "port")),
			json_string_value(json_object_get(port, "protocol")));
		table_cell(table, NULL, "%s%s%s:%lld", six ? "[" : "", address,
			six ? "]" : "",
			(long long)json_integer_value(
				json_object_get(port, "host-port")));
		table_cell(table, "cyan", "%s",
			url ? url
			    : json_string_value(
				      json_object_get(port, "reach")));
	}
}

static int collect(struct invocation *call, json_t *list)
{
	struct th_container_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 0;
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		struct th_object object;
		struct th_error one = {0};

		if (th_object_find(&call->hull.context, call->objects[i],
			    TH_KIND_CONTAINER, &object, &one)) {
			code = say_error(&one);
			continue;
		}
		json_array_append_new(list,
			th_view_container(
				&call->hull.context, &object.container));
		th_object_release(&object);
	}
	if (call->object_count)
		return code;
	if (th_container_rows(&call->hull.context, &rows, &count, &err))
		return say_error(&err);
	for (size_t i = 0; i < count; i++)
		json_array_append_new(
			list, th_view_container(&call->hull.context, &rows[i]));
	free(rows);
	return code;
}

static int run(struct invocation *call)
{
	json_t *list = json_array(), *out = json_array(), *doc;
	struct table *table = table_new();
	size_t i, count = 0;
	int code = collect(call, list);

	table_column(table, "container", false);
	table_column(table, "inside", false);
	table_column(table, "outside", false);
	table_column(table, "reach it at", false);
	json_array_foreach(list, i, doc)
	{
		count += json_array_size(json_object_get(doc, "ports"));
		add_rows(call, table, doc);
		json_array_append_new(out,
			json_pack("{s:O s:O s:O}", "name",
				json_object_get(doc, "name"), "id",
				json_object_get(doc, "id"), "ports",
				json_object_get(doc, "ports")));
	}
	if (call->json)
		print_json(json_pack("{s:O}", "containers", out));
	else if (!count && code == EXIT_DONE)
		puts("no ports are published");
	if (count && !call->json)
		table_print(table);
	else
		table_drop(table);
	json_decref(list);
	json_decref(out);
	return code;
}

static const char *const examples[] = {
	"tidyhull ports", "tidyhull ports gauge-north --json", NULL};

const struct verb verb_ports = {.name = "ports",
	.group = "look",
	.summary = "show published ports and where they lead",
	.usage = "[CONTAINER...]",
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS,
	.least = 0,
	.most = -1,
	.run = run};
