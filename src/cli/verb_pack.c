/* pack: images into one portable file. */
#include <stdio.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

#include "cli/output.h"
#include "cli/runnable.h"
#include "cli/verbs.h"
#include "image/pack.h"

static int pack(struct invocation *call, const struct th_object *objects,
	size_t count, const char *path, const char *runnable)
{
	struct th_pack_item *items = calloc(count, sizeof(*items));
	struct th_error err = {0};
	uint64_t bytes = 0;
	char size[SIZE_TEXT];

	if (!items) {
		th_fail_memory(&err);
		return say_error(&err);
	}
	for (size_t i = 0; i < count; i++) {
		items[i].image = &objects[i].image;
		items[i].name = objects[i].by_name ? objects[i].name : NULL;
	}
	umask(call->hull.caller.umask);
	if (runnable)
		th_pack_runnable(call->hull.context.store, items, runnable,
			path, call->yes, call->hull.registries.cancel, &bytes,
			&err);
	else
		th_pack(call->hull.context.store, items, count, path, call->yes,
			call->hull.registries.cancel, &bytes, &err);
	umask(022);
	free(items);
	if (err.code)
		return say_error(&err);
	size_text(bytes, size);
	if (call->json)
		print_json(json_pack("{s:s s:I s:I}", "file", path, "images",
			(json_int_t)count, "size", (json_int_t)bytes));
	else if (!call->quiet)
		fprintf(path[0] == '-' && !path[1] ? stderr : stdout,
			"packed %zu image%s into %s, %s%s\n", count,
			count == 1 ? "" : "s", path, size,
			runnable ? "; the file can be executed" : "");
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	size_t count = (size_t)call->object_count - 1, found = 0;
	const char *path = call->objects[count];
	struct th_object *objects = calloc(count, sizeof(*objects));
	struct th_error err = {0};
	int code = EXIT_DONE;
	char *runnable = NULL;

	if (!objects) {
		th_fail_memory(&err);
		return say_error(&err);
	}
	if (path[0] == '-' && !path[1] && isatty(1)) {
		th_fail(&err, TH_USAGE,
			"refusing to write a packed image to a terminal");
		th_hint(&err, "give a file name, or redirect the output");
	}
	while (!err.code && found < count &&
		th_object_find(&call->hull.context, call->objects[found],
			TH_KIND_IMAGE, &objects[found], &err) == 0)
		found++;
	if (!err.code)
		runnable = runnable_settings(call, count, &err);
	code = err.code ? say_error(&err)
			: pack(call, objects, count, path, runnable);
	free(runnable);
	while (found > 0)
		th_object_release(&objects[--found]);
	free(objects);
	return code;
}

static const struct option_spec options[] = {
	{"runnable", NULL, "the file can be executed; kept in it:"},
	RUNNABLE_OPTIONS, {NULL, NULL, NULL}};

static const char *const text[] = {"The file is an OCI image layout in a tar "
				   "archive, which other tools can",
	"read, too. \"pull\", \"run\" and \"launch\" accept its path; "
	"\"unpack\" imports",
	"everything in it. FILE may be - for standard output; --yes replaces "
	"an",
	"existing file. With --runnable the file can also be executed: it runs "
	"the",
	"image with the settings given here, and its arguments are the "
	"program's.",
	NULL};

static const char *const examples[] = {
	"tidyhull pack selwick/gauge ./gauge.tar",
	"tidyhull pack selwick/gauge selwick/ledger /mnt/share/selwick.tar",
	"tidyhull pack --runnable selwick/almanac ./almanac --share "
	"home,cwd,user",
	NULL};

const struct verb verb_pack = {.name = "pack",
	.group = "images",
	.summary = "pack images into one portable file",
	.usage = "IMAGE... FILE [OPTIONS]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_JSON,
	.least = 2,
	.most = -1,
	.run = run};
