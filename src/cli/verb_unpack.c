/* unpack: the images of a portable file into the store. */
#include "cli/output.h"
#include "cli/pulling.h"
#include "cli/verbs.h"

static int unpack_one(struct pulling *pulling, const char *path)
{
	return unpack_file(pulling, path, option_value(pulling->call, "only"));
}

static int run(struct invocation *call)
{
	return pull_all(call, unpack_one);
}

static const struct option_spec options[] = {
	{"only", "NAME", "only the image with this name or digest"},
	{"platform", "OS/ARCH", "another platform, if the file has several"},
	LAYERS_FROM, {NULL, NULL, NULL}};

static const char *const text[] = {
	"FILE is an OCI image layout: a tar archive (plain, gzip or zstd) or a",
	"folder; - is standard input. Everything is verified.", NULL};

static const char *const examples[] = {"tidyhull unpack ./gauge.tar",
	"tidyhull unpack /mnt/share/selwick.tar --only selwick/ledger",
	"ssh pilot@mole.example tidyhull pack selwick/gauge - | tidyhull "
	"unpack -",
	NULL};

const struct verb verb_unpack = {.name = "unpack",
	.group = "images",
	.called = "load import restore",
	.takes = "file",
	.summary = "import the images of a portable file",
	.usage = "FILE...",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_JSON,
	.least = 1,
	.most = -1,
	.run = run};
