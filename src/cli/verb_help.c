/* help: the verbs, or one of them. */
#include <stdio.h>
#include <string.h>

#include "cli/output.h"
#include "cli/verbs.h"

static int run(struct invocation *call)
{
	const char *group = "";

	if (call->object_count > 0) {
		const struct verb *verb = verb_lookup(call->objects[0]);

		if (!verb) {
			verb_unknown(call->objects[0]);
			return EXIT_USAGE;
		}
		verb_help(verb);
		return EXIT_DONE;
	}
	puts("tidyhull VERB [OPTIONS] [OBJECT...] [-- COMMAND [ARG...]]\n"
	     "  containers without a daemon");
	for (size_t i = 0; verbs[i]; i++) {
		if (strcmp(group, verbs[i]->group) != 0) {
			group = verbs[i]->group;
			printf(colours() ? "\n\033[1m%s\033[0m\n" : "\n%s\n",
				group);
		}
		printf("  %-9s  %s\n", verbs[i]->name, verbs[i]->summary);
	}
	puts("\nOptions are long words and may be shortened as far as they "
	     "stay "
	     "unique.\n"
	     "One rule for settings: inside = outside (--port 80=8080).\n"
	     "tidyhull help VERB tells more, with examples; tidyhull demo "
	     "shows "
	     "all at work.");
	return EXIT_DONE;
}

static const char *const examples[] = {"tidyhull help launch", NULL};

const struct verb verb_help_verb = {.name = "help",
	.group = "start here",
	.summary = "every verb with an example",
	.usage = "[VERB]",
	.examples = examples,
	.least = 0,
	.most = 1,
	.run = run};
