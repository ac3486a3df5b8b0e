#include "build/recipe.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "build/recipe_step.h"
#include "base/yaml_values.h"
#include "model/settings.h"

/* An image while it is read. */
struct image_reading {
	struct th_recipe *recipe;
	struct th_recipe_image *image;
	yaml_node_t *steps, *images;
};

bool th_recipe_split(const char *text, size_t *image_len)
{
	const char *colon = strstr(text, ":/");

	if (!colon || colon == text)
		return false;
	*image_len = (size_t)(colon - text);
	return true;
}

int th_recipe_find(const struct th_recipe *recipe, const char *text)
{
	for (size_t i = 0; i < recipe->image_count; i++) {
		const char *key = recipe->images[i].key;

		if (*key && strcmp(key, text) == 0)
			return (int)i;
	}
	return -1;
}

/* ---- an image ---- */

static void read_name(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	((struct image_reading *)owner)->image->name =
		th_yaml_text(reading, node, "image");
}

static void read_from(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_image *image = ((struct image_reading *)owner)->image;

	image->from = th_yaml_text(reading, node, "from");
	image->from_place = th_yaml_place_of(node);
	if (image->from && !*image->from)
		th_yaml_complain(
			reading, node, NULL, "\"from\" needs an image");
}

static void read_settings(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	read_image_settings(reading, node,
		&((struct image_reading *)owner)->image->settings);
}

static void read_labels(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	th_yaml_pairs(reading, node, "labels",
		&((struct image_reading *)owner)->image->settings.labels);
}

static void read_annotations(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	th_yaml_pairs(reading, node, "annotations",
		&((struct image_reading *)owner)->image->annotations);
}

/* Read when what is given is known, wherever it stands. */
static void note_steps(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	(void)reading;
	((struct image_reading *)owner)->steps = node;
}

static void note_images(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	(void)reading;
	((struct image_reading *)owner)->images = node;
}

static void read_nothing(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	(void)reading;
	(void)node;
	(void)owner;
}

static void read_time(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe *recipe = ((struct image_reading *)owner)->recipe;
	char *text = th_yaml_text(reading, node, "time");
	int64_t time_us = 0;

	if (text && (th_clock_parse(text, &time_us) || time_us < 0))
		th_yaml_complain(reading, node,
			"for example 2026-11-05T08:00:00Z",
			"\"%.60s\" is not a time", text);
	recipe->time_s = time_us / 1000000;
	free(text);
}

static const struct th_yaml_key main_keys[] = {{"image", read_name},
	{"from", read_from}, {"given", read_nothing}, {"time", read_time},
	{"steps", note_steps}, {"settings", read_settings},
	{"labels", read_labels}, {"annotations", read_annotations},
	{"images", note_images}, {NULL, NULL}};
static const struct th_yaml_key other_keys[] = {{"image", read_name},
	{"from", read_from}, {"steps", note_steps}, {"settings", read_settings},
	{"labels", read_labels}, {"annotations", read_annotations},
	{NULL, NULL}};

static void read_image(struct th_yaml *reading, yaml_node_t *node,
	const char *what, const struct th_yaml_key *keys,
	struct image_reading *own)
{
	struct th_recipe_image *image = own->image;

	image->place = th_yaml_place_of(node);
	th_yaml_mapping(reading, node, what, keys, own);
	if (own->steps)
		read_steps(reading, own->steps, false, &image->steps,
			&image->step_count);
	if (node->type == YAML_MAPPING_NODE && !image->from)
		th_yaml_complain(reading, node,
			"an image, a packed file, another image of the recipe, "
			"or nothing",
			"%s does not say what it is made from", what);
	if (image->from && strcmp(image->from, "nothing") == 0 &&
		image->step_count && image->steps[0].kind == TH_STEP_DO)
		th_yaml_complain(reading, own->steps,
			"put something into it first",
			"there is nothing that the first step could run in");
}

static struct th_recipe_image *new_image(
	struct th_yaml *reading, struct th_recipe *recipe, char *key)
{
	struct th_recipe_image *more = NULL;

