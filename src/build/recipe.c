#include "build/recipe.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "base/yaml_bounds.h"
#include "build/recipe_step.h"
#include "build/recipe_yaml.h"
#include "container/settings.h"

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

static void read_name(struct reading *reading, yaml_node_t *node, void *owner)
{
	((struct image_reading *)owner)->image->name =
		read_text(reading, node, "image");
}

static void read_from(struct reading *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_image *image = ((struct image_reading *)owner)->image;

	image->from = read_text(reading, node, "from");
	image->from_place = place_of(node);
	if (image->from && !*image->from)
		complain(reading, node, NULL, "\"from\" needs an image");
}

static void read_settings(
	struct reading *reading, yaml_node_t *node, void *owner)
{
	read_image_settings(reading, node,
		&((struct image_reading *)owner)->image->settings);
}

static void read_labels(struct reading *reading, yaml_node_t *node, void *owner)
{
	read_pairs(reading, node, "labels",
		&((struct image_reading *)owner)->image->settings.labels);
}

static void read_annotations(
	struct reading *reading, yaml_node_t *node, void *owner)
{
	read_pairs(reading, node, "annotations",
		&((struct image_reading *)owner)->image->annotations);
}

/* Read when what is given is known, wherever it stands. */
static void note_steps(struct reading *reading, yaml_node_t *node, void *owner)
{
	(void)reading;
	((struct image_reading *)owner)->steps = node;
}

static void note_images(struct reading *reading, yaml_node_t *node, void *owner)
{
	(void)reading;
	((struct image_reading *)owner)->images = node;
}

static void read_nothing(
	struct reading *reading, yaml_node_t *node, void *owner)
{
	(void)reading;
	(void)node;
	(void)owner;
}

static void read_time(struct reading *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe *recipe = ((struct image_reading *)owner)->recipe;
	char *text = read_text(reading, node, "time");
	int64_t time_us = 0;

	if (text && (th_clock_parse(text, &time_us) || time_us < 0))
		complain(reading, node, "for example 2026-11-05T08:00:00Z",
			"\"%.60s\" is not a time", text);
	recipe->time_s = time_us / 1000000;
	free(text);
}

static const struct recipe_key main_keys[] = {{"image", read_name},
	{"from", read_from}, {"given", read_nothing}, {"time", read_time},
	{"steps", note_steps}, {"settings", read_settings},
	{"labels", read_labels}, {"annotations", read_annotations},
	{"images", note_images}, {NULL, NULL}};
static const struct recipe_key other_keys[] = {{"image", read_name},
	{"from", read_from}, {"steps", note_steps}, {"settings", read_settings},
	{"labels", read_labels}, {"annotations", read_annotations},
	{NULL, NULL}};

static void read_image(struct reading *reading, yaml_node_t *node,
	const char *what, const struct recipe_key *keys,
	struct image_reading *own)
{
	struct th_recipe_image *image = own->image;

	image->place = place_of(node);
	read_mapping(reading, node, what, keys, own);
	if (own->steps)
		read_steps(reading, own->steps, false, &image->steps,
			&image->step_count);
	if (node->type == YAML_MAPPING_NODE && !image->from)
		complain(reading, node,
			"an image, a packed file, another image of the recipe, "
			"or nothing",
			"%s does not say what it is made from", what);
	if (image->from && strcmp(image->from, "nothing") == 0 &&
		image->step_count && image->steps[0].kind == TH_STEP_DO)
		complain(reading, own->steps, "put something into it first",
			"there is nothing that the first step could run in");
}

static struct th_recipe_image *new_image(
	struct reading *reading, struct th_recipe *recipe, char *key)
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
	struct reading *reading, yaml_node_t *node, struct th_recipe *recipe)
{
	if (node->type != YAML_MAPPING_NODE) {
		complain(reading, node, NULL,
			"\"images\" consists of "
			"NAME: IMAGE");
		return;
	}
	for (yaml_node_pair_t *pair = node->data.mapping.pairs.start;
		pair < node->data.mapping.pairs.top; pair++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, pair->key);
		char *name = read_text(reading, key, "images");
		struct image_reading own = {.recipe = recipe};

