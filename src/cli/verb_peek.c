/* peek: what a remote image is, before it is downloaded. */
#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "base/json.h"
#include "cli/choose.h"
#include "cli/output.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "image/resolve.h"

#define MADE_BY 60

struct peeking {
	char name[TH_REFERENCE_MAX + 256];
	const struct th_resolved *resolved;
	json_t *config; /* the config document */
	bool complete; /* there is an image, and not only an index */
};

static uint64_t download_bytes(const struct th_resolved *resolved)
{
	uint64_t total = 0;

	for (size_t i = 0; i < resolved->manifest.layer_count; i++)
		total += resolved->manifest.layers[i].size_bytes;
	return total;
}

/* The step of the history that made a layer: those that made none are passed
 * over (OCI Image Specification, config.md, "history"). */
static const char *made_by(const json_t *config, size_t layer)
{
	json_t *history = json_object_get(config, "history"), *step;
	size_t i, seen = 0;

	json_array_foreach(history, i, step)
	{
		const char *text =
			json_string_value(json_object_get(step, "created_by"));

		if (json_is_true(json_object_get(step, "empty_layer")))
			continue;
		if (seen++ == layer)
			return text ? text : "";
	}
	return "";
}

/* ---- for people ---- */

static void print_platforms(const struct peeking *peeking)
{
	const struct th_resolved *resolved = peeking->resolved;
	char text[TH_PLATFORM_TEXT];

	printf("platforms  ");
	for (size_t i = 0; i < resolved->offer_count; i++) {
		const struct th_offer *offer = &resolved->offers[i];

		th_platform_format(&offer->platform, text);
		printf("%s%s%s", i ? ", " : "",
			offer->platform.os[0] ? shown(text) : "(unknown)",
			peeking->complete &&
					strcmp(offer->digest,
						resolved->digest) == 0
				? " (this host)"
				: "");
	}
	if (!resolved->is_index) {
		th_platform_format(&resolved->config.platform, text);
		printf("%s", shown(text));
	}
	putchar('\n');
}

static void print_list(const char *what, const struct th_strings *list)
{
	if (!list->count)
		return;
	printf("%-10s ", what);
	for (size_t i = 0; i < list->count; i++)
		printf("%s%s", i ? " " : "", shown(list->items[i]));
	putchar('\n');
}

static void print_word(const char *what, const char *text)
{
	if (text && *text)
		printf("%-10s %s\n", what, shown(text));
}

static void print_config(const struct th_image_config *config)
{
	print_list("entrypoint", &config->entrypoint);
	print_list("command", &config->command);
	for (size_t i = 0; i < config->env.count; i++)
		printf("%-10s %s\n", i ? "" : "env",
			shown(config->env.items[i]));
	print_list("ports", &config->ports);
	print_list("volumes", &config->volumes);
	print_word("user", config->user);
	print_word("workdir", config->workdir);
	print_word("stop", config->stop_signal);
}

static void print_layers(const struct peeking *peeking)
{
	const struct th_manifest *manifest = &peeking->resolved->manifest;
	struct table *table = table_new();

	table_column(table, "layer", false);
	table_column(table, "size", true);
	table_column(table, "created by", false);
	for (size_t i = 0; i < manifest->layer_count; i++) {
		const char *by = made_by(peeking->config, i);
		char size[SIZE_TEXT];

		size_text(manifest->layers[i].size_bytes, size);
		table_row(table);
		table_cell(table, NULL, "%.12s",
			th_digest_hex(manifest->layers[i].digest));
		table_cell(table, NULL, "%s", size);
		table_cell(table, "darkgray", "%.*s%s", MADE_BY, by,
			strlen(by) > MADE_BY ? "..." : "");
	}
	putchar('\n');
	table_print(table);
}

static void print_image(const struct peeking *peeking)
{
	const struct th_resolved *resolved = peeking->resolved;
	char size[SIZE_TEXT], ago[48];
	int64_t created = 0;

	printf("image      %s\n", peeking->name);
	printf("digest     %s\n", resolved->first);
	print_platforms(peeking);
	if (!peeking->complete)
		return;
	if (th_clock_parse(resolved->config.created, &created) == 0) {
		ago_text(created, ago);
		printf("created    %s (%s)\n", ago,
			shown(resolved->config.created));
	}
	size_text(download_bytes(resolved), size);
	printf("download   %s in %zu layers\n", size,
		resolved->manifest.layer_count);
	print_config(&resolved->config);
	print_layers(peeking);
}

/* ---- for programs ---- */

static json_t *describe_layers(const struct peeking *peeking)
{
	const struct th_resolved *resolved = peeking->resolved;
	json_t *list = json_array();

	for (size_t i = 0; i < resolved->manifest.layer_count; i++)
		json_array_append_new(list,
			json_pack("{s:s s:s s:I s:s s:s}", "digest",
				resolved->manifest.layers[i].digest, "diff-id",
				resolved->config.diff_ids.items[i], "size",
				(json_int_t)resolved->manifest.layers[i]
					.size_bytes,
				"media-type",
				resolved->manifest.layers[i].media_type,
				"made-by", made_by(peeking->config, i)));
	return list;
}

