/* new: a volume by hand. */
#include <stdio.h>
#include <string.h>

#include "cli/output.h"
#include "cli/verbs.h"

static int new_volume(struct invocation *call, const char *name)
{
	struct th_error err = {0};
	int rc;

	if (!th_name_valid(name)) {
		th_fail(&err, TH_USAGE, "\"%.100s\" cannot be a name", name);
		th_hint(&err,
			"a name has up to 63 letters, digits, dots, dashes "
			"and underscores");
		return say_error(&err);
	}
	rc = th_volume_make(call->context.store, name, "", &err);
	if (rc == 0) {
		th_fail(&err, TH_IN_USE, "there is a volume \"%s\" already",
			name);
		th_hint(&err, "tidyhull show volume:%s", name);
	}
	if (rc <= 0)
		return say_error(&err);
	if (!call->quiet)
		printf("made the volume %s; mount it: --mount "
		       "/data=volume:%s\n",
			name, name);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	const char *kind = call->objects[0];
	struct th_error err = {0};
	int code = EXIT_DONE;

	if (strcmp(kind, "volume") != 0) {
		th_fail(&err, TH_USAGE, "\"%.50s\" cannot be made by hand",
			kind);
		th_hint(&err, "there is: new volume NAME");
		return say_error(&err);
	}
	for (int i = 1; i < call->object_count; i++) {
		int one = new_volume(call, call->objects[i]);

		code = code ? code : one;
	}
	return code;
}

static const char *const text[] = {"Volumes come by themselves when they are "
				   "first named in --mount; this is",
	"for having one before.", NULL};

static const char *const examples[] = {"tidyhull new volume ledger", NULL};

const struct verb verb_new = {.name = "new",
	.group = "other objects",
	.summary = "make a volume by hand",
	.usage = "volume NAME...",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE,
	.least = 2,
	.most = -1,
	.run = run};
