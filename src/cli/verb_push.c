/* push: an image into a registry. */
#include <stdio.h>
#include <string.h>

#include "base/size.h"
#include "base/clock.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "cli/verbs.h"
#include "model/settings.h"
#include "image/push.h"

/* Larger blobs go in chunks, so that a broken upload can be taken up. */
#define CHUNK_BYTES ((uint64_t)64 << 20)

/* Where to: what was given, or the image's own name. */
static int read_target(struct invocation *call, const struct th_object *object,
	struct th_reference *ref, struct th_error *err)
{
	const char *given = call->object_count > 1 ? call->objects[1]
		: object->by_name		   ? object->name
		: object->image.tags.count == 1	   ? object->image.tags.items[0]
						   : NULL;

	if (!given) {
		th_fail(err, TH_USAGE,
			"%.12s has %s name: it is not clear which one to push",
			th_digest_hex(object->image.digest),
			object->image.tags.count ? "more than one" : "no");
		return th_hint(err,
			"tidyhull push %.12s registry.example/name:tag",
			th_digest_hex(object->image.digest));
	}
	if (th_reference_parse(given, ref, err))
		return -1;
	if (ref->digest[0] && strcmp(ref->digest, object->image.digest) != 0)
		return th_fail(err, TH_USAGE,
			"the image is not %s, so it cannot be pushed under "
			"that digest",
			ref->digest);
	if (ref->host[0])
		return 0;
	th_fail(err, TH_USAGE, "\"%.200s\" does not name a registry", given);
	return th_hint(err, "tidyhull push %.100s registry.example/%.100s",
		call->objects[0], ref->path);
}

static void tell(const struct invocation *call, const struct th_pushed *pushed,
	int64_t begin_us)
{
	char size[SIZE_TEXT], took[TH_TIME_TEXT];

	if (call->json) {
		print_json(json_pack("{s:s s:s s:I s:I s:I s:I}", "name",
			pushed->name, "digest", pushed->digest, "layers",
			(json_int_t)pushed->layer_count, "already-there",
			(json_int_t)pushed->there_count, "taken-over",
			(json_int_t)pushed->mounted_count, "transferred",
			(json_int_t)pushed->sent_bytes));
		return;
	}
	if (call->quiet) {
		printf("%s\n", pushed->digest);
		return;
	}
	size_text(pushed->sent_bytes, size);
	th_clock_span(th_clock_now_us() - begin_us, took);
	printf("pushed %s: %zu of %zu layers, %s in %s (%.19s)\n", pushed->name,
		pushed->layer_count - pushed->there_count -
			pushed->mounted_count,
		pushed->layer_count, size, took, pushed->digest);
}

static int run(struct invocation *call)
{
	struct th_push_options options = {.registries = &call->hull.registries,
		.chunk_bytes = CHUNK_BYTES,
		.progress = call->hull.context.progress,
		.owner = call->hull.context.owner};
	const char *chunk = option_value(call, "chunk");
	int64_t begin_us = th_clock_now_us();
	struct th_object object;
	struct th_reference ref;
	struct th_pushed pushed;
	struct th_error err = {0};

	if (chunk && strcmp(chunk, "0") == 0)
		options.chunk_bytes = 0;
	else if (chunk && th_size_parse(chunk, &options.chunk_bytes)) {
		th_fail(&err, TH_USAGE, "\"%.30s\" is not a size", chunk);
		th_hint(&err,
			"for example 64M or 1G; 0 sends each layer in one "
			"piece");
		return say_error(&err);
	}
	if (th_object_find(&call->hull.context, call->objects[0], TH_KIND_IMAGE,
		    &object, &err))
		return say_error(&err);
	if (read_target(call, &object, &ref, &err) == 0 &&
		th_push(call->hull.context.store, &object.image, &ref, &options,
			&pushed, &err) == 0) {
		progress_end(call->hull.context.owner);
		tell(call, &pushed, begin_us);
	}
	th_object_release(&object);
	return err.code ? say_error(&err) : EXIT_DONE;
}

static const struct option_spec options[] = {
	{"chunk", "SIZE",
		"upload layers in pieces of this size; 0: in one piece"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"Uploads only what the registry does not "
				   "have; layers in another of its",
	"repositories are mounted from there. Without REF, the image's name "
	"says",
	"where to.", NULL};

static const char *const examples[] = {
	"tidyhull push registry.selwick.example/gauge:tested",
	"tidyhull push selwick/gauge registry.selwick.example/gauge:tested",
	NULL};

const struct verb verb_push = {.name = "push",
	.group = "images",
	.summary = "upload an image to a registry",
	.usage = "IMAGE [REF]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = 2,
	.run = run};
