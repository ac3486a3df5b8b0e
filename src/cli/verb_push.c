/* push: an image into a registry. */
#include <stdio.h>
#include <string.h>

#include "base/clock.h"
#include "base/size.h"
#include "cli/doc.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "cli/verbs.h"
#include "cli/wrong_object.h"

static int read_chunk(
	const char *text, uint64_t *chunk_bytes, struct th_error *err)
{
	*chunk_bytes = UINT64_MAX; /* the usual */
	if (text && strcmp(text, "0") == 0) {
		*chunk_bytes = 0;
	} else if (text && th_size_parse(text, chunk_bytes)) {
		th_fail(err, TH_USAGE, "\"%.30s\" is not a size", text);
		return th_hint(err,
			"for example 64M or 1G; 0 sends each layer in one "
			"piece");
	}
	return 0;
}

static void tell(const json_t *pushed, int64_t begin_us)
{
	int64_t layers = doc_number(pushed, "layers");
	char size[SIZE_TEXT], took[TH_TIME_TEXT];

	size_text((uint64_t)doc_number(pushed, "transferred"), size);
	th_clock_span(th_clock_now_us() - begin_us, took);
	printf("pushed %s: %lld of %lld layers, %s in %s (%.19s)\n",
		doc_text(pushed, "name"),
		(long long)(layers - doc_number(pushed, "already-there") -
			doc_number(pushed, "taken-over")),
		(long long)layers, size, took, doc_text(pushed, "digest"));
}

static int run(struct invocation *call)
{
	int64_t begin_us = th_clock_now_us();
	json_t *pushed = NULL;
	struct th_error err = {0};
	uint64_t chunk_bytes;
	int rc;

	if (read_chunk(option_value(call, "chunk"), &chunk_bytes, &err))
		return say_error(&err);
	rc = th_image_send(call->hull, call->objects[0],
		call->object_count > 1 ? call->objects[1] : NULL, chunk_bytes,
		&pushed, &err);
	progress_end(call->progress);
	if (rc) {
		hint_swapped(call, &err);
		return say_error(&err);
	}
	if (call->json)
		return print_json(pushed);
	if (call->quiet)
		printf("%s\n", doc_text(pushed, "digest"));
	else
		tell(pushed, begin_us);
	json_decref(pushed);
	return EXIT_DONE;
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
	.called = "upload publish put",
	.takes = "image",
	.summary = "upload an image to a registry",
	.usage = "IMAGE [REF]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = 2,
	.run = run};
