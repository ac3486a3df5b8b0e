/* show: everything about an object. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/image_tree.h"
#include "cli/output.h"
#include "cli/settings_text.h"
#include "cli/shown.h"
#include "cli/verbs.h"

/* A member by its path: "settings.port", "outcome.exit-code", "ports.0". */
static const json_t *follow(const json_t *doc, const char *path)
{
	char part[128];

	while (doc && *path) {
		size_t len = strcspn(path, ".");

		if (len >= sizeof(part))
			return NULL;
		memcpy(part, path, len);
		part[len] = '\0';
		doc = json_is_array(doc)
			? json_array_get(doc, (size_t)atol(part))
			: json_object_get(doc, part);
		path += len + (path[len] == '.');
	}
	return doc;
}

static void print_value(const json_t *value)
{
	char *text;

	if (json_is_string(value)) {
		const char *word = json_string_value(value);

		/* A script gets what is there. */
		puts(isatty(1) ? shown(word) : word);
		return;
	}
	text = json_is_null(value)
		? NULL
		: json_shown(value, JSON_ENCODE_ANY | JSON_INDENT(2));
	puts(text ? text : "");
	free(text);
}

/* One item of a list on a line: a word, or its members side by side. */
static void print_item(json_t *item, int depth)
{
	const char *key;
	json_t *value;

	printf("%*s-", depth * 2 + 2, "");
	if (json_is_string(item))
		printf(" %s", shown(json_string_value(item)));
	json_object_foreach(item, key, value)
	{
		/* The URL says it better. */
		if (json_is_null(value) ||
			(strcmp(key, "reach") == 0 && *doc_text(item, "url")))
			continue;
		if (json_is_string(value))
			printf(" %s %s ", shown(key),
				shown(json_string_value(value)));
		else
			printf(" %s %lld ", shown(key),
				(long long)json_integer_value(value));
	}
	putchar('\n');
}

/* The sizes of images are for people to read here; --json has the bytes. */
static void print_number(const char *key, json_int_t number)
{
	static const char *const sizes[] = {"size", "on-disk", "shared"};
	char text[SIZE_TEXT];

	for (size_t i = 0; i < sizeof(sizes) / sizeof(*sizes); i++) {
		if (strcmp(key, sizes[i]) != 0)
			continue;
		size_text((uint64_t)number, text);
		printf(" %s\n", text);
		return;
	}
	printf(" %lld\n", (long long)number);
}

/* In image configs a set is an object of which only the names count. */
static bool is_set(const json_t *value)
{
	const char *key;
	json_t *item;

	json_object_foreach((json_t *)(uintptr_t)value, key, item)
	{
		if (!json_is_object(item) || json_object_size(item))
			return false;
	}
	return json_is_object(value);
}

static void print_set(const json_t *value)
{
	const char *key;
	json_t *item;

	json_object_foreach((json_t *)(uintptr_t)value, key, item)
	{
		printf(" %s", shown(key));
	}
	putchar('\n');
}

/* The document as indented lines, a member each: what is empty is left out. */
static void print_tree(const json_t *doc, int depth)
{
	const char *key;
	json_t *value;
	void *iter = json_object_iter((json_t *)(uintptr_t)doc);

	for (; iter;
		iter = json_object_iter_next((json_t *)(uintptr_t)doc, iter)) {
		size_t i;
		json_t *item;

		key = json_object_iter_key(iter);
		value = json_object_iter_value(iter);
		if (json_is_null(value) ||
			(json_is_string(value) && !json_string_length(value)) ||
			(json_is_array(value) && !json_array_size(value)) ||
			(json_is_object(value) && !json_object_size(value)))
			continue;
		printf("%*s%-*s", depth * 2, "", 16 - depth * 2, shown(key));
		if (json_is_string(value)) {
			printf(" %s\n", shown(json_string_value(value)));
		} else if (json_is_integer(value)) {
			print_number(key, json_integer_value(value));
		} else if (json_is_boolean(value)) {
			printf(" %s\n", json_is_true(value) ? "yes" : "no");
		} else if (is_set(value)) {
			print_set(value);
		} else if (json_is_object(value)) {
			putchar('\n');
			print_tree(value, depth + 1);
		} else {
			putchar('\n');
			json_array_foreach(value, i, item)
			{
				print_item(item, depth);
			}
		}
	}
}

