/* copy: files in and out of containers. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "base/turned.h"
#include "cli/doc.h"
#include "cli/line.h"
#include "cli/output.h"
#include "cli/verbs.h"

/* CONTAINER:/path; images have a slash or more colons. */
static bool is_place(const char *text)
{
	const char *colon = strchr(text, ':');

	return colon && colon > text &&
		!memchr(text, '/', (size_t)(colon - text));
}

/* The container or image whose name is the first len bytes. */
static bool is_named(
	const struct invocation *call, const char *text, size_t len, int kind)
{
	struct th_error none = {0};
	char name[TH_TURNED_TEXT];

	snprintf(name, sizeof(name), "%.*s", (int)len, text);
	return len &&
		th_object(call->hull, name, kind, TH_BRIEF, NULL, &none) == 0;
}

/* "copy ./say web", "copy ./say web/tmp", and what is in an image. */
static int hint_place(const struct invocation *call, struct th_error *err)
{
	char place[TH_TURNED_TEXT];
	struct line line;

	for (int i = 0; i < 2; i++) {
		const char *text = call->objects[i];
		const char *root = strstr(text, ":/");
		size_t len = strcspn(text, "/");

		line_get(&line);
		if (root &&
			is_named(call, text, (size_t)(root - text),
				TH_KIND_IMAGE))
			return th_hint(err,
				"an image gives its files through a container: "
				"tidyhull create %.*s --name NAME, then copy "
				"NAME%.60s",
				(int)(root - text), text, root);
		if (!is_named(call, text, len, TH_KIND_CONTAINER))
			continue;
		snprintf(place, sizeof(place), "%.*s:%.120s", (int)len, text,
			text[len] ? text + len : "/");
		line_put(&line, line_find(&line, text), 1, place, NULL);
		return line_hint(err, "it is: ", &line);
	}
	return -1;
}

static int copy(struct invocation *call, json_t **copied, struct th_error *err)
{
	bool tar_in = strcmp(call->objects[0], "-") == 0;
	bool tar_out = strcmp(call->objects[1], "-") == 0;

	if (!is_place(call->objects[0]) && !is_place(call->objects[1])) {
		th_fail(err, TH_USAGE, "neither path is in a container");
		hint_place(call, err);
		return th_hint(err, "write one of them as CONTAINER:/path");
	}
	if (tar_out && isatty(1)) {
		th_fail(err, TH_USAGE,
			"refusing to write a tar archive to a terminal");
		return th_hint(err, "redirect it: ... - > files.tar");
	}
	return th_files_copy(call->hull, tar_in ? NULL : call->objects[0],
		tar_out ? NULL : call->objects[1], tar_out ? 1 : 0,
		option_value(call, "owner"), copied, err);
}

static int run(struct invocation *call)
{
	struct th_error err = {0};
	json_t *copied = NULL;
	char size[SIZE_TEXT];
	long long files, skipped, lost;

	if (copy(call, &copied, &err))
		return say_error(&err);
	files = (long long)doc_number(copied, "files");
	skipped = (long long)doc_number(copied, "skipped");
	lost = (long long)doc_number(copied, "attributes-lost");
	size_text((uint64_t)doc_number(copied, "bytes"), size);
	json_decref(copied);
	if (call->quiet)
		return EXIT_DONE;
	fprintf(is_output(call->objects[1]) ? stderr : stdout,
		"copied %lld file%s, %s\n", files, files == 1 ? "" : "s", size);
	if (skipped)
		fprintf(stderr, "note: skipped %lld sockets or devices\n",
			skipped);
	if (lost)
		fprintf(stderr,
			"note: the target does not take %lld extended "
			"attributes\n",
			lost);
	return EXIT_DONE;
}

static const struct option_spec options[] = {
	{"owner", "OWNER", "keep, or UID:GID as seen in the container"},
	{NULL, NULL, NULL}};

static const char *const text[] = {"A path is local, or CONTAINER:/path of a "
				   "running or stopped container.",
	"If the target is an existing folder, files are placed in it.",
	"Files copied in belong to the container's user, files copied out to",
	"you, unless --owner is given. \"-\" is a tar archive on standard "
	"input or",
	"output, which keeps owners, hard links and extended attributes. "
	"Links are",
	"copied as links and are never followed out of the container.", NULL};

static const char *const examples[] = {
	"tidyhull copy gauge-north:/srv/history ./history",
	"tidyhull copy page.html gauge-north:/srv/www/",
	"tidyhull copy ledger:/var/lib/ledger - > ledger.tar", NULL};

const struct verb verb_copy = {.name = "copy",
	.group = "inside",
	.called = "cp scp rsync transfer cpio",
	.takes = "file container:",
	.summary = "copy files into and out of a container",
	.usage = "FROM TO",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 2,
	.most = 2,
	.run = run};
