#include "container/cdi.h"

#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "base/json.h"
#include "base/yaml_bounds.h"
#include "base/yaml_json.h"
#include "container/cdi_parts.h"
#include "model/name.h"

/* ---- files ---- */

/* Versions are taken one by one: what a later one means is not known. */
static int check_version(const json_t *doc, struct th_error *err)
{
	static const char *const known[] = {
		"0.3.0", "0.4.0", "0.5.0", "0.6.0", "0.7.0", "0.8.0", NULL};
	const char *version = NULL;

	if (th_json_string(doc, "cdiVersion", "the file", &version, err) < 0)
		return -1;
	if (!version)
		return th_fail(err, TH_FAILED, "it has no cdiVersion");
	for (size_t i = 0; known[i]; i++) {
		if (strcmp(version, known[i]) == 0)
			return 0;
	}
	return th_fail(err, TH_NOT_POSSIBLE,
		"its cdiVersion is \"%.40s\"; 0.3.0 to 0.8.0 are supported",
		version);
}

static int check_file(const json_t *doc, struct th_error *err)
{
	const char *kind = NULL;
	json_t *devices, *item;
	size_t i;

	if (check_version(doc, err) ||
		th_json_string(doc, "kind", "the file", &kind, err) < 0)
		return -1;
	if (!kind || !th_device_kind_valid(kind, strlen(kind)))
		return th_fail(err, TH_FAILED,
			"\"%.100s\" is not a kind of device (VENDOR/CLASS)",
			kind ? kind : "");
	if (th_json_array(doc, "devices", "the file", &devices, err) < 0)
		return -1;
	json_array_foreach(devices, i, item)
	{
		const char *name = json_is_object(item)
			? json_string_value(json_object_get(item, "name"))
			: NULL;

		if (!name || !th_device_valid(name))
			return th_fail(err, TH_FAILED,
				"device %zu has no valid name", i + 1);
	}
	return 0;
}

static bool ends_with(const char *text, const char *end)
{
	size_t len = strlen(text), tail = strlen(end);

	return len > tail && strcmp(text + len - tail, end) == 0;
}

static int read_file(
	int folder, const char *file, json_t **doc, struct th_error *err)
{
	struct th_buf text;
	int rc;

	th_buf_init(&text, TH_YAML_BYTES);
	rc = th_file_read_regular(folder, file, &text, err);
	if (rc == 0)
		rc = th_fail(err, TH_FAILED, "it has gone meanwhile");
	if (rc == 1)
		rc = ends_with(file, ".json")
			? th_json_parse(text.data, text.len, file, doc, err)
			: th_yaml_to_json(file, &text, doc, err);
	th_buf_release(&text);
	if (rc == 0 && (!json_is_object(*doc) || check_file(*doc, err))) {
		if (!json_is_object(*doc))
			th_fail(err, TH_FAILED, "it is not an object");
		json_decref(*doc);
		rc = -1;
	}
	return rc < 0 ? -1 : 0;
}

/* ---- the search ---- */

struct search {
	const char *name; /* VENDOR/CLASS=DEVICE */
	json_t *doc, *device; /* doc owned */
	char *file; /* owned: where it was found */
	char *second; /* owned: where in the same folder, too */
	char broken[300]; /* the first file that is of no use, and why */
};

static json_t *find_in(const struct search *search, json_t *doc)
{
	const char *equals = strchr(search->name, '=');
	const char *kind = json_string_value(json_object_get(doc, "kind"));
	json_t *item;
	size_t i;

	if (strlen(kind) != (size_t)(equals - search->name) ||
		strncmp(kind, search->name, strlen(kind)) != 0)
		return NULL;
	json_array_foreach(json_object_get(doc, "devices"), i, item)
	{
		if (strcmp(json_string_value(json_object_get(item, "name")),
			    equals + 1) == 0)
			return item;
	}
	return NULL;
}

static int look_into(struct search *search, int folder, const char *path,
	const char *file, struct th_error *err)
{
	json_t *doc = NULL, *device;
	struct th_error why = {0};
	char *full = th_format("%s/%s", path, file);

	if (!full)
		return th_fail_memory(err);
	if (read_file(folder, file, &doc, &why)) {
		/* Another vendor's mistake is no reason to do without this
		 * one's devices. */
		if (!search->broken[0])
			snprintf(search->broken, sizeof(search->broken),
				"%.120s: %.160s", full, why.msg);
		free(full);
		return 0;
	}
	device = find_in(search, doc);
	if (!device) {
		json_decref(doc);
		free(full);
	} else if (search->doc) {
		json_decref(doc);
		free(search->second);
		search->second = full;
	} else {
		search->doc = doc;
		search->device = device;
		search->file = full;
	}
	return 0;
}

static int look_through(
	struct search *search, const char *folder, struct th_error *err)
{
	struct dirent *entry;
	DIR *dir = opendir(folder);
	int rc = 0;

	while (dir && rc == 0 && (entry = readdir(dir))) {
		if (entry->d_name[0] != '.' &&
			(ends_with(entry->d_name, ".json") ||
				ends_with(entry->d_name, ".yaml")))
			rc = look_into(
				search, dirfd(dir), folder, entry->d_name, err);
	}
	if (dir)
		closedir(dir);
	return rc;
}

static int not_found(
	const struct search *search, const char *folder, struct th_error *err)
{
	if (!th_device_name_valid(search->name))
		return th_fail(err, TH_USAGE,
			"\"%.150s\" is not the name of a device "
			"(VENDOR/CLASS=NAME)",
			search->name);
	th_fail(err, TH_NOT_FOUND, "no device named \"%.150s\"", search->name);
	if (search->broken[0])
		return th_hint(err, "a file is of no use: %s", search->broken);
	return th_hint(err, "devices are described by files in %s", folder);
}

/* What the file says for all of its devices is carried out with the first. */
static int apply(const struct search *search, struct th_strings *applied,
	json_t *config, struct th_error *err)
{
	for (size_t i = 0; i < applied->count; i++) {
		if (strcmp(applied->items[i], search->file) == 0)
			return cdi_edit(config, search->device, err);
	}
	if (th_strings_add(applied, search->file))
		return th_fail_memory(err);
	return cdi_edit(config, search->doc, err) ||
			cdi_edit(config, search->device, err)
		? -1
		: 0;
}

int th_cdi_apply(const char *name, const char *const *folders,
	struct th_strings *applied, json_t *config, struct th_error *err)
{
	struct search search = {.name = name};
	size_t count = 0;
	int rc = 0;

	while (folders[count])
		count++;
	/* A later folder counts more than an earlier one; within one folder
	 * nobody can say which of two is meant. */
	while (rc == 0 && !search.doc && count > 0 &&
		th_device_name_valid(name))
		rc = look_through(&search, folders[--count], err);
	if (rc == 0 && !search.doc) {
		rc = not_found(&search, folders[0], err);
	} else if (rc == 0 && search.second) {
		th_fail(err, TH_USAGE,
			"the device \"%.100s\" is described twice", name);
		rc = th_hint(err, "by %.110s and by %.110s", search.file,
			search.second);
	} else if (rc == 0) {
		rc = apply(&search, applied, config, err);
		if (rc)
			th_hint(err,
				"required by the device \"%.80s\" in %.120s",
				name, search.file);
	}
	json_decref(search.doc);
	free(search.file);
	free(search.second);
	return rc ? -1 : 0;
}
