/* tag: another name for an image that is here. */
#include <stdio.h>
#include <string.h>

#include "cli/making_image.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "image/commit.h"

static int run(struct invocation *call)
{
	struct th_store *store = call->hull.context.store;
	char name[TH_REFERENCE_MAX + 256], before[TH_DIGEST_TEXT];
	struct th_object object;
	struct th_error err = {0};

	if (th_object_find(&call->hull.context, call->objects[0], TH_KIND_IMAGE,
		    &object, &err))
		return say_error(&err);
	/* What a build's step has made lasts from now on. */
	if (image_name_read(call->objects[1], name, &err) == 0)
		th_image_sync_steps(store, &err);
	if (!err.code &&
		th_image_state_tag(
			store, object.image.digest, name, before, &err) == 0 &&
		!call->quiet) {
		printf("%s now also names %.12s\n", name,
			th_digest_hex(object.image.digest));
		if (before[0] && strcmp(before, object.image.digest) != 0)
			printf("  it named %.12s before\n",
				th_digest_hex(before));
	}
	th_object_release(&object);
	return err.code ? say_error(&err) : EXIT_DONE;
}

static const char *const text[] = {
	"Nothing is copied. If another image has the name, it loses it.", NULL};

static const char *const examples[] = {
	"tidyhull tag selwick/gauge registry.selwick.example/gauge:tested",
	NULL};

const struct verb verb_tag = {.name = "tag",
	.group = "images",
	.summary = "give an image an additional name",
	.usage = "IMAGE REF",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE,
	.least = 2,
	.most = 2,
	.run = run};
