/* pull: from a registry into the store. */
#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "base/json.h"
#include "cli/choose.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "cli/pulling.h"
#include "cli/shown.h"
#include "cli/verbs.h"
#include "container/image_choice.h"
#include "image/resolve.h"

static void tell(struct invocation *call, const struct th_pulled *pulled,
	int64_t begin_us, json_t *list)
{
	char size[SIZE_TEXT], took[TH_TIME_TEXT];

	size_text(pulled->transfer_bytes, size);
	th_clock_span(th_clock_now_us() - begin_us, took);
	json_array_append_new(list,
		json_pack("{s:s s:s s:I s:I s:I s:o}", "name", pulled->name,
			"digest", pulled->digest, "layers",
			(json_int_t)pulled->layer_count, "already-here",
			(json_int_t)pulled->here_count, "transferred",
			(json_int_t)pulled->transfer_bytes, "notes",
			th_json_from_strings(&pulled->notes)));
	for (size_t i = 0; !call->quiet && i < pulled->notes.count; i++)
		say_note(pulled->notes.items[i]);
	if (call->quiet)
		printf("%s\n", pulled->digest);
	else if (!call->json)
		printf("pulled %s%s%s: %zu of %zu layers, %s in %s (%.19s)\n",
			pulled->name, pulled->from[0] ? " from " : "",
			pulled->from, pulled->layer_count - pulled->here_count,
			pulled->layer_count, size, took, pulled->digest);
	fflush(stdout);
}

static int pull_one(struct invocation *call, const char *name,
	const struct th_pull_options *options, json_t *list)
{
	struct th_reference ref;
	struct th_pulled pulled;
	struct th_error err = {0};
	int64_t begin_us = th_clock_now_us();
	int rc;

	if (th_packed_is_path(name))
		return unpack_file(call, name, NULL, options, list);
	if (th_reference_parse(name, &ref, &err) ||
		choose_host(call, call->hull.context.store, &ref, &err))
		return say_error(&err);
	rc = th_pull(call->hull.context.store, &ref, options, &pulled, &err);
	/* The next image draws its own lines below. */
	progress_end(call->hull.context.owner);
	if (rc)
		return say_error(&err);
	tell(call, &pulled, begin_us, list);
	th_pulled_release(&pulled);
	return EXIT_DONE;
}

int unpack_file(struct invocation *call, const char *path, const char *only,
	const struct th_pull_options *options, json_t *list)
{
	const struct th_packed_image *images, *one = NULL;
	struct th_packed *packed = NULL;
	struct th_error err = {0};
	size_t count = 0;
	int rc;

	if (th_packed_open(call->hull.context.store, path, &packed, &err))
		return say_error(&err);
	images = th_packed_images(packed, &count);
	rc = only || count == 0
		? th_packed_choose(packed, path, only, &one, &err)
		: 0;
	for (size_t i = 0; rc == 0 && i < count; i++) {
		int64_t begin_us = th_clock_now_us();
		struct th_pulled pulled;

		if (one && one != &images[i])
			continue;
		rc = th_pull_packed(call->hull.context.store, packed,
			&images[i], NULL, options, &pulled, &err);
		progress_end(call->hull.context.owner);
		if (rc)
			break;
		tell(call, &pulled, begin_us, list);
		th_pulled_release(&pulled);
	}
	th_packed_close(packed);
	return rc ? say_error(&err) : EXIT_DONE;
}

int pull_all(struct invocation *call,
	int (*act)(struct invocation *call, const char *object,
		const struct th_pull_options *options, json_t *list))
{
	struct th_pull_options options = {.registries = &call->hull.registries,
		.progress = call->hull.context.progress,
		.owner = call->hull.context.owner};
	const char *platform = option_value(call, "platform");
	json_t *list = json_array();
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (platform && th_platform_parse(platform, &options.platform, &err)) {
		json_decref(list);
		return say_error(&err);
	}
	for (int i = 0; i < call->object_count; i++) {
		int one = act(call, call->objects[i], &options, list);

		code = code ? code : one;
	}
	if (call->json)
		print_json(json_pack("{s:O}", "pulled", list));
	json_decref(list);
	return code;
}

static int run(struct invocation *call)
{
	return pull_all(call, pull_one);
}

static const struct option_spec options[] = {
	{"platform", "OS/ARCH", "another platform: linux/arm64, linux/arm/v7"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"A name without a registry host is looked "
				   "up in the registries that the",
	"configuration marks with \"search: true\". Every blob is verified as "
	"it",
	"arrives, and layers already in the store are not downloaded again. An",
	"interrupted pull resumes where it stopped. A packed file (./FILE) "
	"works",
	"like a registry.", NULL};

static const char *const examples[] = {"tidyhull pull selwick/gauge",
	"tidyhull pull registry.example:5000/selwick/gauge:2",
	"tidyhull pull ./gauge.tar", NULL};

const struct verb verb_pull = {.name = "pull",
	.group = "images",
	.summary = "download, verify and unpack images",
	.usage = "REF...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = -1,
	.run = run};