/* The layers of an image from the lowest up, and who else has each. */
static void print_layers(const json_t *layers)
{
	struct table *table = table_new();
	const json_t *layer;
	size_t i;

	table_column(table, "layer", 0);
	table_column(table, "download", TABLE_RIGHT);
	table_column(table, "unpacked", TABLE_RIGHT);
	json_array_foreach(layers, i, layer)
	{
		char size[SIZE_TEXT], unpacked[SIZE_TEXT];

		size_text((uint64_t)doc_number(layer, "size"), size);
		size_text((uint64_t)doc_number(layer, "unpacked"), unpacked);
		table_branch(table, 0);
		table_cell(table, "bold", "%.12s",
			short_digest(doc_text(layer, "digest")));
		table_cell(table, NULL, "%s", size);
		table_cell(table, NULL, "%s", unpacked);
		image_add_sharers(table, layer);
	}
	putchar('\n');
	table_print(table);
}

/* ---- groups ---- */

/* "ledger is ready, gauge is running". */
static void after_text(const json_t *list, char text[300])
{
	size_t i, used = 0;
	const json_t *one;

	text[0] = '\0';
	json_array_foreach(list, i, one)
	{
		snprintf(text + used, 300 - used, "%s%s %s", used ? ", " : "",
			doc_text(one, "container"), doc_text(one, "is"));
		used = strlen(text);
	}
}

static void print_group(const json_t *doc)
{
	struct table *table = table_new();
	const json_t *one;
	size_t i;

	printf("group       %s\n\n", shown(doc_text(doc, "name")));
	table_column(table, "container", 0);
	table_column(table, "state", 0);
	table_column(table, "started after", TABLE_BREAK);
	table_column(table, "ports", TABLE_BREAK);
	table_column(table, "image", TABLE_BREAK);
	json_array_foreach(doc_part(doc, "containers"), i, one)
	{
		char state[96], after[300], reach[512];

		state_text(one, state);
		after_text(doc_part(one, "after"), after);
		reach_text(one, reach, sizeof(reach));
		table_row(table);
		table_cell(table, "bold", "%s", doc_text(one, "name"));
		table_cell(table, state_colour(one), "%s", state);
		table_cell(table, NULL, "%s", after);
		table_cell(table, NULL, "%s", reach);
		table_cell(table, NULL, "%s", doc_text(one, "image"));
	}
	table_print(table);
}

/* ---- one object ---- */

static void print_image(json_t *doc)
{
	json_t *layers = json_incref(doc_part(doc, "layers"));

	json_object_del(doc, "layers");
	print_tree(doc, 0);
	print_layers(layers);
	json_decref(layers);
}

static int print_settings(const json_t *doc, const char *name, const char *kind,
	struct th_error *err)
{
	if (strcmp(kind, "group") == 0)
		settings_file_print_group(
			doc_text(doc, "name"), doc_part(doc, "containers"));
	else if (strcmp(kind, "container") == 0)
		settings_file_print(doc);
	else
		return th_fail(
			err, TH_USAGE, "\"%.50s\" is not a container", name);
	return 0;
}

static int print_object(struct invocation *call, json_t *doc, const char *name,
	json_t *all, struct th_error *err)
{
	const char *field = option_value(call, "field");
	const char *kind = doc_text(doc, "kind");
	const json_t *value = field ? follow(doc, field) : NULL;
	bool tree = option_given(call, "tree");

	if (tree && (field || call->json || strcmp(kind, "image") != 0)) {
		th_fail(err, TH_USAGE, "--tree draws the layers of an image");
		return th_hint(err, "tidyhull show image:NAME --tree");
	}
	if (field && !value)
		return th_fail(err, TH_NOT_FOUND,
			"\"%.50s\" does not have the field %.100s", name,
			field);
	if (option_given(call, "settings") && !field)
		return print_settings(doc, name, kind, err);
	if (value)
		print_value(value);
	else if (call->json)
		json_array_append(all, doc);
	else if (tree)
		return image_tree(call, doc, err);
	else if (strcmp(kind, "group") == 0)
		print_group(doc);
	else if (strcmp(kind, "image") == 0)
		print_image(doc);
	else
		print_tree(doc, 0);
	return 0;
}

