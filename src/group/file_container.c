/* One container of a settings file. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/path.h"
#include "model/settings.h"
#include "group/file_parts.h"
#include "image/packed.h"
#include "network/network.h"

/* A container while it is read. */
struct container_reading {
	struct file_reading *own;
	struct th_file_container *one;
	const char *member; /* NULL of one alone */
	bool common; /* what all have is read */
	bool own_networks; /* its own replace those that all have */
};

void add_setting(struct th_yaml *reading, struct th_file_container *one,
	const char *name, char *value)
{
	struct th_file_setting *more = realloc(
		one->settings, (one->setting_count + 1) * sizeof(*more));

	if (more)
		one->settings = more;
	if (more)
		more[one->setting_count].name = strdup(name);
	if (!more || !more[one->setting_count].name) {
		free(value);
		reading->no_memory = true;
		return;
	}
	more[one->setting_count++].value = value;
}

bool has_setting(const struct th_file_container *one, const char *name)
{
	for (size_t i = 0; i < one->setting_count; i++) {
		if (strcmp(one->settings[i].name, name) == 0 &&
			(!one->settings[i].value || *one->settings[i].value))
			return true;
	}
	return false;
}

static void drop_setting(struct th_file_container *one, const char *name)
{
	size_t kept = 0;

	for (size_t i = 0; i < one->setting_count; i++) {
		if (strcmp(one->settings[i].name, name) != 0) {
			one->settings[kept++] = one->settings[i];
			continue;
		}
		free(one->settings[i].name);
		free(one->settings[i].value);
	}
	one->setting_count = kept;
}

/* ---- paths ---- */

char *anchor_path(const struct file_reading *own, const char *path)
{
	return th_path_absolute(own->folder, path);
}

/* The part of a setting that is a path outside, or NULL. */
static const char *outside_path(const char *name, const char *value)
{
	const char *equals = strchr(value, '=');

	if (strcmp(name, "mount") == 0)
		return equals && equals[1] &&
				strncmp(equals + 1, "volume:", 7) != 0 &&
				strncmp(equals + 1, "memory:", 7) != 0
			? equals + 1
			: NULL;
	if (strcmp(name, "env") != 0 && strcmp(name, "secret") != 0)
		return NULL;
	if (strncmp(value, "@file:", 6) == 0)
		return value + 6;
	return equals && strncmp(equals + 1, "@file:", 6) == 0 ? equals + 7
							       : NULL;
}

/* The same setting with its path starting from the file's folder. */
static char *anchor(
	const struct file_reading *own, const char *name, char *value)
{
	const char *path = outside_path(name, value);
	char *whole = NULL, *result = NULL, *only;
	size_t len;

	if (!path || *path == '/')
		return value;
	len = strcmp(name, "mount") == 0 ? strcspn(path, ",") : strlen(path);
	only = strndup(path, len);
	if (only)
		whole = anchor_path(own, only);
	if (whole)
		result = th_format("%.*s%s%s", (int)(path - value), value,
			whole, path + len);
	free(only);
	free(whole);
	free(value);
	return result;
}

/* ---- settings ---- */

static void take_value(struct th_yaml *reading, struct container_reading *reads,
	const struct th_file_word *word, yaml_node_t *value)
{
	struct th_strings texts = {0};

	if (word->flag) {
		bool set = th_yaml_flag(reading, value, word->name);

		drop_setting(reads->one, word->name);
		if (set)
			add_setting(reading, reads->one, word->name, NULL);
		return;
	}
	if (value->type == YAML_MAPPING_NODE)
		th_yaml_pairs(reading, value, word->name, &texts);
	else
		th_yaml_list(reading, value, word->name, &texts);
	if (strcmp(word->name, "network") == 0 && !reads->common)
		drop_setting(reads->one, word->name);
	for (size_t i = 0; i < texts.count; i++) {
		char *text = anchor(reads->own, word->name, texts.items[i]);

		texts.items[i] = NULL;
		if (text)
			add_setting(reading, reads->one, word->name, text);
		else
			reading->no_memory = true;
	}
	th_strings_release(&texts);
}

