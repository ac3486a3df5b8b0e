/* copy: files in and out of containers. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "cli/output.h"
#include "cli/verbs.h"
#include "container/copy.h"

static int read_owner(
	struct invocation *call, struct th_copy *copy, struct th_error *err)
{
	const char *text = option_value(call, "owner");
	char *end;

	memset(copy, 0, sizeof(*copy));
	if (!text)
		return 0;
	if (strcmp(text, "keep") == 0) {
		copy->owner = TH_OWNER_KEEP;
		return 0;
	}
	copy->owner = TH_OWNER_GIVEN;
	copy->uid = (uid_t)strtoul(text, &end, 10);
	copy->gid = copy->uid;
	if (end != text && *end == ':')
		copy->gid = (gid_t)strtoul(end + 1, &end, 10);
	if (end != text && !*end)
		return 0;
	th_fail(err, TH_USAGE, "\"%.50s\" is not a valid owner", text);
	return th_hint(err, "use keep, or numbers: 1000 or 1000:1000");
}

static int between(struct invocation *call, struct th_place *from,
	struct th_place *to, struct th_copy *copy, struct th_error *err)
{
	bool tar_in = strcmp(call->objects[0], "-") == 0;
	bool tar_out = strcmp(call->objects[1], "-") == 0;

	if (!from->container && !to->container) {
		th_fail(err, TH_USAGE, "neither path is in a container");
		return th_hint(err, "write one of them as CONTAINER:/path");
	}
	if (tar_out && isatty(1)) {
		th_fail(err, TH_USAGE,
			"refusing to write a tar archive to a terminal");
		return th_hint(err, "redirect it: ... - > files.tar");
	}
	if (th_place_open(&call->hull.context, from, err) ||
		th_place_open(&call->hull.context, to, err))
		return -1;
	if (tar_out)
		return th_copy_to_tar(from, 1, copy, err);
	if (tar_in)
		return th_copy_from_tar(0, to, copy, err);
	return th_copy(from, to, copy, err);
}

static int run(struct invocation *call)
{
	struct th_place from, to;
	struct th_copy copy;
	struct th_error err = {0};
	char size[SIZE_TEXT];
	int rc;

	if (read_owner(call, &copy, &err) ||
		th_place_parse(call->objects[0], &from, &err))
		return say_error(&err);
	if (th_place_parse(call->objects[1], &to, &err)) {
		th_place_release(&call->hull.context, &from);
		return say_error(&err);
	}
	rc = between(call, &from, &to, &copy, &err);
	th_place_release(&call->hull.context, &from);
	th_place_release(&call->hull.context, &to);
	if (rc)
		return say_error(&err);
	size_text(copy.bytes, size);
	if (!call->quiet)
		fprintf(strcmp(call->objects[1], "-") == 0 ? stderr : stdout,
			"copied %llu file%s, %s\n",
			(unsigned long long)copy.files,
			copy.files == 1 ? "" : "s", size);
	if (copy.skipped && !call->quiet)
		fprintf(stderr, "note: skipped %llu sockets or devices\n",
			(unsigned long long)copy.skipped);
	if (copy.attributes_lost && !call->quiet)
		fprintf(stderr,
			"note: the target does not take %llu extended "
			"attributes\n",
			(unsigned long long)copy.attributes_lost);
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
	.summary = "copy files into and out of a container",
	.usage = "FROM TO",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE,
	.least = 2,
	.most = 2,
	.run = run};
