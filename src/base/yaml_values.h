/* YAML files that people write: values with their places, values that are given
 * from outside, and all complaints at once. */
#ifndef TH_BASE_YAML_VALUES_H
#define TH_BASE_YAML_VALUES_H

#include <stdbool.h>
#include <yaml.h>

#include "base/buffer.h"
#include "base/error.h"
#include "base/yaml_bounds.h"

/* A file while it is read. The caller sets the first ones. */
struct th_yaml {
	const char *name; /* of the file, for messages */
	const char *what; /* it is: "recipe" */
	const char *manual; /* what lists all keys */
	struct th_problems *problems;
	const struct th_strings *outside; /* values from outside, KEY=VALUE */
	struct th_strings *notes; /* what looks like a mistake; may be NULL */
	struct th_strings given; /* KEY=VALUE of the file, as they count */
	yaml_document_t doc;
	bool no_memory;
};

/* Reads the text and calls read with the document's root (NULL where it is
 * empty). -1 where there is a problem, or there was one before. */
int th_yaml_read(struct th_yaml *reading, const struct th_buf *text,
	void (*read)(struct th_yaml *reading, yaml_node_t *root, void *owner),
	void *owner);

/* Reads the mapping "given" of the root: values with their defaults, which
 * those that were given before (th_yaml_give) and those from outside replace;
 * the latter have to be in it. Comes before anything that may use them. */
void th_yaml_read_given(struct th_yaml *reading, yaml_node_t *root);
/* Another value, which may be used like one of those; replaces an earlier one.
 */
void th_yaml_give(struct th_yaml *reading, const char *name, const char *value);
/* It is used no more. */
void th_yaml_take_back(struct th_yaml *reading, const char *name);

struct th_yaml_place th_yaml_place_of(const yaml_node_t *node);
/* A mapping's value by its key, or NULL; never complains. */
yaml_node_t *th_yaml_find(
	struct th_yaml *reading, const yaml_node_t *mapping, const char *key);

/* Appends the text with its values: "${NAME}" is one, "$${" stands for itself
 * without the first sign. node: where it stands. */
void th_yaml_put_values(struct th_yaml *reading, const yaml_node_t *node,
	const char *text, struct th_buf *out);

/* Adds a problem with the node's place. */
void th_yaml_complain(struct th_yaml *reading, const yaml_node_t *node,
	const char *hint, const char *fmt, ...)
	__attribute__((format(printf, 4, 5)));

/* The value as text, with values given put in; NULL (and a complaint) where it
 * is none. To be freed. */
char *th_yaml_text(
	struct th_yaml *reading, const yaml_node_t *node, const char *what);
/* One value, or a list of them. */
void th_yaml_list(struct th_yaml *reading, yaml_node_t *node, const char *what,
	struct th_strings *list);
/* The same, or a mapping, which gives KEY=VALUE. */
void th_yaml_pairs(struct th_yaml *reading, yaml_node_t *node, const char *what,
	struct th_strings *list);
/* true, yes, false or no. */
bool th_yaml_flag(
	struct th_yaml *reading, const yaml_node_t *node, const char *what);

/* Calls take for each key of a mapping; complains where it is none, and of keys
 * that stand there twice. */
void th_yaml_each(struct th_yaml *reading, yaml_node_t *node, const char *what,
	void (*take)(struct th_yaml *reading, yaml_node_t *key,
		yaml_node_t *value, void *owner),
	void *owner);
/* A key's text; that of one which th_yaml_each has given. */
const char *th_yaml_key_text(const yaml_node_t *key);
/* Complains of a key that is none of the names (ended by NULL), and says which
 * one may be meant. */
void th_yaml_unknown(struct th_yaml *reading, const yaml_node_t *key,
	const char *what, const char *const *names);

/* The keys that a mapping may have, and who reads them. */
struct th_yaml_key {
	const char *name;
	void (*read)(struct th_yaml *reading, yaml_node_t *value, void *owner);
};
/* Reads a mapping; complains of keys that are not in the table (ended by one
 * without a name), and of those that stand there twice. */
void th_yaml_mapping(struct th_yaml *reading, yaml_node_t *node,
	const char *what, const struct th_yaml_key *keys, void *owner);

#endif
