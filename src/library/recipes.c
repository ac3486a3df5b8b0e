/* New images: of recipes, and of what containers have changed. */
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "build/build.h"
#include "build/capture.h"
#include "layer/deflate.h"
#include "library/images.h"
#include "view/describe.h"

/* ---- capture ---- */

static int add_env(const json_t *wish, struct th_image_settings *settings,
	struct th_error *err)
{
	if (library_texts(
		    json_object_get(wish, "env"), "env", &settings->env, err) ||
		library_texts(json_object_get(wish, "label"), "label",
			&settings->labels, err))
		return -1;
	/* Values from elsewhere would be in the image for good. */
	for (size_t i = 0; i < settings->env.count; i++) {
		const char *text = settings->env.items[i];
		const char *equals = strchr(text, '=');

		if (equals && equals != text && equals[1] != '@')
			continue;
		th_fail(err, TH_USAGE, "\"%.100s\" cannot be kept in an image",
			text);
		return th_hint(err,
			"use --env KEY=VALUE; secrets are given to containers");
	}
	for (size_t i = 0; i < settings->labels.count; i++) {
		const char *text = settings->labels.items[i];

		if (*text != '=' && strchr(text, '='))
			continue;
		th_fail(err, TH_USAGE, "\"%.100s\" is not a label", text);
		return th_hint(err, "use --label KEY=VALUE");
	}
	return 0;
}

static int add_ports(const json_t *wish, struct th_image_settings *settings,
	struct th_error *err)
{
	struct th_strings texts = {0};
	int rc = library_texts(
		json_object_get(wish, "port"), "port", &texts, err);

	for (size_t i = 0; rc == 0 && i < texts.count; i++)
		rc = th_image_settings_port(settings, texts.items[i], err);
	th_strings_release(&texts);
	return rc;
}

static int copy_text(
	const json_t *wish, const char *key, char **copy, struct th_error *err)
{
	const char *text = library_text(wish, key);

	if (!text)
		return 0;
	*copy = strdup(text);
	return *copy ? 0 : th_fail_memory(err);
}

static int read_image_settings(const json_t *wish,
	struct th_image_settings *settings, struct th_error *err)
{
	const char *entrypoint = library_text(wish, "entrypoint");
	const json_t *command = json_object_get(wish, "command");

	settings->has_entrypoint = entrypoint != NULL;
	if (entrypoint && *entrypoint &&
		th_strings_add(&settings->entrypoint, entrypoint))
		return th_fail_memory(err);
	settings->has_command = json_is_array(command);
	return (settings->has_command &&
		       library_texts(
			       command, "command", &settings->command, err)) ||
			add_env(wish, settings, err) ||
			add_ports(wish, settings, err) ||
			copy_text(wish, "user", &settings->user, err) ||
			copy_text(wish, "workdir", &settings->workdir, err) ||
			copy_text(wish, "stop", &settings->stop, err)
		? -1
		: 0;
}

static int read_compression(const json_t *wish,
	enum th_compression *compression, int *level, struct th_error *err)
{
	const char *text = library_text(wish, "compress");

	return th_compression_parse(
		text ? text : "gzip", compression, level, err);
}

static int64_t read_time(const json_t *wish)
{
	const json_t *time = json_object_get(wish, "time");

	return json_is_integer(time) ? json_integer_value(time) : -1;
}

static json_t *view_capture(const struct th_capture *capture)
{
	return json_pack("{s:s s:s s:I s:I s:o s:o s:I}", "name", capture->name,
		"digest", capture->digest, "size",
		(json_int_t)capture->size_bytes, "uncompressed",
		(json_int_t)capture->plain_bytes, "mounts",
		th_json_from_strings(&capture->mounts), "hidden",
		th_json_from_strings(&capture->hidden), "sockets",
		(json_int_t)capture->sockets);
}

