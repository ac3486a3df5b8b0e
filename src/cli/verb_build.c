/* build: a new image from a recipe. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/path.h"
#include "base/yaml_bounds.h"
#include "build/build.h"
#include "cli/build_progress.h"
#include "cli/foreground.h"
#include "cli/making_image.h"
#include "cli/output.h"
#include "cli/secret.h"
#include "cli/settings_text.h"
#include "cli/shown.h"
#include "cli/verbs.h"

struct building {
	struct invocation *call;
	const char *path; /* of the recipe */
	struct th_recipe recipe;
	struct th_build_folders folders;
	struct th_strings given, secrets;
	struct build_progress progress;
	struct th_build_options options;
	char name[TH_REFERENCE_MAX + 256];
	int64_t began_us;
};

/* ---- what is given ---- */

static int take_secret(void *owner, const char *text, struct th_error *err)
{
	struct building *building = owner;

	return secret_add(&building->secrets, text, err);
}

static int add_folder(struct building *building, const char *name,
	const char *path, struct th_error *err)
{
	char cwd[4096], *whole;
	int rc;

	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	whole = th_path_absolute(cwd, path);
	rc = whole ? th_build_folders_add(&building->folders, name, whole, err)
		   : th_fail_memory(err);
	free(whole);
	return rc;
}

static int take_folder(void *owner, const char *text, struct th_error *err)
{
	const char *equals = strchr(text, '=');
	char *name;
	int rc;

	if (!equals || equals == text || !equals[1]) {
		th_fail(err, TH_USAGE, "\"%.100s\" is not a folder", text);
		return th_hint(err, "use --with NAME=FOLDER");
	}
	name = strndup(text, (size_t)(equals - text));
	rc = name ? add_folder(owner, name, equals + 1, err)
		  : th_fail_memory(err);
	free(name);
	return rc;
}

/* The recipe's own folder first. */
static int read_folders(struct building *building, struct th_error *err)
{
	const char *last = th_path_last(building->path);
	char *own = strndup(building->path, (size_t)(last - building->path));
	int rc = own ? add_folder(building, "", *own ? own : ".", err)
		     : th_fail_memory(err);

	free(own);
	return rc ? -1
		  : each_option(
			    building->call, "with", take_folder, building, err);
}

static int read_file(
	struct building *building, struct th_buf *text, struct th_error *err)
{
	bool is_input = strcmp(building->path, "-") == 0;
	int rc;

	th_buf_init(text, TH_YAML_BYTES);
	rc = is_input ? th_fd_read(0, "standard input", text, err)
		      : th_file_read(AT_FDCWD, building->path, text, err);
	if (rc == 0) {
		th_fail(err, TH_NOT_FOUND, "the recipe %.300s does not exist",
			building->path);
		th_hint(err, "give the path of a recipe file");
	}
	return rc == 1 ? 0 : -1;
}

/* Gives an exit code, or -1 where all is well. */
static int read_recipe(struct building *building)
{
	struct th_problems problems = {0};
	struct th_error err = {0};
	struct th_buf text;
	int code = -1;

	if (read_file(building, &text, &err) ||
		given_read(building->call, &building->given, &err) ||
		read_folders(building, &err) ||
		each_option(building->call, "secret", take_secret, building,
			&err)) {
		code = say_error(&err);
	} else if (th_recipe_read(building->path, &text, &building->given,
			   &building->recipe, &problems)) {
		code = say_problems("build", building->path, &problems);
	}
	th_problems_release(&problems);
	th_buf_release(&text);
	return code;
}

static int read_fetch(
	struct building *building, enum th_fetch *fetch, struct th_error *err)
{
	const char *text = option_value(building->call, "fetch");

	*fetch = TH_FETCH_MISSING;
	if (text && strcmp(text, "always") == 0)
		*fetch = TH_FETCH_ALWAYS;
	else if (text && strcmp(text, "never") == 0)
		*fetch = TH_FETCH_NEVER;
	else if (text && strcmp(text, "missing") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --fetch; use missing, "
			"always or never",
			text);
	return 0;
}

