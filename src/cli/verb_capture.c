/* capture: a new image from what a container has changed. */
#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/making_image.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "cli/wrong_object.h"

/* What is given, and nothing else: the rest is the container's. */
static int read_wish(
	struct invocation *call, json_t *wish, struct th_error *err)
{
	static const char *const texts[] = {
		"user", "workdir", "stop", "entrypoint"};

	doc_set(wish, "name", call->objects[1]);
	for (size_t i = 0; i < sizeof(texts) / sizeof(*texts); i++)
		doc_set(wish, texts[i], option_value(call, texts[i]));
	json_object_set_new(wish, "env", option_list(call, "env"));
	json_object_set_new(wish, "label", option_list(call, "label"));
	json_object_set_new(wish, "port", option_list(call, "port"));
	if (call->has_command)
		json_object_set_new(wish, "command",
			doc_of_texts(
				call->command, (size_t)call->command_count));
	return image_wish_read(call, wish, err);
}

static void print_names(
	const json_t *capture, const char *key, const char *before)
{
	struct th_buf names;

	doc_join(capture, key, ", ", &names);
	if (names.len)
		fprintf(stderr, "%s%s\n", before, names.data);
	th_buf_release(&names);
}

static void print_notes(const json_t *capture)
{
	long long sockets = (long long)doc_number(capture, "sockets");

	print_names(capture, "mounts",
		"note: not in the image: what is mounted at ");
	print_names(
		capture, "hidden", "note: not in the image: the values of ");
	if (sockets)
		fprintf(stderr, "note: not in the image: %lld socket%s\n",
			sockets, sockets == 1 ? "" : "s");
}

static void print_result(struct invocation *call, const json_t *capture)
{
	const char *digest = doc_text(capture, "digest");
	char size[SIZE_TEXT], plain[SIZE_TEXT];

	if (call->quiet) {
		printf("%s\n", digest);
		return;
	}
	size_text((uint64_t)doc_number(capture, "size"), size);
	size_text((uint64_t)doc_number(capture, "uncompressed"), plain);
	printf("captured %s (%.12s)\n", doc_text(capture, "name"),
		short_digest(digest));
	if (doc_number(capture, "size"))
		printf("  one layer more, %s (%s unpacked)\n", size, plain);
	else
		puts("  no layer more: no file has changed");
	print_notes(capture);
}

static int run(struct invocation *call)
{
	json_t *wish = json_object(), *capture = NULL;
	struct th_error err = {0};
	int rc = read_wish(call, wish, &err);

	if (rc == 0)
		rc = th_image_capture(
			call->hull, call->objects[0], wish, &capture, &err);
	json_decref(wish);
	if (rc) {
		hint_swapped(call, &err);
		return say_error(&err);
	}
	if (call->json)
		return print_json(capture);
	print_result(call, capture);
	json_decref(capture);
	return EXIT_DONE;
}

static const struct option_spec options[] = {
	{"env", "KEY=VALUE", "a variable of the image"},
	{"label", "KEY=VALUE", "a label of the image"},
	{"port", "PORT", "a port that the image declares"},
	{"user", "USER", "the program's user"},
	{"workdir", "DIR", "the folder the program starts in"},
	{"entrypoint", "PROGRAM", "the program; \"\" for none"},
	{"stop", "STOP", "signal=INT"},
	{"compress", "KIND", "gzip, zstd or none; gzip,level=6"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"The files that the container has changed become a layer on top of its",
	"image, and its settings (environment, user, command, ports ...) those "
	"of",
	"the new image, unless they are given here. A running container is "
	"paused",
	"for as long as its files are read. Not in the image: what is mounted,",
	"and values that were not given on a command line.", NULL};

static const char *const examples[] = {
	"tidyhull capture gauge-north selwick/gauge:patched",
	"tidyhull capture work selwick/site:2 --port 80 -- serve /srv/www",
	NULL};

const struct verb verb_capture = {.name = "capture",
	.group = "images",
	.called = "commit snapshot",
	.takes = "container",
	.summary = "make an image from what a container has changed",
	.usage = "CONTAINER REF [OPTIONS] [-- COMMAND...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_COMMAND | VERB_JSON,
	.least = 2,
	.most = 2,
	.run = run};
