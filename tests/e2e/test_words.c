/* The command line itself: help, usage, doctor, demo. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

static void help_names_every_verb(void)
{
	static const char *const verbs[] = {"pull", "create", "start", "run",
		"launch", "list", "show", "logs", "ports", "exec", "stop",
		"kill", "remove", "doctor", "help", "demo", "why", "find",
		"peek", "login", "logout", "push", "tag", "pack", "unpack",
		"sweep", "pause", "resume", "processes"};
	struct result *result = hull("help");

	CODE(result, 0);
	for (size_t i = 0; i < COUNT_OF(verbs); i++)
		SAYS(result->out, verbs[i]);
	for (size_t i = 0; i < COUNT_OF(verbs); i++) {
		const char *line;

		result = hull("help %s", verbs[i]);
		CODE(result, 0);
		SAYS(result->out, "for example");
		CHECK_TEXT(result->err, "");
		/* It fits a terminal of 80 columns. */
		for (line = result->out; *line;) {
			size_t len = strcspn(line, "\n");

			if (len > 80)
				printf("\n    too long: %.*s\n", (int)len,
					line);
			CHECK(len <= 80);
			line += len + (line[len] == '\n');
		}
		/* Asking the verb itself gives the same. */
		CODE(hull("%s --help", verbs[i]), 0);
	}
}

/* All of the overview is seen at once in the smallest usual terminal. */
static void help_fits_a_screen(void)
{
	const char *line = hull("help")->out;
	int lines = 0;

	for (; *line; lines++) {
		size_t len = strcspn(line, "\n");

		CHECK(len < 80);
		line += len + (line[len] == '\n');
	}
	CHECK(lines > 15 && lines < 24);
}

/* The reference is what help says, at every commit. */
static void the_reference_is_true(void)
{
	static char text[OUTPUT_BYTES];
	struct result *result;
	size_t checked = 0;
	char *at;

	result = other("cat %s/../docs/verbs.md", world_build);
	snprintf(text, sizeof(text), "%s", result->out);
	SAYS(text, hull("help --all")->out);
	for (at = strstr(text, "\n## "); at; at = strstr(at + 1, "\n## ")) {
		int len = (int)strcspn(at + 4, "\n");

		SAYS(text, hull("help %.*s", len, at + 4)->out);
		checked++;
	}
	CHECK(checked >= 29);
}

static void mistakes_in_words_are_explained(void)
{
	static const struct {
		const char *line, *says;
	} cases[] = {{"lst", "did you mean: tidyhull list"},
		{"frobnicate", "there is no verb \"frobnicate\""},
		{"list --colour", "list does not have the option --colour"},
		{"help nothing", "there is no verb \"nothing\""},
		{"show", "show needs more"},
		{"list boats", "unknown kind of object \"boats\""},
		{"list images extra", "unexpected argument \"extra\""},
		{"logs --last", "--last needs a value"},
		{"logs --last x gauge", "not a number of lines"},
		{"list --all=yes", "--all does not take a value"},
		{"list -- ls", "does not take a command"},
		{"create selwick/base --p 80",
			"--p may mean --port, --probe, --plan"},
		{"kill --signal ANCHOR x", "there is no container"},
		{"launch selwick/gauge ls", "must come after --"},
		{"stop", "stop: no container given"},
		{"start gauge -- ls", "start does not take a command"}};
	struct result *result;

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		result = hull("%s", cases[i].line);
		CHECK(result->code != 0);
		SAYS(result->err, cases[i].says);
		SAYS(result->err, "tidyhull: ");
	}
	CODE(hull("lst"), 2);
	result = hull("lst --json");
	CODE(result, 2);
	CHECK_INT(result->err[0], '{');
	SAYS(result->err, "did you mean: tidyhull list --json");
	result = hull("top -j");
	CHECK_INT(result->err[0], '{');
	SAYS(result->err, "tidyhull processes or tidyhull meter");
	CODE(hull("list --colour"), 2);
	CODE(hull("run"), 125);
	CODE(hull("exec x"), 125);
}

