/* Settings files: one container, or several that belong together, as YAML
 * (docs/settings.md). */
#ifndef TH_GROUP_SETTINGS_FILE_H
#define TH_GROUP_SETTINGS_FILE_H

#include <stdbool.h>

#include "base/buffer.h"
#include "base/error.h"
#include "base/yaml_bounds.h"
#include "store/container_state.h"

/* At most so many containers, copies counted. */
#define TH_GROUP_CONTAINERS 200

/* What is waited for of another container. */
enum th_after_what {
	TH_AFTER_RUNNING,
	TH_AFTER_READY, /* its probe says so */
	TH_AFTER_ENDED, /* with exit code 0 */
	TH_AFTER_DEFAULT /* while the file is read: ready with a probe */
};
/* "running" and so on. */
const char *th_after_word(enum th_after_what what);

struct th_file_after {
	char *member;
	enum th_after_what what;
	struct th_yaml_place place;
};

/* An option of create as it stands in the file. */
struct th_file_setting {
	char *name;
	char *value; /* NULL: it has none */
};

struct th_file_container {
	char *member; /* its name in the file; "" of one alone */
	char name[TH_NAME_MAX]; /* of the container, with its copy's number */
	int copies; /* 0: there is no number */
	char *image; /* or NULL */
	char *build; /* the recipe that makes its image, or NULL */
	bool has_command;
	struct th_strings command;
	struct th_file_setting *settings;
	size_t setting_count;
	struct th_file_after *after;
	size_t after_count;
	struct th_yaml_place place;
};

struct th_file_network {
	char *name;
	struct th_strings subnets;
	bool internal, loopback;
	struct th_yaml_place place;
};

struct th_settings_file {
	char *group; /* NULL where the file describes one container alone */
	struct th_file_container *containers;
	size_t container_count;
	struct th_strings volumes; /* that are described beside them */
	struct th_file_network *networks;
	size_t network_count;
};

/* A word that may stand in the file: an option of create. */
struct th_file_word {
	const char *name; /* NULL ends a table */
	bool flag; /* it has no value */
};

/* Reads the text of the file at path. Paths in it start at folder. given are
 * KEY=VALUE from outside. Whatever is wrong becomes a problem with its line
 * and column (-1). To be released in any case. */
int th_settings_file_read(const char *path, const char *folder,
	const struct th_buf *text, const struct th_strings *given,
	const struct th_file_word *words, struct th_settings_file *file,
	struct th_problems *problems);
void th_settings_file_release(struct th_settings_file *file);

#endif