	if (key)
		more = realloc(recipe->images,
			(recipe->image_count + 1) * sizeof(*more));
	if (!more) {
		free(key);
		reading->no_memory = true;
		return NULL;
	}
	recipe->images = more;
	more = &more[recipe->image_count++];
	memset(more, 0, sizeof(*more));
	more->key = key;
	return more;
}

static void read_others(
	struct th_yaml *reading, yaml_node_t *node, struct th_recipe *recipe)
{
	if (node->type != YAML_MAPPING_NODE) {
		th_yaml_complain(reading, node, NULL,
			"\"images\" consists of "
			"NAME: IMAGE");
		return;
	}
	for (yaml_node_pair_t *pair = node->data.mapping.pairs.start;
		pair < node->data.mapping.pairs.top; pair++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, pair->key);
		char *name = th_yaml_text(reading, key, "images");
		struct image_reading own = {.recipe = recipe};

		if (!name)
			continue;
		if (!th_name_valid(name) || strcmp(name, "nothing") == 0)
			th_yaml_complain(reading, key, NULL,
				"\"%.60s\" cannot be the name of an image of "
				"the recipe",
				name);
		else if (th_recipe_find(recipe, name) >= 0)
			th_yaml_complain(reading, key, NULL,
				"\"%.60s\" stands here twice", name);
		if (recipe->image_count >= TH_RECIPE_IMAGES) {
			th_yaml_complain(reading, key, NULL,
				"a recipe has at most %d images",
				TH_RECIPE_IMAGES);
			free(name);
			return;
		}
		own.image = new_image(reading, recipe, name);
		if (own.image)
			read_image(reading,
				yaml_document_get_node(
					&reading->doc, pair->value),
				"an image of the recipe", other_keys, &own);
	}
}

/* ---- who needs whom ---- */

static void add_need(
	struct th_yaml *reading, struct th_recipe_image *image, int number)
{
	size_t *more;

	for (size_t i = 0; i < image->need_count; i++) {
		if (image->needs[i] == (size_t)number)
			return;
	}
	more = realloc(image->needs, (image->need_count + 1) * sizeof(*more));
	if (!more) {
		reading->no_memory = true;
		return;
	}
	image->needs = more;
	more[image->need_count++] = (size_t)number;
}

static void note_needs(struct th_yaml *reading, struct th_recipe *recipe,
	struct th_recipe_image *image, const struct th_recipe_step *steps,
	size_t count)
{
	for (size_t i = 0; i < count; i++) {
		note_needs(reading, recipe, image, steps[i].steps,
			steps[i].step_count);
		for (size_t k = 0; steps[i].kind == TH_STEP_TAKE &&
			k < steps[i].pair_count;
			k++) {
			const char *text = steps[i].pairs[k].outside;
			size_t len;
			char key[TH_RECIPE_IMAGES + 64];
			int number;

			if (!th_recipe_split(text, &len))
				continue;
			snprintf(key, sizeof(key), "%.*s", (int)len, text);
			number = th_recipe_find(recipe, key);
			if (number >= 0)
				add_need(reading, image, number);
		}
	}
}

static void complain_of_loop(struct th_yaml *reading,
	const struct th_recipe *recipe, const bool *placed)
{
	struct th_error err = {0};
	char names[200] = "";

	for (size_t i = 0; i < recipe->image_count; i++) {
		size_t used = strlen(names);

		/* The main one is needed by none: it only waits. */
		if (!placed[i] && *recipe->images[i].key)
			snprintf(names + used, sizeof(names) - used, "%s%s",
				used ? ", " : "", recipe->images[i].key);
	}
	for (size_t i = 0; i < recipe->image_count; i++) {
		if (placed[i] || !*recipe->images[i].key)
			continue;
		th_fail(&err, TH_USAGE,
			"%.150s, line %zu, column %zu: these images need one "
			"another: %s",
			reading->name, recipe->images[i].place.line,
			recipe->images[i].place.column, names);
		break;
	}
	th_problems_add(reading->problems, &err);
}