static void options_may_be_shortened_and_stand_anywhere(void)
{
	CODE(hull("list --al"), 0);
	CODE(hull("list images --js"), 0);
	CODE(hull("list --json images"), 0);
	CODE(hull("list -j images"), 0);
}

static void doctor_finds_this_host_able(void)
{
	struct result *result = hull("doctor");
	json_t *doc;

	CODE(result, 0);
	SAYS(result->out, "this host has everything");
	SAYS(result->out, "overlay");
	doc = hull_json("doctor --json");
	CHECK(json_is_true(json_object_get(doc, "able")));
	CHECK_TEXT(
		json_string_value(json_object_get(doc, "root")), world_store);
	json_decref(doc);
}

static void an_ordinary_user_is_told_plainly(void)
{
	struct result *result = hull_as_user("help");

	CODE(result, 0);
	/* One whose folder is not his, and who has no IDs assigned. */
	result = hull_as_user("doctor");
	CODE(result, 0);
	SAYS(result->out, "a single ID");
	SAYS(result->out, "usermod --add-subuids");
	/* The way out stands on a line of its own. */
	as_root("mkdir -m 777 %s/poor", world_folder);
	result = as_root("setpriv --reuid 4242 --regid 4242 --clear-groups "
			 "%s/tidyhull sweep --root %s/poor/store",
		world_build, world_folder);
	CODE(result, 0);
	SAYS(result->err, "note: 4242 has no subordinate IDs");
	SAYS(result->err, "\n  tidyhull doctor explains");
	as_root("rm -r %s/poor", world_folder);
}

static void the_tour_shows_all_and_cleans_up(void)
{
	static const char *const shown[] = {"$ tidyhull pull selwick/gauge",
		"$ tidyhull launch selwick/gauge --name gauge-north",
		"\"station\":\"north\"", "$ tidyhull list", "$ tidyhull logs",
		"$ tidyhull exec gauge-north", "3 problems",
		"$ tidyhull why gauge-north", "$ tidyhull remove gauge-north",
		"there are no containers", "Where to go next"};
	struct result *result = hull("demo");

	CODE(result, 0);
	for (size_t i = 0; i < COUNT_OF(shown); i++)
		SAYS(result->out, shown[i]);
	/* An Enter at each step, and then none any more. */
	result = hull_input("\n\n\n", 3, "demo --step");
	CODE(result, 0);
	SAYS(result->out, "[Enter]");
}

static void a_look_makes_no_store(void)
{
	struct result *result =
		hull("list --root %s/no/such/store", world_folder);

	CODE(result, 3);
	SAYS(result->err, "there is no store in ");
	CODE(other("test -e %s/no", world_folder), 1);
	CODE(hull("sweep --root %s/new", world_folder), 0);
	CODE(hull("list --root %s/new", world_folder), 0);
	CODE(other("rm -r %s/new", world_folder), 0);
}

static void broken_configurations_are_told(void)
{
	struct result *result;

	put_file("config.yaml",
		"registries:\n  - host: x.example\n    "
		"transport: smoke\n");
	result = hull("list");
	CODE(result, 2);
	SAYS(result->err, "config.yaml");
	SAYS(result->err, "transport (https, http)");
	result = hull("list --config missing.yaml");
	CODE(result, 3);
	SAYS(result->err, "missing.yaml");
}

static const CU_TestInfo tests[] = {
	{"help names every verb", help_names_every_verb},
	{"help fits a screen", help_fits_a_screen},
	{"the reference is true", the_reference_is_true},
	{"mistakes in words are explained", mistakes_in_words_are_explained},
	{"options may be shortened",
		options_may_be_shortened_and_stand_anywhere},
	{"doctor finds this host able", doctor_finds_this_host_able},
	{"an unprivileged user is told plainly",
		an_ordinary_user_is_told_plainly},
	{"the tour shows all and cleans up", the_tour_shows_all_and_cleans_up},
	{"a look makes no store", a_look_makes_no_store},
	{"broken configurations are told", broken_configurations_are_told},
	CU_TEST_INFO_NULL};

const struct suite suite_words = {"words", tests};