static void set_text(char **to, char *text)
{
	free(*to);
	*to = text;
}

static void take_image(struct th_yaml *reading, struct container_reading *reads,
	yaml_node_t *value)
{
	char *text = th_yaml_text(reading, value, "image"), *whole;

	if (text && th_packed_is_path(text) && *text != '/') {
		whole = anchor_path(reads->own, text);
		free(text);
		text = whole;
	}
	set_text(&reads->one->image, text);
}

static void take_build(struct th_yaml *reading, struct container_reading *reads,
	yaml_node_t *value)
{
	char *text = th_yaml_text(reading, value, "build");

	if (text)
		set_text(&reads->one->build, anchor_path(reads->own, text));
	free(text);
}

/* Keys that stand for no option. */
static bool take_other(struct th_yaml *reading, struct container_reading *reads,
	yaml_node_t *key, yaml_node_t *value)
{
	const char *name = th_yaml_key_text(key);
	struct th_file_container *one = reads->one;

	if (strcmp(name, "image") == 0) {
		take_image(reading, reads, value);
	} else if (strcmp(name, "command") == 0) {
		one->has_command = true;
		th_strings_release(&one->command);
		if (value->type == YAML_SEQUENCE_NODE)
			th_yaml_list(reading, value, name, &one->command);
		else
			th_yaml_complain(reading, value,
				"for example: command: [sh, -c, date]",
				"\"command\" takes a list");
	} else if (reads->common || !reads->member) {
		return false;
	} else if (strcmp(name, "build") == 0) {
		take_build(reading, reads, value);
	} else if (strcmp(name, "after") == 0) {
		read_after(reading, value, one);
	} else if (strcmp(name, "name") == 0) {
		th_yaml_complain(reading, key, NULL,
			"a container of a group is named by its key");
	} else if (strcmp(name, "count") != 0) {
		return false;
	}
	return true;
}

static void complain_of_word(struct th_yaml *reading,
	const struct container_reading *reads, const yaml_node_t *key)
{
	const char *names[64] = {"image", "command"};
	size_t count = 2;

	if (reads->member && !reads->common) {
		names[count++] = "build";
		names[count++] = "after";
		names[count++] = "count";
	}
	for (const struct th_file_word *one = reads->own->words;
		one->name && count < 63; one++)
		names[count++] = one->name;
	th_yaml_unknown(reading, key,
		reads->common		? "\"common\""
			: reads->member ? "a container"
					: "a settings file",
		names);
}

static void take_key(struct th_yaml *reading, yaml_node_t *key,
	yaml_node_t *value, void *owner)
{
	struct container_reading *reads = owner;
	const char *name = th_yaml_key_text(key);

	/* Read before, as others use what is given. */
	if (!reads->member && !reads->common &&
		(strcmp(name, "given") == 0 || strcmp(name, "given-from") == 0))
		return;
	if (take_other(reading, reads, key, value))
		return;
	for (const struct th_file_word *one = reads->own->words; one->name;
		one++) {
		if (strcmp(one->name, name) != 0)
			continue;
		take_value(reading, reads, one, value);
		return;
	}
	complain_of_word(reading, reads, key);
}

/* ---- copies ---- */

/* Of a range outside each copy gets one port. */
static void number_port(struct th_yaml *reading, const yaml_node_t *node,
	struct th_file_container *one, char **text, int number)
{
	const char *equals = strchr(*text, '='), *digits, *colon;
	int from = 0, to = 0, used = 0;
	char *own;