int th_image_capture(th_hull *hull, const char *container, const json_t *wish,
	json_t **doc, th_error *error)
{
	struct th_error own = {0};
	char name[TH_REFERENCE_MAX + 256];
	const char *wanted = library_text(wish, "name");
	struct th_image_settings settings = {0};
	struct th_capture capture = {
		.name = name, .settings = &settings, .time_s = read_time(wish)};
	struct th_container_row row;
	int rc = -1;

	error = error ? error : &own;
	library_begin(doc);
	if (library_container(hull, container, &row, error) == 0 &&
		library_image_name(wanted ? wanted : "", name, error) == 0 &&
		read_compression(wish, &capture.compression, &capture.level,
			error) == 0 &&
		read_image_settings(wish, &settings, error) == 0 &&
		th_capture(&hull->context, &row, &capture, error) == 0)
		rc = library_give(view_capture(&capture), doc, error);
	th_capture_release(&capture);
	th_image_settings_release(&settings);
	return rc;
}

/* ---- recipes ---- */

/* All that a build is made of. */
struct building {
	struct th_recipe recipe;
	struct th_build_folders folders;
	struct th_strings given, secrets;
	struct th_build_options options;
	char name[TH_REFERENCE_MAX + 256];
};

static void building_release(struct building *building)
{
	th_recipe_release(&building->recipe);
	th_build_folders_release(&building->folders);
	th_strings_release(&building->given);
	th_strings_release(&building->secrets);
}

/* -1 with an error, or with problems, which doc gets. */
static int read_recipe(const json_t *wish, struct building *building,
	json_t **doc, struct th_error *err)
{
	const char *path = library_text(wish, "recipe");
	const json_t *text = json_object_get(wish, "text");
	struct th_problems problems = {0};
	struct th_buf buf;
	int rc;

	if (!path || !json_is_string(text))
		return th_fail(err, TH_USAGE, "no recipe is given");
	th_buf_init(&buf, TH_YAML_BYTES);
	th_buf_add(&buf, json_string_value(text), json_string_length(text));
	rc = buf.failed ? th_fail_memory(err)
			: library_texts(json_object_get(wish, "given"), "given",
				  &building->given, err);
	if (rc == 0 &&
		th_recipe_read(path, &buf, &building->given, &building->recipe,
			&problems))
		rc = library_problems(&problems, doc, err);
	th_problems_release(&problems);
	th_buf_release(&buf);
	return rc;
}

static int read_folders(
	const json_t *wish, struct building *building, struct th_error *err)
{
	const json_t *pair;
	size_t i;

	json_array_foreach(json_object_get(wish, "folders"), i, pair)
	{
		const char *name = json_string_value(json_array_get(pair, 0));
		const char *path = json_string_value(json_array_get(pair, 1));

		if (!name || !path)
			return th_fail(err, TH_USAGE,
				"\"folders\" is a list of pairs");
		if (th_build_folders_add(&building->folders, name, path, err))
			return -1;
	}
	return library_texts(json_object_get(wish, "secrets"), "secrets",
		&building->secrets, err);
}

static bool is_set(const json_t *wish, const char *key)
{
	return json_is_true(json_object_get(wish, key));
}

static int read_building(th_hull *hull, const json_t *wish,
	struct building *building, struct th_error *err)
{
	const struct th_caller *caller = &hull->caller;
	struct th_build_options *options = &building->options;
	const char *name = library_text(wish, "name");

	*options = (struct th_build_options){
		.recipe_name = library_text(wish, "recipe"),
		.recipe = &building->recipe,
		.folders = &building->folders,
		.secrets = &building->secrets,
		.time_s = read_time(wish),
		.anew = is_set(wish, "anew"),
		.plan = is_set(wish, "plan"),
		.keep_place = is_set(wish, "keep-place"),
		.unprivileged = caller->unprivileged,
		.uid = caller->uid,
		.gid = caller->gid,
		.user_name = caller->name,
		.home = caller->home};
	if (name && library_image_name(name, building->name, err))
		return -1;
	options->name = name ? building->name : NULL;
	return read_folders(wish, building, err) ||
			library_fetch(library_text(wish, "fetch"),
				&options->fetch, err) ||
			read_compression(wish, &options->compression,
				&options->level, err)
		? -1
		: 0;
}

