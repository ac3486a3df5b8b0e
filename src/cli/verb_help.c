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
	     "  containers, each with a keeper of its own");
	for (size_t i = 0; verbs[i]; i++) {
		if (verbs[i]->flags & VERB_HIDDEN)
			continue;
		if (strcmp(group, verbs[i]->group) != 0) {
			group = verbs[i]->group;
			printf(colours() ? "\n\033[1m%s\033[0m\n" : "\n%s\n",
				group);
		}
		printf("  %-9s  %s\n", verbs[i]->name, verbs[i]->summary);
	}
	puts("\nOptions are long words and may be shortened while they stay "
	     "unique.\nOne rule for settings: inside = outside (--port "
	     "80=8080).\ntidyhull help VERB explains a verb, with examples; "
	     "tidyhull demo is a tour.");
	return EXIT_DONE;
}

static const char *const examples[] = {
	"tidyhull help launch", "tidyhull help recreate", NULL};

const struct verb verb_help_verb = {.name = "help",
	.group = "start here",
	.called = "man manual usage commands verbs",
	.takes = "verb",
	.summary = "list the verbs, or explain one",
	.usage = "[VERB]",
	.examples = examples,
	.flags = VERB_ALONE,
	.least = 0,
	.most = 1,
	.run = run};
