#include "group/settings_file.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "base/env_file.h"
#include "model/settings.h"
#include "group/file_parts.h"
#include "network/network.h"

/* ---- containers ---- */

static int read_count(struct th_yaml *reading, yaml_node_t *node)
{
	yaml_node_t *value = node->type == YAML_MAPPING_NODE
		? th_yaml_find(reading, node, "count")
		: NULL;
	char *text = value ? th_yaml_text(reading, value, "count") : NULL;
	char *end = text;
	long count = text ? strtol(text, &end, 10) : 0;

	if (text && (end == text || *end || count < 1 || count > 100)) {
		th_yaml_complain(reading, value, NULL,
			"\"count\" takes a number from 1 to 100");
		count = 1;
	}
	free(text);
	return (int)count;
}

static bool is_taken(const struct th_settings_file *file,
	const struct th_file_container *one)
{
	for (size_t i = 0; i < file->container_count; i++) {
		if (&file->containers[i] != one &&
			strcmp(file->containers[i].name, one->name) == 0)
			return true;
	}
	return false;
}

static void take_container(struct th_yaml *reading, yaml_node_t *key,
	yaml_node_t *value, void *owner)
{
	struct file_reading *own = owner;
	const char *member = th_yaml_key_text(key);
	int copies = read_count(reading, value);
	size_t before = reading->problems->count;

	if (!th_name_valid(member) || strlen(member) > TH_NAME_MAX - 5) {
		th_yaml_complain(reading, key,
			"use up to 59 letters, digits, dots, dashes and "
			"underscores",
			"\"%.100s\" cannot be the name of a container", member);
		return;
	}
	/* What is wrong with the first copy is wrong with all. */
	for (int i = 1; i <= (copies ? copies : 1) &&
		reading->problems->count == before;
		i++) {
		struct th_file_container *one =
			new_container(reading, own, value);

		if (!one)
			return;
		one->copies = copies;
		if (copies)
			snprintf(one->name, sizeof(one->name), "%.59s-%d",
				member, i);
		else
			snprintf(one->name, sizeof(one->name), "%s", member);
		read_container(
			reading, own, value, member, copies ? i : 0, one);
		if (is_taken(own->file, one))
			th_yaml_complain(reading, key, NULL,
				"two containers would be named \"%s\"",
				one->name);
	}
}

/* ---- volumes and networks ---- */

static void take_volume(struct th_yaml *reading, const yaml_node_t *node,
	struct th_settings_file *file, const char *name)
{
	if (!th_name_valid(name))
		th_yaml_complain(reading, node, NULL,
			"\"%.100s\" is not a valid name", name);
	else if (th_strings_add(&file->volumes, name))
		reading->no_memory = true;
}

static bool is_nothing(const yaml_node_t *node)
{
	return (node->type == YAML_SCALAR_NODE && !node->data.scalar.length) ||
		(node->type == YAML_MAPPING_NODE &&
			node->data.mapping.pairs.start ==
				node->data.mapping.pairs.top);
}

static void take_volume_key(struct th_yaml *reading, yaml_node_t *key,
	yaml_node_t *value, void *owner)
{
	take_volume(reading, key, owner, th_yaml_key_text(key));
	if (!is_nothing(value))
		th_yaml_complain(reading, value, "write only its name",
			"a volume has no settings");
}

static void read_volumes(struct th_yaml *reading, yaml_node_t *node,
	struct th_settings_file *file)
{
	struct th_strings names = {0};

	if (node->type == YAML_MAPPING_NODE) {
		th_yaml_each(
			reading, node, "\"volumes\"", take_volume_key, file);
		return;
	}
	th_yaml_list(reading, node, "volumes", &names);
	for (size_t i = 0; i < names.count; i++)
		take_volume(reading, node, file, names.items[i]);
	th_strings_release(&names);
}

static void read_subnet(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	th_yaml_list(reading, node, "subnet",
		&((struct th_file_network *)owner)->subnets);
}

static void read_internal(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	((struct th_file_network *)owner)->internal =
		th_yaml_flag(reading, node, "internal");
}

static void read_loopback(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	((struct th_file_network *)owner)->loopback =
		th_yaml_flag(reading, node, "host-loopback");
}

static const struct th_yaml_key network_keys[] = {{"subnet", read_subnet},
	{"internal", read_internal}, {"host-loopback", read_loopback},
	{NULL, NULL}};

static struct th_file_network *new_network(struct th_yaml *reading,
	struct th_settings_file *file, const yaml_node_t *node,
	const char *name)
{
	struct th_file_network *more;

	if (!th_name_valid(name) || !th_network_is_shared(name)) {
		th_yaml_complain(reading, node, NULL,
			"\"%.100s\" cannot be the name of a network", name);
		return NULL;
	}
	more = realloc(
		file->networks, (file->network_count + 1) * sizeof(*more));
	if (!more) {
		reading->no_memory = true;
		return NULL;
	}
	file->networks = more;
	more = &more[file->network_count++];
	memset(more, 0, sizeof(*more));
	more->place = th_yaml_place_of(node);
	more->name = strdup(name);
	if (!more->name)
		reading->no_memory = true;
	return more;
}

static void take_network_key(struct th_yaml *reading, yaml_node_t *key,
	yaml_node_t *value, void *owner)
{
	struct th_file_network *one =
		new_network(reading, owner, key, th_yaml_key_text(key));

	if (one && !is_nothing(value))
		th_yaml_mapping(reading, value, "a network", network_keys, one);
}

static void read_networks(struct th_yaml *reading, yaml_node_t *node,
	struct th_settings_file *file)
{
	struct th_strings names = {0};

