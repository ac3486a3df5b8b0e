/* tag: another name for an image that is here. */
#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "cli/wrong_object.h"

static int run(struct invocation *call)
{
	struct th_error err = {0};
	json_t *named = NULL;
	const char *before;

	if (th_image_name(call->hull, call->objects[0], call->objects[1],
		    &named, &err)) {
		hint_swapped(call, &err);
		return say_error(&err);
	}
	before = doc_text(named, "before");
	if (!call->quiet) {
		printf("%s now also names %.12s\n", doc_text(named, "name"),
			short_digest(doc_text(named, "digest")));
		if (*before && strcmp(before, doc_text(named, "digest")) != 0)
			printf("  it named %.12s before\n",
				short_digest(before));
	}
	json_decref(named);
	return EXIT_DONE;
}

static const char *const text[] = {
	"Nothing is copied. If another image has the name, it loses it.", NULL};

static const char *const examples[] = {
	"tidyhull tag selwick/gauge registry.selwick.example/gauge:tested",
	"tidyhull tag selwick/gauge selwick/gauge:before-the-storm", NULL};

const struct verb verb_tag = {.name = "tag",
	.group = "images",
	.called = "alias label",
	.takes = "image",
	.summary = "give an image an additional name",
	.usage = "IMAGE REF",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE,
	.least = 2,
	.most = 2,
	.run = run};
