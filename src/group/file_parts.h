/* What the reader of settings files is made of. For the group module only. */
#ifndef TH_GROUP_FILE_PARTS_H
#define TH_GROUP_FILE_PARTS_H

#include "base/yaml_values.h"
#include "group/settings_file.h"

struct file_reading {
	const char *folder; /* that its paths start from */
	const struct th_file_word *words;
	struct th_settings_file *file;
	yaml_node_t *common, *containers;
};

/* One container: node is its mapping, member its name in a group, NULL for one
 * alone; one is filled. number: of a copy, from 1; 0 without. */
void read_container(struct th_yaml *reading, struct file_reading *own,
	yaml_node_t *node, const char *member, int number,
	struct th_file_container *one);
void container_release(struct th_file_container *one);
/* Another one at the end of the file's list; NULL where there are too many. */
struct th_file_container *new_container(struct th_yaml *reading,
	struct file_reading *own, const yaml_node_t *node);
/* A setting at the end of its list; the texts become its own. */
void add_setting(struct th_yaml *reading, struct th_file_container *one,
	const char *name, char *value);
bool has_setting(const struct th_file_container *one, const char *name);
/* The path, starting from the file's folder. */
char *anchor_path(const struct file_reading *own, const char *path);

/* ---- file_after.c ---- */

/* What "after" says. */
void read_after(struct th_yaml *reading, yaml_node_t *node,
	struct th_file_container *one);
/* When all are read: each waits for one that is there, and none for itself. */
void check_after(struct th_yaml *reading, struct th_settings_file *file);

#endif