/* Of a group, the settings of its containers are of no use to a table. */
static enum th_detail detail_of(const struct invocation *call)
{
	return option_given(call, "reveal") ? TH_REVEALED : TH_FULL;
}

/* "show web.state" */
static void hint_field(
	const struct invocation *call, const char *name, struct th_error *err)
{
	const char *dot = strchr(name, '.');
	struct th_error none = {0};
	char object[64];

	if (!dot || dot - name >= (int)sizeof(object))
		return;
	snprintf(object, sizeof(object), "%.*s", (int)(dot - name), name);
	if (th_object(call->hull, object, TH_KIND_CONTAINER, TH_BRIEF, NULL,
		    &none))
		return;
	err->hint[0] = '\0';
	th_hint(err, "it is: tidyhull show %s --field %.100s", object, dot + 1);
}

static int show(struct invocation *call, const char *name, json_t *all)
{
	struct th_error err = {0};
	json_t *doc = NULL;
	int code = EXIT_DONE;

	if (th_object(call->hull, name,
		    TH_KIND_CONTAINER | TH_KIND_IMAGE | TH_KIND_SESSION |
			    TH_KIND_VOLUME | TH_KIND_NETWORK | TH_KIND_GROUP,
		    detail_of(call), &doc, &err) ||
		print_object(call, doc, name, all, &err)) {
		if (err.code == TH_NOT_FOUND)
			hint_field(call, name, &err);
		code = say_error(&err);
	}
	json_decref(doc);
	return code;
}

/* Several containers make a file of a group. */
static int show_settings(struct invocation *call)
{
	json_t *list = json_array();
	struct th_error err = {0};
	const char *group = "";

	for (int i = 0; i < call->object_count && !err.code; i++) {
		json_t *doc = NULL;

		if (th_object(call->hull, call->objects[i], TH_KIND_CONTAINER,
			    detail_of(call), &doc, &err))
			break;
		json_array_append_new(list, doc);
		if (!*group)
			group = doc_text(doc, "group");
	}
	if (!err.code)
		settings_file_print_group(*group ? group : "together", list);
	json_decref(list);
	return err.code ? say_error(&err) : EXIT_DONE;
}

static int run(struct invocation *call)
{
	json_t *all;
	int code = EXIT_DONE;

	if (option_given(call, "settings") && call->object_count > 1)
		return show_settings(call);
	all = json_array();
	for (int i = 0; i < call->object_count; i++) {
		int one;

		if (i > 0 && !call->json)
			putchar('\n');
		one = show(call, call->objects[i], all);
		code = code ? code : one;
	}
	if (call->json && !option_given(call, "field"))
		print_json(json_pack("{s:O}", "objects", all));
	json_decref(all);
	return code;
}

static const struct option_spec options[] = {
	{"field", "PATH",
		"only this field: state, ports.0.host-port, settings.env"},
	{"reveal", NULL, "include hidden values"},
	{"tree", NULL,
		"of an image: layers, who shares them, what no one sees"},
	{"settings", NULL,
		"print a settings file that makes it, or them, again"},
	{NULL, NULL, NULL}};

static const char *const examples[] = {"tidyhull show gauge-north",
	"tidyhull show gauge-north --field outcome.exit-code",
	"tidyhull show gauge-north --settings > gauge.yaml",
	"tidyhull show image:selwick/gauge --tree", NULL};

const struct verb verb_show = {.name = "show",
	.group = "look",
	.called = "inspect ip env settings properties info details describe "
		  "stat cat display history view",
	.takes = "container image volume network",
	.summary = "show everything about any object",
	.usage = "OBJECT...",
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_LOOK | VERB_JSON,
	.least = 1,
	.most = -1,
	.run = run};
