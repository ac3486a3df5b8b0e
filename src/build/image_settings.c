#include "build/image_settings.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "model/settings.h"

void th_image_settings_release(struct th_image_settings *settings)
{
	th_strings_release(&settings->entrypoint);
	th_strings_release(&settings->command);
	th_strings_release(&settings->env);
	th_strings_release(&settings->ports);
	th_strings_release(&settings->volumes);
	th_strings_release(&settings->labels);
	free(settings->user);
	free(settings->workdir);
	free(settings->stop);
	memset(settings, 0, sizeof(*settings));
}

/* "80", "80/udp", "8000-8003", what stands behind "=" is for containers. */
int th_image_settings_port(struct th_image_settings *settings, const char *text,
	struct th_error *err)
{
	const char *protocol = strrchr(text, '/');
	size_t len = strcspn(text, "=/");
	unsigned int first, last;
	int used = 0;
	char name[16];

	if (!protocol || strchr(protocol, '='))
		protocol = "/tcp";
	if (sscanf(text, "%5u%n", &first, &used) != 1)
		used = 0;
	last = first;
	if (used && text[used] == '-' &&
		sscanf(text + used, "-%5u%n", &last, &used) == 1)
		used = (int)len;
	if (!used || (size_t)used != len || !first || last < first ||
		last > 65535 ||
		(strcmp(protocol, "/tcp") != 0 &&
			strcmp(protocol, "/udp") != 0)) {
		th_fail(err, TH_USAGE, "\"%.60s\" is not a port of an image",
			text);
		return th_hint(err, "for example 80, 53/udp or 8000-8009");
	}
	for (unsigned int port = first; port <= last; port++) {
		snprintf(name, sizeof(name), "%u%.4s", port, protocol);
		if (th_strings_add(&settings->ports, name))
			return th_fail_memory(err);
	}
	return 0;
}

int th_image_settings_mount(struct th_image_settings *settings,
	const char *text, struct th_error *err)
{
	size_t len = strcspn(text, "=,");
	char *path;

	if (*text != '/' || len < 2)
		return th_fail(err, TH_USAGE,
			"\"%.100s\" is not a mount: it begins with the path "
			"inside",
			text);
	path = strndup(text, len);
	return th_strings_take(&settings->volumes, path) ? th_fail_memory(err)
							 : 0;
}

/* ---- the document ---- */

static int put(json_t *object, const char *key, json_t *value)
{
	return json_object_set_new(object, key, value);
}

static int put_text(json_t *object, const char *key, const char *text)
{
	return text ? put(object, key, json_string(text)) : 0;
}

/* A later one of the same key replaces an earlier one in its place. */
static int put_env(json_t *process, const struct th_strings *env)
{
	json_t *old = json_object_get(process, "Env");
	json_t *list = json_is_array(old) ? json_deep_copy(old) : json_array();

	for (size_t i = 0; i < env->count; i++) {
		size_t key = strcspn(env->items[i], "=") + 1, at;
		bool known = false;
		json_t *one;

		json_array_foreach(list, at, one)
		{
			const char *text = json_string_value(one);

			if (text && strncmp(text, env->items[i], key) == 0) {
				json_array_set_new(
					list, at, json_string(env->items[i]));
				known = true;
				break;
			}
		}
		if (!known &&
			json_array_append_new(
				list, json_string(env->items[i]))) {
			json_decref(list);
			return -1;
		}
	}
	return put(process, "Env", list);
}

/* Sets of names: objects whose members are empty objects. */
static int put_set(
	json_t *process, const char *key, const struct th_strings *names)
{
	json_t *set = json_object_get(process, key);

	if (!names->count)
		return 0;
	if (!json_is_object(set) && put(process, key, json_object()))
		return -1;
	set = json_object_get(process, key);
	for (size_t i = 0; i < names->count; i++) {
		if (put(set, names->items[i], json_object()))
			return -1;
	}
	return 0;
}

static int put_labels(json_t *process, const struct th_strings *labels)
{
	if (!labels->count)
		return 0;
	if (!json_is_object(json_object_get(process, "Labels")) &&
		put(process, "Labels", json_object()))
		return -1;
	for (size_t i = 0; i < labels->count; i++) {
		const char *text = labels->items[i];
		char *key = strndup(text, strcspn(text, "="));
		int rc = key ? put(json_object_get(process, "Labels"), key,
				       json_string(strchr(text, '=') + 1))
			     : -1;

		free(key);
		if (rc)
			return -1;
	}
	return 0;
}

/* An image knows the signal, and the container the grace period. */
static int put_stop(json_t *process, const char *text, struct th_error *err)
{
	const char *at = text ? text : "";
	char name[40];

	while (*at) {
		size_t len = strcspn(at, ",");

		if (strncmp(at, "signal=", 7) == 0 && len < sizeof(name)) {
			int number;

			snprintf(name, sizeof(name), "%.*s", (int)len - 7,
				at + 7);
			number = th_signal_parse(name);
			if (number < 0)
				return th_fail(err, TH_USAGE,
					"\"%.40s\" is not a signal", name);
			if (th_signal_name(number))
				snprintf(name, sizeof(name), "SIG%.30s",
					th_signal_name(number));
			if (put_text(process, "StopSignal", name))
				return th_fail_memory(err);
		} else {
			th_fail(err, TH_USAGE,
				"an image has no place for \"%.*s\"", (int)len,
				at);
			return th_hint(err,
				"only the signal is kept: stop: signal=INT");
		}
		at += len;
		at += *at == ',';
	}
	return 0;
}

static int put_command(
	json_t *process, const struct th_image_settings *settings)
{
	int rc = 0;

	if (settings->has_entrypoint) {
		json_object_del(process, "Entrypoint");
		/* Another program does not get the arguments of the one before.
		 */
		json_object_del(process, "Cmd");
		if (settings->entrypoint.count)
			rc |= put(process, "Entrypoint",
				th_json_from_strings(&settings->entrypoint));
	}
	if (settings->has_command) {
		json_object_del(process, "Cmd");
		if (settings->command.count)
			rc |= put(process, "Cmd",
				th_json_from_strings(&settings->command));
	}
	return rc;
}

int th_image_settings_apply(const struct th_image_settings *settings,
	json_t *document, struct th_error *err)
{
	json_t *process = json_object_get(document, "config");

	if (!json_is_object(process) && put(document, "config", json_object()))
		return th_fail_memory(err);
	process = json_object_get(document, "config");
	if (settings->workdir && *settings->workdir != '/')
		return th_fail(err, TH_USAGE,
			"the working folder \"%.200s\" is not an absolute path",
			settings->workdir);
	if (put_stop(process, settings->stop, err))
		return -1;
	if (put_command(process, settings) ||
		(settings->env.count && put_env(process, &settings->env)) ||
		put_set(process, "ExposedPorts", &settings->ports) ||
		put_set(process, "Volumes", &settings->volumes) ||
		put_labels(process, &settings->labels) ||
		put_text(process, "User", settings->user) ||
		put_text(process, "WorkingDir", settings->workdir))
		return th_fail_memory(err);
	return json_object_size(process) ||
			json_object_del(document, "config") == 0
		? 0
		: -1;
}