/* Each behind those that it needs, and the main one last. */
static void sort_images(struct th_yaml *reading, struct th_recipe *recipe)
{
	size_t count = recipe->image_count, used = 0;
	struct th_recipe_image *sorted = calloc(count, sizeof(*sorted));
	size_t *place = calloc(count, sizeof(*place));
	bool *placed = calloc(count, sizeof(*placed)), moved = true;

	if (!sorted || !place || !placed) {
		reading->no_memory = true;
		goto out;
	}
	while (moved) {
		moved = false;
		for (size_t i = count; i > 0; i--) {
			struct th_recipe_image *image = &recipe->images[i - 1];
			bool ready = !placed[i - 1] &&
				/* number 0 is the main one */
				(i > 1 || used == count - 1);

			for (size_t k = 0; ready && k < image->need_count; k++)
				ready = placed[image->needs[k]];
			if (!ready)
				continue;
			placed[i - 1] = moved = true;
			place[i - 1] = used++;
		}
	}
	if (used < count) {
		complain_of_loop(reading, recipe, placed);
		goto out;
	}
	for (size_t i = 0; i < count; i++) {
		struct th_recipe_image *image = &sorted[place[i]];

		*image = recipe->images[i];
		for (size_t k = 0; k < image->need_count; k++)
			image->needs[k] = place[image->needs[k]];
	}
	free(recipe->images);
	recipe->images = sorted;
	sorted = NULL;
out:
	free(sorted);
	free(place);
	free(placed);
}

static void link_images(struct th_yaml *reading, struct th_recipe *recipe)
{
	for (size_t i = 0; i < recipe->image_count; i++) {
		struct th_recipe_image *image = &recipe->images[i];
		int from =
			image->from ? th_recipe_find(recipe, image->from) : -1;

		if (from >= 0)
			add_need(reading, image, from);
		note_needs(reading, recipe, image, image->steps,
			image->step_count);
	}
	if (!reading->problems->count && !reading->no_memory)
		sort_images(reading, recipe);
}

/* ---- the whole ---- */

static void read_document(
	struct th_yaml *reading, yaml_node_t *root, void *owner)
{
	struct th_recipe *recipe = owner;
	struct image_reading own = {.recipe = recipe};
	struct th_error err = {0};

	if (!root) {
		th_fail(&err, TH_USAGE, "%.200s is empty", reading->name);
		th_hint(&err, "docs/recipes.md shows how to begin");
		th_problems_add(reading->problems, &err);
		return;
	}
	own.image = new_image(reading, recipe, strdup(""));
	if (!own.image)
		return;
	th_yaml_read_given(reading, root);
	read_image(reading, root, "the recipe", main_keys, &own);
	/* The list of images may move: nothing of own is used any more. */
	if (own.images)
		read_others(reading, own.images, recipe);
	if (!reading->problems->count && !reading->no_memory)
		link_images(reading, recipe);
}

int th_recipe_read(const char *name, const struct th_buf *text,
	const struct th_strings *given, struct th_recipe *recipe,
	struct th_problems *problems)
{
	struct th_yaml reading = {.name = name,
		.what = "recipe",
		.manual = "docs/recipes.md",
		.problems = problems,
		.outside = given,
		.notes = &recipe->notes};

	memset(recipe, 0, sizeof(*recipe));
	recipe->time_s = -1;
	return th_yaml_read(&reading, text, read_document, recipe);
}

void th_recipe_release(struct th_recipe *recipe)
{
	for (size_t i = 0; i < recipe->image_count; i++) {
		struct th_recipe_image *image = &recipe->images[i];

		free(image->key);
		free(image->name);
		free(image->from);
		free(image->needs);
		steps_release(image->steps, image->step_count);
		th_image_settings_release(&image->settings);
		th_strings_release(&image->annotations);
	}
	free(recipe->images);
	th_strings_release(&recipe->notes);
	memset(recipe, 0, sizeof(*recipe));
}