int th_recipe_look(const json_t *wish, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct building building = {0};
	json_t *list;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = read_recipe(wish, &building, doc, error);
	if (rc == 0) {
		list = json_array();
		for (size_t i = 0; i < building.recipe.image_count; i++) {
			const struct th_recipe_image *image =
				&building.recipe.images[i];

			json_array_append_new(list,
				json_pack("{s:s s:s? s:I}", "key", image->key,
					"name", image->name, "steps",
					(json_int_t)image->step_count));
		}
		rc = library_give(
			json_pack("{s:o s:o}", "images", list, "notes",
				th_json_from_strings(&building.recipe.notes)),
			doc, error);
	}
	building_release(&building);
	return rc;
}

static json_t *view_failure(const struct th_build_failure *failure)
{
	if (!failure->known)
		return NULL;
	return json_pack("{s:I s:I s:o s:s}", "image",
		(json_int_t)failure->image, "step", (json_int_t)failure->step,
		"last-words", th_view_said(failure->last_words), "place",
		failure->place);
}

static int build(th_hull *hull, struct building *building, json_t **doc,
	struct th_error *err)
{
	const struct th_recipe *recipe = &building->recipe;
	struct th_build_failure *failure = calloc(1, sizeof(*failure));
	const char *name = building->options.name
		? building->options.name
		: recipe->images[recipe->image_count - 1].name;
	char digest[TH_DIGEST_TEXT] = "";
	int rc = failure ? th_container_settle(&hull->context, err)
			 : th_fail_memory(err);

	if (rc == 0)
		rc = th_build(&hull->context, &building->options, digest,
			failure, err);
	if (rc == 0)
		rc = library_give(json_pack("{s:s? s:s?}", "name", name,
					  "digest", *digest ? digest : NULL),
			doc, err);
	else if (failure && doc)
		*doc = view_failure(failure);
	free(failure);
	return rc;
}

int th_recipe_build(th_hull *hull, const json_t *wish,
	void (*tell)(void *owner, const struct th_build_event *event),
	void *owner, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct building building = {0};
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = read_recipe(wish, &building, doc, error);
	if (rc == 0)
		rc = read_building(hull, wish, &building, error);
	building.options.tell = tell;
	building.options.owner = owner;
	if (rc == 0)
		rc = build(hull, &building, doc, error);
	building_release(&building);
	return rc;
}

/* The step of a failure, or a harmless one where that was none that runs
 * anything. */
static const struct th_recipe_step *step_of(
	const struct th_recipe *recipe, const json_t *failure)
{
	static const struct th_recipe_step nothing = {.kind = TH_STEP_DO};
	size_t image =
		(size_t)json_integer_value(json_object_get(failure, "image"));
	size_t step =
		(size_t)json_integer_value(json_object_get(failure, "step"));

	if (image < recipe->image_count &&
		step < recipe->images[image].step_count &&
		recipe->images[image].steps[step].kind == TH_STEP_DO)
		return &recipe->images[image].steps[step];
	return &nothing;
}

static int make_place(th_hull *hull, const struct building *building,
	const json_t *failure, bool terminal, json_t **doc,
	struct th_error *err)
{
	const char *place = library_text(failure, "place");
	struct th_strings texts = {0}, command = {0};
	struct th_problems problems = {0};
	struct th_settings settings;
	struct th_container_row row;
	int rc = place && *place
		? 0
		: th_fail(err, TH_NOT_FOUND, "no place is kept");

	if (rc == 0 && th_strings_add(&command, "/bin/sh"))
		rc = th_fail_memory(err);
	if (rc == 0)
		rc = th_build_settings(&building->options,
			step_of(&building->recipe, failure), place, &command,
			&settings, &texts, err);
	if (rc == 0) {
		settings.keep = false;
		settings.terminal = terminal;
		rc = th_container_create(
			&hull->context, &settings, &problems, &row, err);
		if (problems.count)
			rc = library_problems(&problems, doc, err);
		th_settings_release(&settings);
	}
	if (rc == 0)
		rc = library_give(
			th_view_container(&hull->context, &row), doc, err);
	th_strings_release(&texts);
	th_strings_release(&command);
	return rc;
}

int th_recipe_enter(th_hull *hull, const json_t *wish, const json_t *failure,
	bool terminal, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct building building = {0};
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	rc = read_recipe(wish, &building, doc, error);
	if (rc == 0)
		rc = read_building(hull, wish, &building, error);
	if (rc == 0)
		rc = make_place(hull, &building, failure, terminal, doc, error);
	building_release(&building);
	return rc;
}
