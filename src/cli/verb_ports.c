/* ports: where the ports of containers lead. */
#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"

static void add_rows(struct table *table, const json_t *container)
{
	const json_t *port;
	size_t i;

	json_array_foreach(doc_part(container, "ports"), i, port)
	{
		const char *url = doc_text(port, "url");
		const char *address = doc_text(port, "address");
		bool six = strchr(address, ':') != NULL;

		table_row(table);
		table_cell(table, "bold", "%s", doc_text(container, "name"));
		table_cell(table, NULL, "%lld/%s",
			(long long)doc_number(port, "port"),
			doc_text(port, "protocol"));
		table_cell(table, NULL, "%s%s%s:%lld", six ? "[" : "", address,
			six ? "]" : "",
			(long long)doc_number(port, "host-port"));
		table_cell(table, "cyan", "%s",
			*url ? url : doc_text(port, "reach"));
	}
}

static int collect(struct invocation *call, json_t *list)
{
	json_t *all = NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		struct th_error one = {0};
		json_t *container = NULL;

		if (th_object(call->hull, call->objects[i], TH_KIND_CONTAINER,
			    TH_BRIEF, &container, &one))
			code = say_error(&one);
		else
			json_array_append_new(list, container);
	}
	if (call->object_count)
		return code;
	/* The others have none. */
	if (th_list(call->hull, TH_KIND_CONTAINER, false, &all, &err))
		return say_error(&err);
	json_array_extend(list, doc_part(all, "containers"));
	json_decref(all);
	return code;
}

static int run(struct invocation *call)
{
	json_t *list = json_array(), *out = json_array(), *container;
	struct table *table = table_new();
	size_t i, count = 0;
	int code = collect(call, list);

	table_column(table, "container", 0);
	table_column(table, "inside", 0);
	table_column(table, "outside", 0);
	table_column(table, "reach it at", TABLE_BREAK);
	json_array_foreach(list, i, container)
	{
		count += doc_count(container, "ports");
		add_rows(table, container);
		json_array_append_new(out,
			json_pack("{s:O s:O s:O}", "name",
				json_object_get(container, "name"), "id",
				json_object_get(container, "id"), "ports",
				json_object_get(container, "ports")));
	}
	if (call->json)
		print_json(json_pack("{s:O}", "containers", out));
	else if (!count && code == EXIT_DONE)
		puts("no ports are published; that is settled when a "
		     "container is made: --port 80=8080");
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
	.called = "port listen url address open browse",
	.takes = "container",
	.summary = "show published ports and where they lead",
	.usage = "[CONTAINER...]",
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON | VERB_GROUPS | VERB_TABLE |
		VERB_WATCH,
	.least = 0,
	.most = -1,
	.run = run};
