#include "cli/remaking.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "view/describe.h"
#include "container/replace.h"

struct remaking {
	struct invocation *call;
	struct making *making;
	struct th_strings kept;
	struct given_option *found;
	size_t found_count;
	bool *used; /* of each --without: it has left something out */
};

/* The place inside ends at the first "="; of a port the protocol counts, too.
 */
static bool is_same_place(const char *one, const char *other)
{
	size_t len = strcspn(one, "="), own = strcspn(other, "=");
	const char *slash = strstr(one, "/udp"),
		   *second = strstr(other, "/udp");

	return len == own && strncmp(one, other, len) == 0 &&
		(*one == '/' || !slash == !second);
}

/* "SETTING" or "SETTING=INSIDE". */
static bool is_left_out(
	struct remaking *remaking, const char *name, const char *value)
{
	const struct invocation *call = remaking->call;
	bool left_out = false;

	for (int i = 0; i < call->option_count; i++) {
		const char *text = call->options[i].value;
		size_t len;

		if (strcmp(call->options[i].name, "without") != 0)
			continue;
		len = strcspn(text, "=");
		if (strlen(name) != len || strncmp(text, name, len) != 0 ||
			(text[len] && !is_same_place(text + len + 1, value)))
			continue;
		remaking->used[i] = left_out = true;
	}
	return left_out;
}

static bool is_replaced(const struct invocation *call,
	const struct th_setting *setting, const char *value)
{
	for (int i = 0; i < call->option_count; i++) {
		if (strcmp(call->options[i].name, setting->name) != 0)
			continue;
		if (setting->joining == TH_JOIN_ONE ||
			setting->joining == TH_JOIN_LIST ||
			(setting->joining == TH_JOIN_PLACES &&
				is_same_place(call->options[i].value, value)))
			return true;
	}
	return false;
}

static int add(struct remaking *remaking, const char *name, const char *value)
{
	struct given_option *list = realloc(
		remaking->found, (remaking->found_count + 1) * sizeof(*list));

	if (!list || (value && th_strings_add(&remaking->kept, value))) {
		remaking->found = list ? list : remaking->found;
		return -1;
	}
	remaking->found = list;
	list[remaking->found_count].name = name;
	list[remaking->found_count++].value =
		value ? remaking->kept.items[remaking->kept.count - 1] : NULL;
	return 0;
}

static int take(struct remaking *remaking, const struct th_setting *setting,
	const char *value)
{
	if (!*value || is_replaced(remaking->call, setting, value) ||
		is_left_out(remaking, setting->name, value))
		return 0;
	return add(remaking, setting->name, value);
}

/* Name and image are those of the container, or are given anew; others have no
 * text of an option. */
static bool is_apart(const struct th_setting *setting)
{
	return setting->joining == TH_JOIN_APART ||
		strcmp(setting->name, "name") == 0 ||
		strcmp(setting->name, "image") == 0;
}

/* What was set before, in front: the last one of an option counts. */
static int take_settings(struct remaking *remaking, const json_t *settings)
{
	for (const struct th_setting *one = th_settings_all; one->name; one++) {
		const json_t *value = json_object_get(settings, one->name);
		size_t k;
		json_t *item;

		if (is_apart(one))
			continue;
		if (json_is_string(value) &&
			take(remaking, one, json_string_value(value)))
			return -1;
		if (json_is_true(value) &&
			!is_left_out(remaking, one->name, "") &&
			!option_given(remaking->call, one->name) &&
			add(remaking, one->name, NULL))
			return -1;
		if (!json_is_array(value))
			continue;
		json_array_foreach((json_t *)(uintptr_t)value, k, item)
		{
			if (take(remaking, one, json_string_value(item)))
				return -1;
		}
	}
	return 0;
}

/* What the call gives stands behind; the settings of the call itself do not. */
static int take_given(struct remaking *remaking)
{
	const struct invocation *call = remaking->call;

	for (int i = 0; i < call->option_count; i++) {
		const struct given_option *one = &call->options[i];

		if (strcmp(one->name, "without") == 0 ||
			strcmp(one->name, "image") == 0 ||
			strcmp(one->name, "start") == 0 ||
			strcmp(one->name, "ready-within") == 0)
			continue;
		if (add(remaking, one->name, one->value))
			return -1;
	}
	return 0;
}

/* The command line of before, unless there is another one. */
static int take_command(struct remaking *remaking, const json_t *settings,
	struct invocation *merged, struct th_error *err)
{
	const json_t *list = json_object_get(settings, "command");
	size_t count = json_array_size(list), i;
	json_t *item;
	char **command;

	if (merged->has_command || is_left_out(remaking, "command", ""))
		return 0;
	command = calloc(count + 1, sizeof(*command));
	if (!command)
		return th_fail_memory(err);
	merged->command = command; /* until the program ends */
	json_array_foreach((json_t *)(uintptr_t)list, i, item)
	{
		if (th_strings_add(&remaking->kept, json_string_value(item)))
			return th_fail_memory(err);
		command[merged->command_count++] =
			remaking->kept.items[remaking->kept.count - 1];
	}
	return 0;
}

