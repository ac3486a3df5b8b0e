/* pull: from a registry into the store. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/near_file.h"
#include "cli/doc.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "cli/pulling.h"
#include "cli/shown.h"
#include "cli/verbs.h"

void pull_tell(struct pulling *pulling, const json_t *pulled)
{
	const struct invocation *call = pulling->call;
	const char *from = doc_text(pulled, "from");
	const json_t *notes = doc_part(pulled, "notes");
	int64_t layers = doc_number(pulled, "layers");
	char size[SIZE_TEXT], took[TH_TIME_TEXT];
	json_t *one = json_copy((json_t *)(uintptr_t)pulled);

	size_text((uint64_t)doc_number(pulled, "transferred"), size);
	th_clock_span(th_clock_now_us() - pulling->began_us, took);
	json_object_del(one, "from");
	json_array_append_new(pulling->list, one);
	for (size_t i = 0; !call->quiet && i < json_array_size(notes); i++)
		say_note(doc_item(notes, i));
	if (call->quiet)
		printf("%s\n", doc_text(pulled, "digest"));
	else if (!call->json)
		printf("pulled %s%s%s: %lld of %lld layers, %s in %s "
		       "(%.19s)\n",
			doc_text(pulled, "name"), *from ? " from " : "", from,
			(long long)(layers -
				doc_number(pulled, "already-here")),
			(long long)layers, size, took,
			doc_text(pulled, "digest"));
	fflush(stdout);
	pulling->began_us = th_clock_now_us();
}

static int pull_one(struct pulling *pulling, const char *name)
{
	struct invocation *call = pulling->call;
	json_t *pulled = NULL;
	struct th_error err = {0};
	int rc;

	if (th_image_is_path(name))
		return unpack_file(pulling, name, NULL);
	rc = th_image_fetch(call->hull, name, option_value(call, "platform"),
		&pulled, &err);
	/* The next image draws its own lines below. */
	progress_end(call->progress);
	if (rc)
		return say_error(&err);
	pull_tell(pulling, pulled);
	json_decref(pulled);
	return EXIT_DONE;
}

/* "pull selwick/gauge latest": the tag apart. */
static int refuse_tags(const struct invocation *call, struct th_error *err)
{
	for (int i = 1; i < call->object_count; i++) {
		const char *word = call->objects[i];
		const char *before = call->objects[i - 1];
		bool tag = strcmp(word, "latest") == 0 ||
			word[strspn(word, "v0123456789.")] == '\0';

		if (!tag || strchr(before, ':'))
			continue;
		th_fail(err, TH_USAGE, "\"%.100s\" is the name of a tag", word);
		return th_hint(err,
			"a colon stands before it: tidyhull pull "
			"%.120s:%.60s",
			before, word);
	}
	return 0;
}

static void tell_unpacked(void *owner, const json_t *pulled)
{
	pull_tell(owner, pulled);
}

int unpack_file(struct pulling *pulling, const char *path, const char *only)
{
	struct invocation *call = pulling->call;
	struct th_error err = {0};
	char near[TH_NEAR_FILE];
	int rc;

	call->progress->pulled = tell_unpacked;
	call->progress->owner = pulling;
	rc = th_image_unpack(call->hull, path, only,
		option_value(call, "platform"), NULL, &err);
	if (rc && path[0] != '.' && path[0] != '/' && strchr(path, '/') &&
		access(path, F_OK) != 0 && !err.hint[0])
		th_hint(&err, "from a registry: tidyhull pull %.150s", path);
	call->progress->pulled = NULL;
	progress_end(call->progress);
	if (rc && access(path, F_OK) != 0 && th_near_file(path, near)) {
		err.hint[0] = '\0';
		th_hint(&err, "did you mean %.250s?", near);
	}
	return rc ? say_error(&err) : EXIT_DONE;
}

int pull_all(struct invocation *call,
	int (*act)(struct pulling *pulling, const char *object))
{
	struct pulling pulling = {.call = call, .list = json_array()};
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		int one;

		pulling.began_us = th_clock_now_us();
		one = act(&pulling, call->objects[i]);
		code = code ? code : one;
	}
	if (call->json)
		print_json(json_pack("{s:O}", "pulled", pulling.list));
	json_decref(pulling.list);
	return code;
}

static int run(struct invocation *call)
{
	struct th_error err = {0};

	return refuse_tags(call, &err) ? say_error(&err)
				       : pull_all(call, pull_one);
}

static const struct option_spec options[] = {
	{"platform", "OS/ARCH", "another platform: linux/arm64, linux/arm/v7"},
	LAYERS_FROM, {NULL, NULL, NULL}};

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
	.called = "download get fetch wget install",
	.takes = "image",
	.summary = "download, verify and unpack images",
	.usage = "REF...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = -1,
	.run = run};