static int read_options(struct building *building, struct th_error *err)
{
	struct invocation *call = building->call;
	struct th_build_options *options = &building->options;
	const char *name = option_value(call, "name");

	*options = (struct th_build_options){.recipe_name = building->path,
		.recipe = &building->recipe,
		.folders = &building->folders,
		.secrets = &building->secrets,
		.anew = option_given(call, "anew"),
		.plan = option_given(call, "plan"),
		.keep_place = option_given(call, "enter"),
		.tell = build_progress_tell,
		.owner = &building->progress,
		.unprivileged = call->hull.caller.unprivileged,
		.uid = call->hull.caller.uid,
		.gid = call->hull.caller.gid,
		.user_name = call->hull.caller.name,
		.home = call->hull.caller.home};
	if (name && image_name_read(name, building->name, err))
		return -1;
	options->name = name ? building->name : NULL;
	return epoch_read(&options->time_s, err) ||
			read_fetch(building, &options->fetch, err) ||
			compression_read(call, &options->compression,
				&options->level, err)
		? -1
		: 0;
}

/* ---- a place that failed ---- */

static const struct th_recipe_step *step_of(
	const struct building *building, const struct th_build_failure *failure)
{
	return &building->recipe.images[failure->image].steps[failure->step];
}

/* A shell in a throw-away container where the step ran, with all that it had.
 */
static void enter_place(
	struct building *building, const struct th_build_failure *failure)
{
	static const struct th_recipe_step nothing = {.kind = TH_STEP_DO};
	const struct th_recipe_step *step = step_of(building, failure);
	struct invocation *call = building->call;
	struct th_problems problems = {0};
	struct th_strings texts = {0}, command = {0};
	struct th_container_row row;
	struct th_settings settings;
	struct th_error err = {0};

	if (step->kind != TH_STEP_DO)
		step = &nothing;
	fprintf(stderr, "a shell where it failed; exit ends it\n");
	if (th_strings_add(&command, "/bin/sh"))
		th_fail_memory(&err);
	if (!err.code &&
		th_build_settings(&building->options, step, failure->place,
			&command, &settings, &texts, &err) == 0) {
		settings.keep = false;
		settings.terminal = isatty(0) && isatty(1);
		if (th_container_create(&call->hull.context, &settings,
			    &problems, &row, &err) == 0)
			foreground_run(call, &row, settings.terminal);
		th_settings_release(&settings);
	}
	if (problems.count)
		say_problems("enter", "the place", &problems);
	else if (err.code)
		say_error(&err);
	th_problems_release(&problems);
	th_strings_release(&texts);
	th_strings_release(&command);
	th_error_clear(&err);
	/* Nothing is left of it. */
	th_image_state_remove_nameless(
		call->hull.context.store, failure->place, &err);
}

static int say_failure(struct building *building,
	const struct th_build_failure *failure, struct th_error *err)
{
	bool enters = building->options.keep_place && failure->place[0];
	int code = say_error(err);

	if (failure->known && failure->last_words[0])
		say_last_words(failure->last_words);
	if (failure->known && failure->place[0] && !enters &&
		!building->options.plan && !building->call->quiet)
		fprintf(stderr,
			"  the steps before it are kept; to look around: "
			"tidyhull build %s --enter\n",
			shown(building->path));
	if (enters)
		enter_place(building, failure);
	return code;
}

/* ---- the build ---- */

static const char *name_of(const struct building *building)
{
	const struct th_recipe *recipe = &building->recipe;

	return building->options.name
		? building->options.name
		: recipe->images[recipe->image_count - 1].name;
}