	if (!equals || memchr(*text, '-', (size_t)(equals - *text)))
		return;
	colon = strrchr(equals, ':');
	digits = (colon && !strchr(colon, ']') ? colon : equals) + 1;
	if (sscanf(digits, "%d-%d%n", &from, &to, &used) != 2 || !used) {
		if (one->copies > 1)
			th_yaml_complain(reading, node,
				"give a range that is large enough, or only "
				"the port inside for free ones",
				"%d copies cannot share the port of \"%.60s\"",
				one->copies, *text);
		return;
	}
	if (to - from + 1 < one->copies) {
		th_yaml_complain(reading, node, NULL,
			"\"%.60s\" has fewer ports than there are copies (%d)",
			*text, one->copies);
		return;
	}
	own = th_format("%.*s%d%s", (int)(digits - *text), *text,
		from + number - 1, digits + used);
	if (!own) {
		reading->no_memory = true;
		return;
	}
	free(*text);
	*text = own;
}

static bool is_on_network(const struct th_file_container *one)
{
	for (size_t i = 0; i < one->setting_count; i++) {
		const struct th_file_setting *setting = &one->settings[i];

		if (strcmp(setting->name, "network") == 0 &&
			!th_network_is_shared(setting->value))
			return false;
	}
	return true;
}

/* What a copy has beyond its number. */
static void number_copy(struct th_yaml *reading, const yaml_node_t *node,
	struct th_file_container *one, int number)
{
	for (size_t i = 0; i < one->setting_count; i++) {
		if (strcmp(one->settings[i].name, "port") == 0)
			number_port(reading, node, one, &one->settings[i].value,
				number);
	}
	/* All of them answer to the name in the file. */
	if (is_on_network(one))
		add_setting(reading, one, "alias", strdup(one->member));
}

/* ---- the whole ---- */

void read_container(struct th_yaml *reading, struct file_reading *own,
	yaml_node_t *node, const char *member, int number,
	struct th_file_container *one)
{
	struct container_reading reads = {
		.own = own, .one = one, .member = member};
	char text[16];

	one->place = th_yaml_place_of(node);
	one->member = strdup(member ? member : "");
	if (number) {
		snprintf(text, sizeof(text), "%d", number);
		th_yaml_give(reading, "COPY", text);
	}
	if (own->common) {
		reads.common = true;
		th_yaml_each(
			reading, own->common, "\"common\"", take_key, &reads);
		reads.common = false;
	}
	th_yaml_each(reading, node, member ? "a container" : "a settings file",
		take_key, &reads);
	th_yaml_take_back(reading, "COPY");
	if (!member)
		return;
	if (!has_setting(one, "network"))
		add_setting(reading, one, "network", strdup(own->file->group));
	if (number)
		number_copy(reading, node, one, number);
	if (!one->image && !one->build)
		th_yaml_complain(reading, node,
			"give image, or build with the path of a recipe",
			"the container \"%.60s\" has no image", member);
}

struct th_file_container *new_container(struct th_yaml *reading,
	struct file_reading *own, const yaml_node_t *node)
{
	struct th_settings_file *file = own->file;
	struct th_file_container *more;

	if (file->container_count >= TH_GROUP_CONTAINERS) {
		th_yaml_complain(reading, node, NULL,
			"a group has at most %d containers",
			TH_GROUP_CONTAINERS);
		return NULL;
	}
	more = realloc(
		file->containers, (file->container_count + 1) * sizeof(*more));
	if (!more) {
		reading->no_memory = true;
		return NULL;
	}
	file->containers = more;
	more = &more[file->container_count++];
	memset(more, 0, sizeof(*more));
	return more;
}

void container_release(struct th_file_container *one)
{
	free(one->member);
	free(one->image);
	free(one->build);
	th_strings_release(&one->command);
	for (size_t i = 0; i < one->setting_count; i++) {
		free(one->settings[i].name);
		free(one->settings[i].value);
	}
	free(one->settings);
	for (size_t i = 0; i < one->after_count; i++)
		free(one->after[i].member);
	free(one->after);
}
