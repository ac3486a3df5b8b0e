/* pack: images into one portable file. */
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "cli/doc.h"
#include "cli/output.h"
#include "cli/runnable.h"
#include "cli/verbs.h"
#include "cli/wrong_object.h"

static int pack(struct invocation *call, const char *path,
	const json_t *settings, json_t **packed, struct th_error *err)
{
	json_t *names =
		doc_of_texts(call->objects, (size_t)call->object_count - 1);
	int rc;

	/* The file is the caller's own. */
	umask(callers_umask);
	rc = th_image_pack(
		call->hull, names, path, call->yes, settings, packed, err);
	umask(022);
	json_decref(names);
	if (rc)
		hint_swapped(call, err);
	return rc;
}

static void tell(const json_t *packed, bool runnable)
{
	const char *path = doc_text(packed, "file");
	int64_t count = doc_number(packed, "images");
	char size[SIZE_TEXT];

	size_text((uint64_t)doc_number(packed, "size"), size);
	fprintf(is_output(path) ? stderr : stdout,
		"packed %lld image%s into %s, %s%s\n", (long long)count,
		count == 1 ? "" : "s", path, size,
		runnable ? "; the file can be executed" : "");
}

static int run(struct invocation *call)
{
	int count = call->object_count - 1;
	const char *path = call->objects[count];
	json_t *settings = NULL, *packed = NULL;
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (is_output(path) && isatty(1)) {
		th_fail(&err, TH_USAGE,
			"refusing to write a packed image to a terminal");
		th_hint(&err, "give a file name, or redirect the output");
		return say_error(&err);
	}
	if (is_output(path) && call->json) {
		th_fail(&err, TH_USAGE,
			"the packed image and --json cannot both go to the "
			"output");
		th_hint(&err, "give a file name, or leave --json out");
		return say_error(&err);
	}
	if (runnable_settings(call, (size_t)count, &settings, &err) ||
		pack(call, path, settings, &packed, &err))
		code = say_error(&err);
	else if (call->json)
		print_json(json_incref(packed));
	else if (!call->quiet)
		tell(packed, settings != NULL);
	json_decref(settings);
	json_decref(packed);
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
	.called = "save export archive backup bundle dump",
	.takes = "image file",
	.summary = "pack images into one portable file",
	.usage = "IMAGE... FILE [OPTIONS]",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_JSON,
	.least = 2,
	.most = -1,
	.run = run};