static int print_result(struct building *building, const char *digest)
{
	const struct build_progress *progress = &building->progress;
	const char *name = name_of(building);
	char span[TH_TIME_TEXT];

	if (building->call->json)
		return print_json(json_pack("{s:s? s:s? s:i s:i s:i}", "name",
			name, "digest", *digest ? digest : NULL, "run",
			(int)progress->run, "remembered",
			(int)progress->remembered, "planned",
			(int)progress->planned));
	if (building->options.plan) {
		printf("%zu step%s would run, %zu %s remembered; nothing was "
		       "changed\n",
			progress->planned, progress->planned == 1 ? "" : "s",
			progress->remembered,
			progress->remembered == 1 ? "is" : "are");
		return EXIT_DONE;
	}
	if (building->call->quiet) {
		printf("%s\n", digest);
		return EXIT_DONE;
	}
	th_clock_span(th_clock_now_us() - building->began_us, span);
	printf("built %s (%.12s): %zu run, %zu remembered, %s\n",
		name ? shown(name) : "an image without a name",
		th_digest_hex(digest), progress->run, progress->remembered,
		span);
	return EXIT_DONE;
}

static int build(struct building *building)
{
	struct invocation *call = building->call;
	struct th_build_failure *failure = calloc(1, sizeof(*failure));
	struct th_error err = {0};
	char digest[TH_DIGEST_TEXT] = "";
	int code = EXIT_DONE, rc = -1;

	building->progress.recipe = &building->recipe;
	building->progress.quiet = call->quiet || call->json;
	building->progress.output = option_given(call, "output");
	building->progress.terminal = on_terminal();
	for (size_t i = 0; i < building->recipe.notes.count; i++)
		fprintf(stderr, "note: %s\n",
			shown(building->recipe.notes.items[i]));
	if (!failure)
		th_fail_memory(&err);
	else if (read_options(building, &err) == 0 &&
		th_container_settle(&call->hull.context, &err) == 0)
		rc = th_build(&call->hull.context, &building->options, digest,
			failure, &err);
	build_progress_end(&building->progress);
	if (rc == 0)
		code = print_result(building, digest);
	else if (failure)
		code = say_failure(building, failure, &err);
	else
		code = say_error(&err);
	free(failure);
	return code;
}

static int run(struct invocation *call)
{
	struct building building = {.call = call,
		.path = call->objects[0],
		.began_us = th_clock_now_us()};
	int code = read_recipe(&building);

	if (code < 0)
		code = build(&building);
	th_recipe_release(&building.recipe);
	th_build_folders_release(&building.folders);
	th_strings_release(&building.given);
	th_strings_release(&building.secrets);
	return code;
}

static const struct option_spec options[] = {
	{"given", "NAME=VALUE", "a value that the recipe asks for"},
	{"with", "NAME=FOLDER", "another folder to put files from"},
	{"secret", "SECRET", "NAME=@file:PATH, @ask or @stdin: for steps"},
	{"name", "REF", "another name than the recipe's"},
	{"anew", NULL, "run all steps, whatever is remembered"},
	{"plan", NULL, "only show which steps would run, and why"},
	{"enter", NULL, "open a shell where a step fails"},
	{"output", NULL, "show all that the steps print"},
	{"compress", "KIND", "gzip, zstd or none; gzip,level=6"},
	{"fetch", "WHEN", "pull images: missing, always or never"},
	{NULL, NULL, NULL}};

static const char *const text[] = {
	"A recipe is a YAML file; docs/recipes.md describes it. Each step is "
	"run",
	"once and remembered by what goes into it: what did not change is not "
	"run",
	"again, and images that do not need one another are built at the same "
	"time.",
	"The same recipe gives the same image, byte by byte, on any day and "
	"host;",
	"SOURCE_DATE_EPOCH sets its time.", NULL};

static const char *const examples[] = {"tidyhull build almanac.yaml",
	"tidyhull build almanac.yaml --given EDITION=4 --plan",
	"tidyhull build site.yaml --with pages=../pages --secret "
	"token=@file:./token",
	NULL};

const struct verb verb_build = {.name = "build",
	.group = "images",
	.summary = "make an image from a recipe",
	.usage = "RECIPE",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS | VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = 1,
	.run = run};
