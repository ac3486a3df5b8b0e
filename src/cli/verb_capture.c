/* capture: a new image from what a container has changed. */
#include <inttypes.h>
#include <stdio.h>
#include <string.h>

#include "build/capture.h"
#include "cli/making_image.h"
#include "base/json.h"
#include "cli/output.h"
#include "cli/verbs.h"

/* Values from elsewhere would be in the image for good. */
static int take_env(void *owner, const char *text, struct th_error *err)
{
	struct th_image_settings *settings = owner;
	const char *equals = strchr(text, '=');

	if (!equals || equals == text || equals[1] == '@') {
		th_fail(err, TH_USAGE, "\"%.100s\" cannot be kept in an image",
			text);
		return th_hint(err,
			"use --env KEY=VALUE; secrets are given to containers");
	}
	return th_strings_add(&settings->env, text) ? th_fail_memory(err) : 0;
}

static int take_label(void *owner, const char *text, struct th_error *err)
{
	struct th_image_settings *settings = owner;
	const char *equals = strchr(text, '=');

	if (!equals || equals == text) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a label", text);
		return th_hint(err, "use --label KEY=VALUE");
	}
	return th_strings_add(&settings->labels, text) ? th_fail_memory(err)
						       : 0;
}

static int take_port(void *owner, const char *text, struct th_error *err)
{
	return th_image_settings_port(owner, text, err);
}

static int copy_text(struct invocation *call, const char *option, char **copy,
	struct th_error *err)
{
	const char *text = option_value(call, option);

	if (!text)
		return 0;
	*copy = strdup(text);
	return *copy ? 0 : th_fail_memory(err);
}

static int read_settings(struct invocation *call,
	struct th_image_settings *settings, struct th_error *err)
{
	const char *entrypoint = option_value(call, "entrypoint");
	int rc = 0;

	settings->has_entrypoint = entrypoint != NULL;
	if (entrypoint && *entrypoint)
		rc = th_strings_add(&settings->entrypoint, entrypoint);
	settings->has_command = call->has_command;
	for (int i = 0; i < call->command_count; i++)
		rc |= th_strings_add(&settings->command, call->command[i]);
	if (rc)
		return th_fail_memory(err);
	return each_option(call, "env", take_env, settings, err) ||
			each_option(call, "label", take_label, settings, err) ||
			each_option(call, "port", take_port, settings, err) ||
			copy_text(call, "user", &settings->user, err) ||
			copy_text(call, "workdir", &settings->workdir, err) ||
			copy_text(call, "stop", &settings->stop, err)
		? -1
		: 0;
}

static void print_names(
	const char *before, const struct th_strings *names, const char *after)
{
	for (size_t i = 0; i < names->count; i++)
		fprintf(stderr, "%s%s", i ? ", " : before, names->items[i]);
	if (names->count)
		fputs(after, stderr);
}

static void print_notes(const struct th_capture *capture)
{
	print_names("note: not in the image: what is mounted at ",
		&capture->mounts, "\n");
	print_names("note: not in the image: the values of ", &capture->hidden,
		"\n");
	if (capture->sockets)
		fprintf(stderr,
			"note: not in the image: %" PRIu64 " socket%s\n",
			capture->sockets, capture->sockets == 1 ? "" : "s");
}

static int print_result(
	struct invocation *call, const struct th_capture *capture)
{
	char size[SIZE_TEXT], plain[SIZE_TEXT];

	if (call->json)
		return print_json(json_pack("{s:s s:s s:I s:I s:o s:o}", "name",
			capture->name, "digest", capture->digest, "size",
			(json_int_t)capture->size_bytes, "uncompressed",
			(json_int_t)capture->plain_bytes, "mounts",
			th_json_from_strings(&capture->mounts), "hidden",
			th_json_from_strings(&capture->hidden)));
	if (call->quiet) {
		printf("%s\n", capture->digest);
		return EXIT_DONE;
	}
	size_text(capture->size_bytes, size);
	size_text(capture->plain_bytes, plain);
	printf("captured %s (%.12s)\n", capture->name,
		th_digest_hex(capture->digest));
	if (capture->size_bytes)
		printf("  one layer more, %s (%s unpacked)\n", size, plain);
	else
		puts("  no layer more: no file has changed");
	print_notes(capture);
	return EXIT_DONE;
}

static int capture_one(struct invocation *call,
	const struct th_container_row *row, struct th_error *err)
{
	char name[TH_REFERENCE_MAX + 256];
	struct th_image_settings settings = {0};
	struct th_capture capture = {.name = name, .settings = &settings};
	int code = EXIT_DONE;

	if (image_name_read(call->objects[1], name, err) == 0 &&
		epoch_read(&capture.time_s, err) == 0 &&
		compression_read(
			call, &capture.compression, &capture.level, err) == 0 &&
		read_settings(call, &settings, err) == 0 &&
		th_capture(&call->hull.context, row, &capture, err) == 0)
		code = print_result(call, &capture);
	th_capture_release(&capture);
	th_image_settings_release(&settings);
	return code;
}

static int run(struct invocation *call)
{
	struct th_object object = {0};
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (th_object_find(&call->hull.context, call->objects[0],
		    TH_KIND_CONTAINER, &object, &err) == 0)
		code = capture_one(call, &object.container, &err);
	th_object_release(&object);
	return err.code ? say_error(&err) : code;
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
	.summary = "make an image from what a container has changed",
	.usage = "CONTAINER REF [OPTIONS] [-- COMMAND...]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_COMMAND | VERB_JSON,
	.least = 2,
	.most = 2,
	.run = run};
