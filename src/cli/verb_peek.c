/* peek: what a remote image is, before it is downloaded. */
#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"

static bool is_complete(const json_t *image)
{
	return doc_part(image, "layers") != NULL;
}

static void print_platforms(const json_t *image)
{
	const json_t *offers = doc_part(image, "platforms"), *offer;
	size_t i;

	printf("platforms  ");
	json_array_foreach(offers, i, offer)
	{
		const char *platform = doc_text(offer, "platform");
		bool own = is_complete(image) &&
			strcmp(doc_text(offer, "digest"),
				doc_text(image, "manifest-digest")) == 0;

		printf("%s%s%s", i ? ", " : "",
			*platform && *platform != '/' ? shown(platform)
						      : "(unknown)",
			own ? " (this host)" : "");
	}
	/* It is no index, but the image alone. */
	if (!json_array_size(offers))
		printf("%s", shown(doc_text(image, "platform")));
	putchar('\n');
}

static void print_list(const char *what, const json_t *list)
{
	if (!json_array_size(list))
		return;
	printf("%-10s ", what);
	for (size_t i = 0; i < json_array_size(list); i++)
		printf("%s%s", i ? " " : "", shown(doc_item(list, i)));
	putchar('\n');
}

/* In image configs a set is an object of which only the names count. */
static void print_set(const char *what, const json_t *set)
{
	const char *name;
	json_t *nothing;
	bool first = true;

	if (!json_object_size(set))
		return;
	printf("%-10s ", what);
	json_object_foreach((json_t *)(uintptr_t)set, name, nothing)
	{
		printf("%s%s", first ? "" : " ", shown(name));
		first = false;
	}
	putchar('\n');
}

static void print_word(const char *what, const char *text)
{
	if (*text)
		printf("%-10s %s\n", what, shown(text));
}

/* As the OCI Image Specification names the members. */
static void print_config(const json_t *config)
{
	const json_t *env = doc_part(config, "Env");

	print_list("entrypoint", doc_part(config, "Entrypoint"));
	print_list("command", doc_part(config, "Cmd"));
	for (size_t i = 0; i < json_array_size(env); i++)
		printf("%-10s %s\n", i ? "" : "env", shown(doc_item(env, i)));
	print_set("ports", doc_part(config, "ExposedPorts"));
	print_set("volumes", doc_part(config, "Volumes"));
	print_word("user", doc_text(config, "User"));
	print_word("workdir", doc_text(config, "WorkingDir"));
	print_word("stop", doc_text(config, "StopSignal"));
}

static void print_layers(const json_t *layers)
{
	struct table *table = table_new();
	const json_t *layer;
	size_t i;

	table_column(table, "layer", 0);
	table_column(table, "size", TABLE_RIGHT);
	table_column(table, "created by", TABLE_BREAK);
	json_array_foreach(layers, i, layer)
	{
		const char *by = doc_text(layer, "made-by");
		char size[SIZE_TEXT];

		size_text((uint64_t)doc_number(layer, "size"), size);
		table_row(table);
		table_cell(table, NULL, "%.12s",
			short_digest(doc_text(layer, "digest")));
		table_cell(table, NULL, "%s", size);
		table_cell(table, "darkgray", "%s", by);
	}
	putchar('\n');
	table_print(table);
}

static void print_image(const json_t *image)
{
	char size[SIZE_TEXT], ago[48];

	printf("image      %s\n", shown(doc_text(image, "name")));
	printf("digest     %s\n", doc_text(image, "digest"));
	print_platforms(image);
	if (!is_complete(image))
		return;
	if (doc_time(image, "created")) {
		ago_text(doc_time(image, "created"), ago);
		printf("created    %s (%s)\n", ago,
			shown(doc_text(image, "created")));
	}
	size_text((uint64_t)doc_number(image, "download"), size);
	printf("download   %s in %zu layers\n", size,
		doc_count(image, "layers"));
	print_config(doc_part(image, "config"));
	print_layers(doc_part(image, "layers"));
}

static void print_images(struct invocation *call, json_t *images)
{
	const json_t *image;
	size_t i;

	if (call->json)
		print_json(json_pack("{s:O}", "images", images));
	json_array_foreach(images, i, image)
	{
		const char *note = doc_text(image, "note");

		if (i > 0 && !call->json)
			putchar('\n');
		if (!call->json)
			print_image(image);
		fflush(stdout);
		if (*note)
			say_note(note);
	}
}

static int peek_tags(struct invocation *call, const char *name)
{
	struct th_error err = {0};
	json_t *doc = NULL;
	const json_t *tags;

	if (th_registry_list_tags(call->hull, name, &doc, &err))
		return say_error(&err);
	if (call->json)
		return print_json(doc);
	tags = doc_part(doc, "tags");
	for (size_t i = 0; i < json_array_size(tags); i++)
		puts(shown(doc_item(tags, i)));
	json_decref(doc);
	return EXIT_DONE;
}

static int peek(struct invocation *call, const char *name)
{
	struct th_error err = {0};
	json_t *doc = NULL;

	if (option_given(call, "tags") && !th_image_is_path(name))
		return peek_tags(call, name);
	if (th_registry_peek(call->hull, name, option_value(call, "platform"),
		    &doc, &err))
		return say_error(&err);
	print_images(call, doc_part(doc, "images"));
	json_decref(doc);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		int one;

		if (i > 0 && !call->json)
			putchar('\n');
		one = peek(call, call->objects[i]);
		code = code ? code : one;
	}
	return code;
}

static const struct option_spec options[] = {
	{"tags", NULL, "list only the repository's tags"},
	{"platform", "OS/ARCH", "look at the image for another platform"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"Reads only the image's documents: platforms, creation time, sizes,",
	"settings and layer history. Stores nothing. REF may be a packed file "
	"(./FILE).",
	NULL};

static const char *const examples[] = {"tidyhull peek selwick/gauge",
	"tidyhull peek selwick/gauge --tags",
	"tidyhull peek selwick/gauge --platform linux/arm64 --json", NULL};

const struct verb verb_peek = {.name = "peek",
	.group = "registries",
	.called = "preview manifest look",
	.takes = "image",
	.summary = "look at a remote image before downloading it",
	.usage = "REF...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = -1,
	.run = run};
