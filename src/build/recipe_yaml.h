/* What the reader of recipes is made of: values with their places, and all
 * complaints at once. For the build module only. */
#ifndef TH_BUILD_RECIPE_YAML_H
#define TH_BUILD_RECIPE_YAML_H

#include <yaml.h>

#include "build/recipe.h"

struct reading {
	const char *name;
	yaml_document_t doc;
	struct th_problems *problems;
	const struct th_strings *outside; /* values from outside, KEY=VALUE */
	struct th_strings given; /* KEY=VALUE of the recipe, as they count */
	struct th_strings *notes;
	bool no_memory;
};

struct th_recipe_place place_of(const yaml_node_t *node);

/* Adds a problem with the node's place. */
void complain(struct reading *reading, const yaml_node_t *node,
	const char *hint, const char *fmt, ...)
	__attribute__((format(printf, 4, 5)));

/* The value as text, with values given put in; NULL (and a complaint) where it
 * is none. To be freed. */
char *read_text(
	struct reading *reading, const yaml_node_t *node, const char *what);
/* One value, or a list of them. */
void read_list(struct reading *reading, yaml_node_t *node, const char *what,
	struct th_strings *list);
/* The same, or a mapping, which gives KEY=VALUE. */
void read_pairs(struct reading *reading, yaml_node_t *node, const char *what,
	struct th_strings *list);
bool read_flag(
	struct reading *reading, const yaml_node_t *node, const char *what);

/* The keys that a mapping may have, and who reads them. */
struct recipe_key {
	const char *name;
	void (*read)(struct reading *reading, yaml_node_t *value, void *owner);
};
/* Reads a mapping; complains of keys that are not in the table (ended by one
 * without a name), and of those that stand there twice. */
void read_mapping(struct reading *reading, yaml_node_t *node, const char *what,
	const struct recipe_key *keys, void *owner);

#endif