/* True where the list has a pair of the same key. */
static bool has_key(const struct th_strings *list, const char *pair)
{
	for (size_t i = 0; i < list->count; i++) {
		if (is_same_place(list->items[i], pair))
			return true;
	}
	return false;
}

/* Values as they are: none of them is read as an option once more. */
static int add_values(struct remaking *remaking, const json_t *settings,
	struct th_strings *keys, struct th_strings *files, struct th_error *err)
{
	struct th_settings *made = &remaking->making->settings;
	struct th_strings env = {0};
	size_t i;
	json_t *item;
	int rc = 0;

	json_array_foreach(json_object_get(settings, "env"), i, item)
	{
		const char *pair = json_string_value(item);

		if (!has_key(&made->env, pair) &&
			!is_left_out(remaking, "env", pair))
			rc |= th_strings_add(&env, pair);
	}
	for (i = 0; i < keys->count; i++) {
		/* One that is given openly by now is no secret. */
		if (has_key(&env, keys->items[i]))
			rc |= th_strings_add(&made->secrets, keys->items[i]);
	}
	for (i = 0; i < made->env.count; i++)
		rc |= th_strings_add(&env, made->env.items[i]);
	th_strings_release(&made->env);
	made->env = env;
	for (i = 0; i < files->count; i++) {
		if (!has_key(&made->secret_files, files->items[i]) &&
			!is_left_out(remaking, "secret", files->items[i]))
			rc |= th_strings_add(
				&made->secret_files, files->items[i]);
	}
	return rc ? th_fail_memory(err) : 0;
}

static int check_without(const struct remaking *remaking, struct th_error *err)
{
	const struct invocation *call = remaking->call;

	for (int i = 0; i < call->option_count; i++) {
		const char *text = call->options[i].value;
		size_t len = strcspn(text ? text : "", "=");
		const struct th_setting *setting;
		char name[40];
		bool known;

		if (strcmp(call->options[i].name, "without") != 0 ||
			remaking->used[i])
			continue;
		snprintf(name, sizeof(name), "%.*s", (int)len, text);
		setting = th_setting_find(name);
		known = setting && strcmp(name, "name") != 0 &&
			strcmp(name, "image") != 0;
		th_fail(err, TH_USAGE,
			known ? "it has no setting \"%.100s\" to leave out"
			      : "\"%.100s\" is not a setting",
			text);
		return th_hint(err,
			"tidyhull show --settings shows those it has; for "
			"example --without port=80, --without env=MODE");
	}
	return 0;
}

static int read_merged(struct remaking *remaking, const json_t *settings,
	const struct th_container_row *row, struct invocation *merged,
	struct th_error *err)
{
	const char *image = option_value(remaking->call, "image");
	const char *fetch = option_value(remaking->call, "fetch");
	char **objects = calloc(2, sizeof(*objects)); /* until the end */

	if (!objects || take_settings(remaking, settings) ||
		take_given(remaking) ||
		th_strings_add(
			&remaking->kept, image ? image : row->image_name)) {
		free(objects);
		return th_fail_memory(err);
	}
	objects[0] = remaking->kept.items[remaking->kept.count - 1];
	merged->objects = objects;
	merged->object_count = 1;
	merged->options = remaking->found;
	merged->option_count = (int)remaking->found_count;
	if (take_command(remaking, settings, merged, err) ||
		making_read(merged, remaking->making, false, err))
		return -1;
	/* The image stays what it was, whatever its name stands for by now. */
	if (!image && (!fetch || strcmp(fetch, "always") != 0) &&
		th_strings_add(&remaking->kept, row->image) == 0)
		remaking->making->settings.digest =
			remaking->kept.items[remaking->kept.count - 1];
	return 0;
}

int remaking_read(struct invocation *call, const struct th_container_row *row,
	struct making *making, struct invocation *merged, struct th_error *err)
{
	struct remaking remaking = {.call = call, .making = making};
	struct th_strings keys = {0}, files = {0};
	json_t *doc = th_view_container_fully(&call->hull.context, row, true);
	const json_t *settings = json_object_get(doc, "settings");
	int rc = -1;

	memset(making, 0, sizeof(*making));
	*merged = *call;
	remaking.used = calloc((size_t)call->option_count + 1, sizeof(bool));
	if (!settings || !remaking.used)
		th_fail(err, TH_FAILED,
			"the settings of container \"%s\" cannot be read",
			row->name);
	else if (th_container_hidden(
			 &call->hull.context, row, &keys, &files, err) == 0 &&
		read_merged(&remaking, settings, row, merged, err) == 0 &&
		add_values(&remaking, settings, &keys, &files, err) == 0)
		rc = check_without(&remaking, err);
	making->kept = remaking.kept;
	th_strings_release(&keys);
	th_strings_release(&files);
	free(remaking.used);
	json_decref(doc);
	if (rc) {
		free(remaking.found);
		merged->options = NULL;
	}
	return rc;
}
