/* help: the verbs, or one of them. */
#include <stdio.h>
#include <string.h>

#include "cli/elsewhere.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "cli/wrong_option.h"

#define GROUP_WIDTH 14
#define LINE_WIDTH 78

static bool begins_group(const struct verb *verb, const char **group)
{
	if (verb->flags & VERB_HIDDEN || strcmp(*group, verb->group) == 0)
		return false;
	*group = verb->group;
	return true;
}

static void say_usage(void)
{
	puts("tidyhull VERB [OPTIONS] [OBJECT...] [-- COMMAND [ARG...]]\n"
	     "  containers, each with a keeper of its own");
}

/* Each verb in a line. */
static void list_verbs(void)
{
	const char *group = "";

	for (size_t i = 0; verbs[i]; i++) {
		if (begins_group(verbs[i], &group))
			printf(colours() ? "\n\033[1m%s\033[0m\n" : "\n%s\n",
				group);
		if (!(verbs[i]->flags & VERB_HIDDEN))
			printf("  %-9s  %s\n", verbs[i]->name,
				verbs[i]->summary);
	}
	putchar('\n');
}

/* The names alone, so that all of it is seen at once. */
static void name_verbs(void)
{
	const char *group = "";
	size_t used = 0;

	for (size_t i = 0; verbs[i]; i++) {
		size_t len = strlen(verbs[i]->name) + 1;

		if (begins_group(verbs[i], &group)) {
			printf(colours() ? "\n  \033[1m%-*s\033[0m"
					 : "\n  %-*s",
				GROUP_WIDTH, group);
			used = 2 + GROUP_WIDTH;
		}
		if (verbs[i]->flags & VERB_HIDDEN)
			continue;
		if (used + len > LINE_WIDTH) {
			printf("\n  %-*s", GROUP_WIDTH, "");
			used = 2 + GROUP_WIDTH;
		}
		printf(" %s", verbs[i]->name);
		used += len;
	}
	puts("\n");
}

static void show_first_lines(void)
{
	static const char *const lines[][2] = {
		{"tidyhull find gauge", "images with this in their names"},
		{"tidyhull launch selwick/gauge --port 80=8080",
			"in the background"},
		{"tidyhull list --all", "what runs, and what has ended"},
		{"tidyhull why NAME", "why it is in its state"}};

	for (size_t i = 0; i < sizeof(lines) / sizeof(*lines); i++)
		printf("  %-44s  %s\n", lines[i][0], lines[i][1]);
	putchar('\n');
}

/* An option: what it takes, and which verbs have it. */
static bool help_option(const char *word)
{
	const struct option_spec *found = NULL;
	int used = 0;

	for (size_t i = 0; verbs[i]; i++) {
		const struct option_spec *spec =
			option_spec(verbs[i], word, strlen(word));

		if (verbs[i]->flags & VERB_HIDDEN || !spec ||
			strcmp(spec->name, word) != 0 ||
			strncmp(spec->help, "as for", 6) == 0)
			continue;
		/* It says the same wherever it is the same. */
		if (found && strcmp(found->help, spec->help) == 0) {
			used += printf(" %s", verbs[i]->name);
			continue;
		}
		if (found)
			putchar('\n');
		found = spec;
		printf("--%s%s%s\n  %s\n  an option of:", spec->name,
			spec->value ? " " : "", spec->value ? spec->value : "",
			spec->help);
		used += printf(" %s", verbs[i]->name);
	}
	if (found)
		putchar('\n');
	return used > 0;
}

/* What is no verb, and has a page of its own. */
static bool help_topic(const char *word)
{
	static const char *const topics[][2] = {{"recipe recipes", "recipes"},
		{"setting", "settings"},
		{"configuration configure", "configuration"},
		{"format formats files layout", "formats"}};

	for (size_t i = 0; i < sizeof(topics) / sizeof(*topics); i++) {
		if (!have_word(topics[i][0], word, strlen(word)))
			continue;
		printf("%s have a page of their own: man tidyhull-%s\n",
			topics[i][1], topics[i][1]);
		return true;
	}
	return false;
}

static int run(struct invocation *call)
{
	bool all = option_given(call, "all");

	if (call->object_count > 0) {
		const struct verb *verb = verb_lookup(call->objects[0]);

		if (!verb &&
			(help_option(call->objects[0]) ||
				help_topic(call->objects[0])))
			return EXIT_DONE;
		if (!verb) {
			verb_unknown(call->objects[0], call->json);
			return EXIT_USAGE;
		}
		verb_help(verb);
		return EXIT_DONE;
	}
	say_usage();
	if (all) {
		list_verbs();
	} else {
		name_verbs();
		show_first_lines();
	}
	puts("Options are long words and may be shortened while they stay "
	     "unique.\nOne rule for settings: inside = outside (--port "
	     "80=8080).");
	puts(all ? "tidyhull help VERB explains a verb, with examples; "
		   "tidyhull demo is a tour."
		 : "tidyhull help VERB explains one, help --all what each "
		   "is for; demo is a tour.");
	return EXIT_DONE;
}

static const struct option_spec options[] = {
	{"all", NULL, "what each verb is for, in a line"}, {NULL, NULL, NULL}};

static const char *const examples[] = {
	"tidyhull help launch", "tidyhull help --all", NULL};

const struct verb verb_help_verb = {.name = "help",
	.group = "start here",
	.called = "man manual usage commands verbs",
	.takes = "verb",
	.summary = "list the verbs, or explain one",
	.usage = "[VERB]",
	.examples = examples,
	.options = options,
	.flags = VERB_ALONE,
	.least = 0,
	.most = 1,
	.run = run};