static json_t *describe(const struct peeking *peeking)
{
	const struct th_resolved *resolved = peeking->resolved;
	json_t *platforms = json_array(), *doc, *part;
	char text[TH_PLATFORM_TEXT];

	for (size_t i = 0; i < resolved->offer_count; i++) {
		th_platform_format(&resolved->offers[i].platform, text);
		json_array_append_new(platforms,
			json_pack("{s:s s:s}", "platform", text, "digest",
				resolved->offers[i].digest));
	}
	doc = json_pack("{s:s s:s s:o}", "name", peeking->name, "digest",
		resolved->first, "platforms", platforms);
	if (!peeking->complete)
		return doc;
	th_platform_format(&resolved->config.platform, text);
	part = json_object_get(peeking->config, "config");
	json_object_set_new(doc, "platform", json_string(text));
	json_object_set_new(
		doc, "manifest-digest", json_string(resolved->digest));
	json_object_set_new(
		doc, "created", json_string(resolved->config.created));
	json_object_set_new(doc, "download",
		json_integer((json_int_t)download_bytes(resolved)));
	json_object_set_new(doc, "layers", describe_layers(peeking));
	json_object_set(doc, "config", part ? part : json_null());
	part = json_object_get(peeking->config, "history");
	json_object_set(doc, "history", part ? part : json_null());
	return doc;
}

/* ---- the tags ---- */

static int peek_tags(struct invocation *call, const struct th_reference *ref)
{
	struct th_strings tags = {0};
	struct th_registry *registry;
	struct th_error err = {0};
	int rc = -1;

	registry = th_registry_new(&call->hull.registries, ref->host, &err);
	if (registry)
		rc = th_registry_tags(registry, ref->path, &tags, &err);
	th_registry_free(registry);
	if (rc == 0 && call->json)
		print_json(json_pack("{s:s+++ s:o}", "name", ref->host, "/",
			ref->path, "", "tags", th_json_from_strings(&tags)));
	for (size_t i = 0; rc == 0 && !call->json && i < tags.count; i++)
		puts(shown(tags.items[i]));
	th_strings_release(&tags);
	return rc ? say_error(&err) : EXIT_DONE;
}

/* ---- the whole ---- */

/* Takes the origin over. */
static int show(struct invocation *call, struct th_origin *origin,
	const char *name, const char *wanted,
	const struct th_platform *platform, struct th_error *err)
{
	struct th_reader *reader = origin ? th_reader_new(origin, err) : NULL;
	struct th_resolved resolved = {0};
	struct peeking peeking = {.resolved = &resolved};
	struct th_error ignored = {0}; /* then it is not shown */
	int rc = -1;

	snprintf(peeking.name, sizeof(peeking.name), "%s", name);
	if (reader)
		rc = th_resolve(reader, wanted, platform, &resolved, err);
	peeking.complete = resolved.config.diff_ids.count > 0;
	/* A look is worth something even where nothing fits this host. */
	if (rc == 0 ||
		(err->code == TH_NOT_FOUND && !platform->os[0] &&
			(resolved.offer_count || peeking.complete))) {
		if (peeking.complete)
			th_json_parse(resolved.config_body.data,
				resolved.config_body.len, "the config",
				&peeking.config, &ignored);
		if (call->json)
			print_json(describe(&peeking));
		else
			print_image(&peeking);
		fflush(stdout);
		if (rc)
			say_note(err->msg);
		th_error_clear(err);
		rc = 0;
	}
	json_decref(peeking.config);
	if (reader)
		th_resolved_release(&resolved);
	th_reader_free(reader);
	th_origin_free(origin);
	return rc;
}

/* The images of a packed file. */
static int peek_file(struct invocation *call, const char *path,
	const struct th_platform *platform)
{
	const struct th_packed_image *images;
	struct th_packed *packed = NULL;
	struct th_error err = {0};
	size_t count = 0;

	if (th_packed_open(NULL, path, &packed, &err))
		return say_error(&err);
	images = th_packed_images(packed, &count);
	for (size_t i = 0; i < count && !err.code; i++) {
		if (i > 0 && !call->json)
			putchar('\n');
		show(call, th_origin_packed(packed, &err),
			images[i].name[0] ? images[i].name : path,
			images[i].digest, platform, &err);
	}
	th_packed_close(packed);
	return err.code ? say_error(&err) : EXIT_DONE;
}

static int peek(struct invocation *call, const char *name,
	const struct th_platform *platform)
{
	struct th_reference ref;
	struct th_error err = {0};
	char full[TH_REFERENCE_MAX + 256];

	if (th_packed_is_path(name))
		return peek_file(call, name, platform);
	if (th_reference_parse(name, &ref, &err) ||
		choose_host(call, NULL, &ref, &err))
		return say_error(&err);
	if (option_given(call, "tags"))
		return peek_tags(call, &ref);
	th_reference_format(&ref, full);
	show(call, th_origin_registry(&call->hull.registries, &ref, &err), full,
		th_reference_wanted(&ref), platform, &err);
	return err.code ? say_error(&err) : EXIT_DONE;
}

static int run(struct invocation *call)
{
	const char *given = option_value(call, "platform");
	struct th_platform platform = {.os = ""};
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (given && th_platform_parse(given, &platform, &err))
		return say_error(&err);
	for (int i = 0; i < call->object_count; i++) {
		int one;

		if (i > 0 && !call->json)
			putchar('\n');
		one = peek(call, call->objects[i], &platform);
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
	.summary = "look at a remote image before downloading it",
	.usage = "REF...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = -1,
	.run = run};
