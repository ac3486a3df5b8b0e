/* What an image of a recipe does when it is run. */
#include <stdlib.h>
#include <string.h>

#include "build/recipe_step.h"

static void set_lists(struct th_yaml *reading, yaml_node_t *node,
	const char *what, bool *given, struct th_strings *list)
{
	*given = true;
	th_yaml_list(reading, node, what, list);
	/* An empty text is no program. */
	if (list->count == 1 && !*list->items[0])
		th_strings_release(list);
}

static void read_entrypoint(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_image_settings *settings = owner;

	set_lists(reading, node, "entrypoint", &settings->has_entrypoint,
		&settings->entrypoint);
}

static void read_command(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_image_settings *settings = owner;

	set_lists(reading, node, "command", &settings->has_command,
		&settings->command);
}

static void read_env(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	th_yaml_pairs(reading, node, "env",
		&((struct th_image_settings *)owner)->env);
}

static void read_user(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	((struct th_image_settings *)owner)->user =
		th_yaml_text(reading, node, "user");
}

static void read_workdir(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_image_settings *settings = owner;

	settings->workdir = th_yaml_text(reading, node, "workdir");
	if (settings->workdir && *settings->workdir != '/')
		th_yaml_complain(reading, node, NULL,
			"\"%.100s\" is not an absolute path",
			settings->workdir);
}

static void read_stop(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	((struct th_image_settings *)owner)->stop =
		th_yaml_text(reading, node, "stop");
}

static void read_each(struct th_yaml *reading, yaml_node_t *node,
	const char *what, struct th_image_settings *settings,
	int (*take)(struct th_image_settings *settings, const char *text,
		struct th_error *err))
{
	struct th_strings texts = {0};

	th_yaml_list(reading, node, what, &texts);
	for (size_t i = 0; i < texts.count; i++) {
		struct th_error err = {0};

		if (take(settings, texts.items[i], &err))
			th_yaml_complain(reading, node,
				err.hint[0] ? err.hint : NULL, "%.250s",
				err.msg);
	}
	th_strings_release(&texts);
}

static void read_port(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	read_each(reading, node, "port", owner, th_image_settings_port);
}

static void read_mount(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	read_each(reading, node, "mount", owner, th_image_settings_mount);
}

/* What an image has no place for is said by its name, and what to do. */
static void read_other(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	(void)owner;
	th_yaml_complain(reading, node, "give it when a container is made",
		"an image cannot hold this setting");
}

static const struct th_yaml_key setting_keys[] = {
	{"entrypoint", read_entrypoint}, {"command", read_command},
	{"env", read_env}, {"user", read_user}, {"workdir", read_workdir},
	{"stop", read_stop}, {"port", read_port}, {"mount", read_mount},
	{"name", read_other}, {"network", read_other}, {"restart", read_other},
	{"probe", read_other}, {"limit", read_other}, {"secret", read_other},
	{"hostname", read_other}, {"capability", read_other},
	{"device", read_other}, {"share", read_other}, {"log", read_other},
	{NULL, NULL}};

void read_image_settings(struct th_yaml *reading, yaml_node_t *node,
	struct th_image_settings *settings)
{
	th_yaml_mapping(reading, node, "\"settings\"", setting_keys, settings);
}
