#include "oci/image_config.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "oci/platform_features.h"

#define WHERE "the image's config"

/* A set in the specification's form: an object whose member names count. */
static int read_set(const json_t *object, const char *key,
	struct th_strings *list, struct th_error *err)
{
	json_t *set, *value;
	const char *name;
	int rc = th_json_object(object, key, WHERE, &set, err);

	if (rc != 1)
		return rc;
	json_object_foreach(set, name, value)
	{
		if (th_strings_add(list, name))
			return th_fail_memory(err);
	}
	return 1;
}

static int read_copy(const json_t *object, const char *key, char **copy,
	struct th_error *err)
{
	const char *text;
	int rc = th_json_string(object, key, WHERE, &text, err);

	if (rc != 1 || !*text)
		return rc < 0 ? -1 : 0;
	*copy = strdup(text);
	return *copy ? 1 : th_fail_memory(err);
}

static int read_part(const json_t *object, const char *key, char *to,
	size_t size, struct th_error *err)
{
	const char *text;
	int rc = th_json_string(object, key, WHERE, &text, err);

	if (rc == 1 && strlen(text) >= size)
		return th_fail(
			err, TH_FAILED, "\"%s\" in " WHERE " is too long", key);
	if (rc == 1)
		memcpy(to, text, strlen(text) + 1);
	return rc;
}

static int read_process(
	const json_t *doc, struct th_image_config *config, struct th_error *err)
{
	json_t *process;
	int rc = th_json_object(doc, "config", WHERE, &process, err);

	if (rc != 1)
		return rc;
	if (read_copy(process, "User", &config->user, err) < 0 ||
		read_copy(process, "WorkingDir", &config->workdir, err) < 0 ||
		read_copy(process, "StopSignal", &config->stop_signal, err) <
			0 ||
		th_json_strings(process, "Env", WHERE, &config->env, err) < 0 ||
		th_json_strings(process, "Entrypoint", WHERE,
			&config->entrypoint, err) < 0 ||
		th_json_strings(process, "Cmd", WHERE, &config->command, err) <
			0 ||
		read_set(process, "ExposedPorts", &config->ports, err) < 0 ||
		read_set(process, "Volumes", &config->volumes, err) < 0)
		return -1;
	return 1;
}

static int read_layers(
	const json_t *doc, struct th_image_config *config, struct th_error *err)
{
	json_t *rootfs;

	if (th_json_object(doc, "rootfs", WHERE, &rootfs, err) == 1) {
		const char *type = NULL;

		if (th_json_string(rootfs, "type", WHERE, &type, err) < 0)
			return -1;
		if (type && strcmp(type, "layers") != 0)
			return th_fail(err, TH_FAILED,
				"the root of " WHERE " has the type "
				"\"%.60s\"; only \"layers\" is known",
				type);
	}
	if (th_json_object(doc, "rootfs", WHERE, &rootfs, err) != 1 ||
		th_json_strings(
			rootfs, "diff_ids", WHERE, &config->diff_ids, err) < 0)
		return th_fail(
			err, TH_FAILED, WHERE " lists no layers (rootfs)");
	for (size_t i = 0; i < config->diff_ids.count; i++) {
		if (!th_digest_valid(config->diff_ids.items[i]))
			return th_fail(err, TH_FAILED,
				"layer %zu in " WHERE " has no valid diff ID",
				i + 1);
	}
	return 0;
}

int th_image_config_parse(const char *data, size_t len,
	struct th_image_config *config, struct th_error *err)
{
	struct th_platform *platform = &config->platform;
	json_t *doc = NULL;

	memset(config, 0, sizeof(*config));
	if (th_json_parse(data, len, WHERE, &doc, err))
		return -1;
	if (read_part(doc, "os", platform->os, sizeof(platform->os), err) < 0 ||
		read_part(doc, "architecture", platform->architecture,
			sizeof(platform->architecture), err) < 0 ||
		read_part(doc, "variant", platform->variant,
			sizeof(platform->variant), err) < 0 ||
		th_platform_features(doc, WHERE, platform, err) ||
		read_part(doc, "created", config->created,
			sizeof(config->created), err) < 0 ||
		read_process(doc, config, err) < 0 ||
		read_layers(doc, config, err)) {
		json_decref(doc);
		th_image_config_release(config);
		return -1;
	}
	json_decref(doc);
	return 0;
}

void th_image_config_release(struct th_image_config *config)
{
	free(config->user);
	free(config->workdir);
	free(config->stop_signal);
	th_strings_release(&config->env);
	th_strings_release(&config->entrypoint);
	th_strings_release(&config->command);
	th_strings_release(&config->ports);
	th_strings_release(&config->volumes);
	th_strings_release(&config->diff_ids);
	memset(config, 0, sizeof(*config));
}
