/* build: a new image from a recipe. */
#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/path.h"
#include "base/yaml_bounds.h"
#include "base/near_file.h"
#include "cli/build_progress.h"
#include "cli/doc.h"
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
	json_t *wish; /* for the library */
	json_t *recipe; /* what it says of it */
	struct build_progress progress;
	int64_t began_us;
};

/* ---- what is given ---- */

static int take_secret(void *owner, const char *text, struct th_error *err)
{
	return secret_add(owner, text, err);
}

static int add_folder(struct building *building, const char *name,
	const char *path, struct th_error *err)
{
	char cwd[4096], *whole;
	json_t *pair;

	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	whole = th_path_absolute(cwd, path);
	if (!whole)
		return th_fail_memory(err);
	pair = json_array();
	json_array_append_new(pair, json_string_nocheck(name));
	json_array_append_new(pair, json_string_nocheck(whole));
	json_array_append_new(doc_part(building->wish, "folders"), pair);
	free(whole);
	return 0;
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

/* The recipe's own folder first; of one that comes by a pipe, the current. */
static int read_folders(struct building *building, struct th_error *err)
{
	const char *last = th_path_last(building->path);
	struct stat st;
	bool lies = stat(building->path, &st) == 0 && S_ISREG(st.st_mode);
	char *own = strndup(
		building->path, lies ? (size_t)(last - building->path) : 0);
	int rc = own ? add_folder(building, "", *own ? own : ".", err)
		     : th_fail_memory(err);

	free(own);
	return rc ? -1
		  : each_option(
			    building->call, "with", take_folder, building, err);
}

static int read_text(struct building *building, struct th_error *err)
{
	bool is_input = strcmp(building->path, "-") == 0;
	char near[TH_NEAR_FILE];
	struct th_buf text;
	int rc;

	th_buf_init(&text, TH_YAML_BYTES);
	rc = is_input ? read_input(&text, err)
		      : th_file_read(AT_FDCWD, building->path, &text, err);
	if (rc == 0) {
		th_fail(err, TH_NOT_FOUND, "the recipe %.300s does not exist",
			building->path);
		if (th_near_file(building->path, near))
			th_hint(err, "did you mean: tidyhull build %.250s",
				near);
		th_hint(err, "give the path of a recipe file");
	}
	if (rc == 1)
		json_object_set_new(building->wish, "text",
			json_stringn_nocheck(
				text.data ? text.data : "", text.len));
	th_buf_release(&text);
	return rc == 1 ? 0 : -1;
}

static int read_secrets(struct building *building, struct th_error *err)
{
	struct th_strings secrets = {0};
	int rc = each_option(
		building->call, "secret", take_secret, &secrets, err);

	json_object_set_new(building->wish, "secrets",
		doc_of_texts(secrets.items, secrets.count));
	th_strings_release(&secrets);
	return rc;
}

static void set_flag(
	struct building *building, const char *key, const char *option)
{
	json_object_set_new(building->wish, key,
		json_boolean(option_given(building->call, option)));
}

static int read_wish(struct building *building, struct th_error *err)
{
	const struct invocation *call = building->call;
	json_t *given;
	int rc = given_read(call, &given, err);

	building->wish = json_pack("{s:[]}", "folders");
	json_object_set_new(building->wish, "given", given);
	doc_set(building->wish, "recipe", building->path);
	doc_set(building->wish, "name", option_value(call, "name"));
	doc_set(building->wish, "fetch", option_value(call, "fetch"));
	set_flag(building, "anew", "anew");
	set_flag(building, "plan", "plan");
	set_flag(building, "keep-place", "enter");
	return rc || read_text(building, err) || read_folders(building, err) ||
			read_secrets(building, err) ||
			image_wish_read(call, building->wish, err)
		? -1
		: 0;
}

/* ---- a place that failed ---- */

/* A shell in a throw-away container where the step ran, with all that it had.
 */
static void enter_place(struct building *building, const json_t *failure)
{
	bool terminal = isatty(0) && isatty(1);
	struct th_error err = {0}, ignored = {0}; /* a sweep finds it */
	json_t *container = NULL;

	fprintf(stderr, "a shell where it failed; exit ends it\n");
	if (th_recipe_enter(building->call->hull, building->wish, failure,
		    terminal, &container, &err))
		say_problems("enter", "the place", container, &err);
	else
		foreground_run(building->call, container, terminal);
	json_decref(container);
	/* Nothing is left of it. */
	th_remove(building->call->hull, doc_text(failure, "place"),
		TH_KIND_IMAGE, false, NULL, &ignored);
}

static int say_failure(
	struct building *building, const json_t *failure, struct th_error *err)
{
	const struct invocation *call = building->call;
	bool has_place = *doc_text(failure, "place");
	bool enters = option_given(call, "enter") && has_place;
	int code = say_error(err);

	say_last_words(doc_text(failure, "last-words"));
	if (has_place && !enters && !option_given(call, "plan") && !call->quiet)
		fprintf(stderr,
			"  the steps before it are kept; to look around: "
			"tidyhull build %s --enter\n",
			shown(building->path));
	if (enters)
		enter_place(building, failure);
	return code;
}

/* ---- the build ---- */

static int print_result(struct building *building, const json_t *built)
{
	const struct build_progress *progress = &building->progress;
	const struct invocation *call = building->call;
	const char *name = doc_text(built, "name");
	const char *digest = doc_text(built, "digest");
	char span[TH_TIME_TEXT];

	if (call->json)
		return print_json(json_pack("{s:O s:O s:i s:i s:i}", "name",
			json_object_get(built, "name"), "digest",
			json_object_get(built, "digest"), "run",
			(int)progress->run, "remembered",
			(int)progress->remembered, "planned",
			(int)progress->planned));
	if (option_given(call, "plan")) {
		printf("%zu step%s would run, %zu %s remembered; nothing was "
		       "changed\n",
			progress->planned, progress->planned == 1 ? "" : "s",
			progress->remembered,
			progress->remembered == 1 ? "is" : "are");
		return EXIT_DONE;
	}
	if (call->quiet) {
		printf("%s\n", digest);
		return EXIT_DONE;
	}
	th_clock_span(th_clock_now_us() - building->began_us, span);
	printf("built %s (%.12s): %zu run, %zu remembered, %s\n",
		*name ? shown(name) : "an image without a name",
		short_digest(digest), progress->run, progress->remembered,
		span);
	return EXIT_DONE;
}

static int build(struct building *building)
{
	struct invocation *call = building->call;
	struct build_progress *progress = &building->progress;
	const json_t *notes = doc_part(building->recipe, "notes");
	struct th_error err = {0};
	json_t *built = NULL;
	int code, rc;

	progress->images = doc_part(building->recipe, "images");
	progress->quiet = call->quiet || call->json;
	progress->output = option_given(call, "output");
	progress->terminal = on_terminal();
	for (size_t i = 0; i < json_array_size(notes); i++)
		say_note(doc_item(notes, i));
	rc = th_recipe_build(call->hull, building->wish, build_progress_tell,
		progress, &built, &err);
	build_progress_end(progress);
	code = rc ? say_failure(building, built, &err)
		  : print_result(building, built);
	json_decref(built);
	return code;
}

/* The only file in the folder that can be one. */
static void hint_recipe(const char *path, struct th_error *err)
{
	DIR *dir = opendir(path);
	const struct dirent *entry;
	char found[256] = "";
	int count = 0;

	while (dir && (entry = readdir(dir))) {
		size_t len = strlen(entry->d_name);

		if (len < 6 || strcmp(entry->d_name + len - 5, ".yaml") != 0)
			continue;
		snprintf(found, sizeof(found), "%s", entry->d_name);
		count++;
	}
	if (dir)
		closedir(dir);
	if (count == 1)
		th_hint(err, "the file in it: tidyhull build %.150s%s%.100s",
			path, path[strlen(path) - 1] == '/' ? "" : "/", found);
}

/* A folder is not read for a recipe of some name. */
static int check_recipe(const char *path, struct th_error *err)
{
	struct stat st;

	if (stat(path, &st) || !S_ISDIR(st.st_mode))
		return 0;
	th_fail(err, TH_USAGE, "%.200s is a folder, not a recipe", path);
	hint_recipe(path, err);
	return th_hint(err, "name the file: tidyhull build %.150s%sNAME.yaml",
		path, path[strlen(path) - 1] == '/' ? "" : "/");
}

static int run(struct invocation *call)
{
	struct building building = {.call = call,
		.path = call->objects[0],
		.began_us = th_clock_now_us()};
	struct th_error err = {0};
	int code;

	if (check_recipe(building.path, &err) || read_wish(&building, &err))
		code = say_error(&err);
	else if (th_recipe_look(building.wish, &building.recipe, &err))
		code = say_problems(
			"build", building.path, building.recipe, &err);
	else
		code = build(&building);
	json_decref(building.wish);
	json_decref(building.recipe);
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
	.called = "make compile mk",
	.takes = "file",
	.summary = "make an image from a recipe",
	.usage = "RECIPE",
	.text = text,
	.examples = examples,
	.options = options,
	.flags = VERB_STORE | VERB_STARTS | VERB_REGISTRIES | VERB_JSON,
	.least = 1,
	.most = 1,
	.run = run};