	if (node->type == YAML_MAPPING_NODE) {
		th_yaml_each(
			reading, node, "\"networks\"", take_network_key, file);
		return;
	}
	th_yaml_list(reading, node, "networks", &names);
	for (size_t i = 0; i < names.count; i++)
		new_network(reading, file, node, names.items[i]);
	th_strings_release(&names);
}

/* ---- the whole ---- */

static const char *no_value(const char *key)
{
	(void)key;
	return NULL;
}

static void read_values(struct th_yaml *reading, struct file_reading *own,
	const yaml_node_t *node, const char *name)
{
	char *path = anchor_path(own, name);
	struct th_strings pairs = {0};
	struct th_error err = {0};
	struct th_buf text;
	int rc;

	th_buf_init(&text, TH_YAML_BYTES);
	rc = path ? th_file_read(AT_FDCWD, path, &text, &err)
		  : th_fail_memory(&err);
	if (rc == 0)
		th_fail(&err, TH_NOT_FOUND, "the file %.200s does not exist",
			path);
	if (rc == 1 &&
		th_env_parse(text.data ? text.data : "", path, no_value, &pairs,
			&err) == 0) {
		for (size_t i = 0; i < pairs.count; i++) {
			char *equals = strchr(pairs.items[i], '=');

			*equals = '\0';
			th_yaml_give(reading, pairs.items[i], equals + 1);
		}
	}
	if (err.code)
		th_yaml_complain(reading, node, err.hint[0] ? err.hint : NULL,
			"%.250s", err.msg);
	th_strings_release(&pairs);
	th_buf_release(&text);
	free(path);
}

/* Values of files first: those of the mapping, and from outside, win. */
static void read_given(
	struct th_yaml *reading, struct file_reading *own, yaml_node_t *root)
{
	yaml_node_t *from = th_yaml_find(reading, root, "given-from");
	struct th_strings names = {0};

	if (from)
		th_yaml_list(reading, from, "given-from", &names);
	for (size_t i = 0; i < names.count; i++)
		read_values(reading, own, from, names.items[i]);
	th_strings_release(&names);
	th_yaml_read_given(reading, root);
}

static void take_group_key(struct th_yaml *reading, yaml_node_t *key,
	yaml_node_t *value, void *owner)
{
	static const char *const names[] = {"group", "given", "given-from",
		"common", "containers", "volumes", "networks", NULL};
	struct file_reading *own = owner;
	const char *name = th_yaml_key_text(key);

	if (strcmp(name, "volumes") == 0)
		read_volumes(reading, value, own->file);
	else if (strcmp(name, "networks") == 0)
		read_networks(reading, value, own->file);
	else if (strcmp(name, "common") == 0)
		own->common = value;
	else if (strcmp(name, "containers") == 0)
		own->containers = value;
	else if (strcmp(name, "group") != 0 && strcmp(name, "given") != 0 &&
		strcmp(name, "given-from") != 0)
		th_yaml_unknown(reading, key, "a group", names);
}

static void read_group(
	struct th_yaml *reading, struct file_reading *own, yaml_node_t *root)
{
	struct th_settings_file *file = own->file;
	yaml_node_t *name = th_yaml_find(reading, root, "group");

	file->group = name ? th_yaml_text(reading, name, "group") : strdup("");
	if (!name)
		th_yaml_complain(reading, root, "for example: group: harbour",
			"several containers need a name for the group");
	else if (file->group &&
		(!th_name_valid(file->group) ||
			!th_network_is_shared(file->group)))
		th_yaml_complain(reading, name, NULL,
			"\"%.100s\" cannot be the name of a group",
			file->group);
	if (!file->group) {
		file->group = strdup("");
		reading->no_memory |= !file->group;
	}
	th_yaml_each(reading, root, "a group", take_group_key, own);
	if (own->containers && file->group)
		th_yaml_each(reading, own->containers, "\"containers\"",
			take_container, own);
	if (!own->containers ||
		(own->containers->type == YAML_MAPPING_NODE &&
			is_nothing(own->containers)))
		th_yaml_complain(
			reading, root, NULL, "the group has no containers");
	check_after(reading, file);
}

static void read_document(
	struct th_yaml *reading, yaml_node_t *root, void *owner)
{
	struct file_reading *own = owner;
	struct th_file_container *one;

	if (!root)
		return; /* an empty file sets nothing */
	read_given(reading, own, root);
	if (th_yaml_find(reading, root, "group") ||
		th_yaml_find(reading, root, "containers")) {
		read_group(reading, own, root);
		return;
	}
	one = new_container(reading, own, root);
	if (one)
		read_container(reading, own, root, NULL, 0, one);
}

int th_settings_file_read(const char *path, const char *folder,
	const struct th_buf *text, const struct th_strings *given,
	const struct th_file_word *words, struct th_settings_file *file,
	struct th_problems *problems)
{
	struct th_yaml reading = {.name = path,
		.what = "file",
		.manual = "docs/settings.md",
		.problems = problems,
		.outside = given};
	struct file_reading own = {
		.folder = folder, .words = words, .file = file};

	memset(file, 0, sizeof(*file));
	return th_yaml_read(&reading, text, read_document, &own);
}

void th_settings_file_release(struct th_settings_file *file)
{
	for (size_t i = 0; i < file->container_count; i++)
		container_release(&file->containers[i]);
	free(file->containers);
	for (size_t i = 0; i < file->network_count; i++) {
		free(file->networks[i].name);
		th_strings_release(&file->networks[i].subnets);
	}
	free(file->networks);
	th_strings_release(&file->volumes);
	free(file->group);
	memset(file, 0, sizeof(*file));
}