		if (!name)
			continue;
		if (!th_name_valid(name) || strcmp(name, "nothing") == 0)
			complain(reading, key, NULL,
				"\"%.60s\" cannot be the name of an image of "
				"the recipe",
				name);
		else if (th_recipe_find(recipe, name) >= 0)
			complain(reading, key, NULL,
				"\"%.60s\" stands here twice", name);
		if (recipe->image_count >= TH_RECIPE_IMAGES) {
			complain(reading, key, NULL,
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

/* ---- what is given ---- */

static const char *outside_value(
	const struct reading *reading, const char *name, size_t len)
{
	for (size_t i = reading->outside->count; i > 0; i--) {
		const char *pair = reading->outside->items[i - 1];

		if (strncmp(pair, name, len) == 0 && pair[len] == '=')
			return pair + len + 1;
	}
	return NULL;
}

static void take_given(
	struct reading *reading, yaml_node_t *key, yaml_node_t *value)
{
	char *name = read_text(reading, key, "given");
	bool is_null = value->type == YAML_SCALAR_NODE &&
		!value->data.scalar.length &&
		value->data.scalar.style == YAML_PLAIN_SCALAR_STYLE;
	const char *set =
		name ? outside_value(reading, name, strlen(name)) : NULL;
	char hint[120], *text = NULL;

	if (name && !th_name_valid(name))
		complain(reading, key, NULL,
			"\"%.60s\" is not a name for a value", name);
	else if (name && !set && is_null) {
		snprintf(hint, sizeof(hint), "give it: --given %.60s=VALUE",
			name);
		complain(reading, key, hint, "\"%.60s\" has no value", name);
	} else if (name) {
		text = set ? strdup(set) : read_text(reading, value, "given");
	}
	if (text &&
		th_strings_take(
			&reading->given, th_format("%s=%s", name, text)))
		reading->no_memory = true;
	/* So that only one complaint is made of it. */
	if (name && !text)
		th_strings_take(&reading->given, th_format("%s=", name));
	free(text);
	free(name);
}

static void read_given(struct reading *reading, yaml_node_t *root)
{
	for (yaml_node_pair_t *pair = root->data.mapping.pairs.start;
		pair < root->data.mapping.pairs.top; pair++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, pair->key);
		yaml_node_t *value =
			yaml_document_get_node(&reading->doc, pair->value);

		if (key->type != YAML_SCALAR_NODE ||
			strcmp((const char *)key->data.scalar.value, "given") !=
				0)
			continue;
		if (value->type != YAML_MAPPING_NODE) {
			complain(reading, value, NULL,
				"\"given\" consists of NAME: VALUE");
			continue;
		}
		for (yaml_node_pair_t *one = value->data.mapping.pairs.start;
			one < value->data.mapping.pairs.top; one++)
			take_given(reading,
				yaml_document_get_node(&reading->doc, one->key),
				yaml_document_get_node(
					&reading->doc, one->value));
	}
}

/* Values that nobody asks for are a slip of the keys. */
static void check_outside(struct reading *reading, yaml_node_t *root)
{
	for (size_t i = 0; i < reading->outside->count; i++) {
		const char *pair = reading->outside->items[i];
		size_t len = strcspn(pair, "=") + 1;
		bool known = false;

		for (size_t k = 0; k < reading->given.count; k++)
			known |= strncmp(reading->given.items[k], pair, len) ==
				0;
		if (!known)
			complain(reading, root,
				"the recipe lists under \"given\" what can be "
				"set",
				"the recipe has no value \"%.*s\"",
				(int)len - 1, pair);
	}
}

/* ---- who needs whom ---- */

static void add_need(
	struct reading *reading, struct th_recipe_image *image, int number)
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

static void note_needs(struct reading *reading, struct th_recipe *recipe,
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

static void complain_of_loop(struct reading *reading,
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
static void sort_images(struct reading *reading, struct th_recipe *recipe)
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

static void link_images(struct reading *reading, struct th_recipe *recipe)
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

static void read_document(struct reading *reading, struct th_recipe *recipe)
{
	yaml_node_t *root = yaml_document_get_root_node(&reading->doc);
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
	if (root->type == YAML_MAPPING_NODE)
		read_given(reading, root);
	check_outside(reading, root);
	read_image(reading, root, "the recipe", main_keys, &own);
	/* The list of images may move: nothing of own is used any more. */
	if (own.images)
		read_others(reading, own.images, recipe);
	if (!reading->problems->count && !reading->no_memory)
		link_images(reading, recipe);
}

static void parse(struct reading *reading, const struct th_buf *text,
	struct th_recipe *recipe)
{
	struct th_error err = {0};
	yaml_parser_t parser;

	if (!yaml_parser_initialize(&parser)) {
		reading->no_memory = true;
		return;
	}
	yaml_parser_set_input_string(
		&parser, (const unsigned char *)text->data, text->len);
	if (!yaml_parser_load(&parser, &reading->doc)) {
		th_fail(&err, TH_USAGE, "%.150s, line %zu, column %zu: %s",
			reading->name, parser.problem_mark.line + 1,
			parser.problem_mark.column + 1,
			parser.problem ? parser.problem : "not valid YAML");
		th_problems_add(reading->problems, &err);
	} else {
		read_document(reading, recipe);
		yaml_document_delete(&reading->doc);
	}
	yaml_parser_delete(&parser);
}

int th_recipe_read(const char *name, const struct th_buf *text,
	const struct th_strings *given, struct th_recipe *recipe,
	struct th_problems *problems)
{
	struct reading reading = {.name = name,
		.problems = problems,
		.outside = given,
		.notes = &recipe->notes};
	size_t before = problems->count;
	struct th_error err = {0};

	memset(recipe, 0, sizeof(*recipe));
	recipe->time_s = -1;
	if (th_yaml_check(name, text, &err) == 0)
		parse(&reading, text, recipe);
	if (reading.no_memory)
		th_fail_memory(&err);
	if (err.code)
		th_problems_add(problems, &err);
	th_strings_release(&reading.given);
	return problems->count > before ? -1 : 0;
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
