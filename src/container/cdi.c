#include "container/cdi.h"

#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include "base/json.h"

#define FILE_MAX_BYTES (4u << 20)

bool th_cdi_is_name(const char *text)
{
	const char *slash = strchr(text, '/'), *equals = strchr(text, '=');

	return slash && equals && slash > text && equals > slash + 1 &&
		equals[1] && isalpha((unsigned char)text[0]);
}

static json_t *member(json_t *object, const char *key, json_t *(*make)(void))
{
	json_t *one = json_object_get(object, key);

	if (!one) {
		one = make();
		json_object_set_new(object, key, one);
	}
	return one;
}

/* ---- edits ---- */

static json_int_t number_of(
	const json_t *object, const char *key, json_int_t otherwise)
{
	json_t *value = json_object_get(object, key);

	return json_is_integer(value) ? json_integer_value(value) : otherwise;
}

static void add_rule(json_t *config, const char *type, unsigned int major_id,
	unsigned int minor_id, const char *access)
{
	json_t *linux_part = member(config, "linux", json_object);
	json_t *resources = member(linux_part, "resources", json_object);
	json_t *rules = member(resources, "devices", json_array);

	json_array_append_new(rules,
		json_pack("{s:b s:s s:i s:i s:s}", "allow", 1, "type", type,
			"major", (int)major_id, "minor", (int)minor_id,
			"access", access));
}

int th_device_add(json_t *config, const char *path, const char *host,
	const char *access, struct th_error *err)
{
	json_t *list = member(
		member(config, "linux", json_object), "devices", json_array);
	const char *source = host ? host : path;
	const char *type;
	struct stat st;

	if (stat(source, &st)) {
		th_fail_sys(err, TH_NOT_FOUND, errno,
			"the device %.200s does not exist", source);
		return th_hint(
			err, "ls -l /dev shows the devices of this host");
	}
	if (!S_ISCHR(st.st_mode) && !S_ISBLK(st.st_mode))
		return th_fail(err, TH_USAGE, "%.200s is not a device", source);
	type = S_ISBLK(st.st_mode) ? "b" : "c";
	json_array_append_new(list,
		json_pack("{s:s s:s s:i s:i s:i s:i s:i}", "path", path, "type",
			type, "major", (int)major(st.st_rdev), "minor",
			(int)minor(st.st_rdev), "fileMode",
			(int)(st.st_mode & 0777), "uid", (int)st.st_uid, "gid",
			(int)st.st_gid));
	add_rule(config, type, major(st.st_rdev), minor(st.st_rdev), access);
	return 0;
}

static int add_node(json_t *config, const json_t *node, struct th_error *err)
{
	const char *path = NULL, *host = NULL, *access = NULL;
	json_t *list, *made;

	if (th_json_string(node, "path", "deviceNodes", &path, err) < 0 ||
		th_json_string(node, "hostPath", "deviceNodes", &host, err) <
			0 ||
		th_json_string(
			node, "permissions", "deviceNodes", &access, err) < 0)
		return -1;
	if (!path || path[0] != '/')
		return th_fail(
			err, TH_FAILED, "a deviceNode has no absolute path");
	if (th_device_add(config, path, host, access ? access : "rwm", err))
		return -1;
	list = json_object_get(json_object_get(config, "linux"), "devices");
	made = json_array_get(list, json_array_size(list) - 1);
	json_object_set_new(made, "fileMode",
		json_integer(number_of(
			node, "fileMode", number_of(made, "fileMode", 0666))));
	json_object_set_new(made, "uid",
		json_integer(
			number_of(node, "uid", number_of(made, "uid", 0))));
	json_object_set_new(made, "gid",
		json_integer(
			number_of(node, "gid", number_of(made, "gid", 0))));
	return 0;
}

static int add_mount(json_t *config, const json_t *mount, struct th_error *err)
{
	const char *host = NULL, *path = NULL, *type = NULL;
	json_t *options = json_object_get(mount, "options");

	if (th_json_string(mount, "hostPath", "mounts", &host, err) < 0 ||
		th_json_string(mount, "containerPath", "mounts", &path, err) <
			0 ||
		th_json_string(mount, "type", "mounts", &type, err) < 0)
		return -1;
	if (!host || !path)
		return th_fail(err, TH_FAILED,
			"a mount has no hostPath or no containerPath");
	json_array_append_new(member(config, "mounts", json_array),
		json_pack("{s:s s:s s:s s:o}", "destination", path, "source",
			host, "type", type ? type : "bind", "options",
			json_is_array(options)
				? json_incref(options)
				: json_pack("[ss]", "bind", "ro")));
	return 0;
}

static int add_hook(json_t *config, const json_t *hook, struct th_error *err)
{
	static const char *const keys[] = {"path", "args", "env", "timeout"};
	json_t *made = json_object();
	const char *kind = NULL;

	if (th_json_string(hook, "hookName", "hooks", &kind, err) < 0 ||
		!kind) {
		json_decref(made);
		return th_fail(err, TH_FAILED, "a hook has no hookName");
	}
	for (size_t i = 0; i < 4; i++) {
		json_t *value = json_object_get(hook, keys[i]);

		if (value)
			json_object_set(made, keys[i], value);
	}
	json_array_append_new(
		member(member(config, "hooks", json_object), kind, json_array),
		made);
	return 0;
}

static int apply_list(json_t *config, const json_t *edits, const char *key,
	int (*add)(json_t *config, const json_t *item, struct th_error *err),
	struct th_error *err)
{
	json_t *list, *item;
	size_t i;

	if (th_json_array(edits, key, "containerEdits", &list, err) < 0)
		return -1;
	json_array_foreach(list, i, item)
	{
		if (!json_is_object(item))
			return th_fail(err, TH_FAILED,
				"\"%s\" has an item that is not an object",
				key);
		if (add(config, item, err))
			return -1;
	}
	return 0;
}

static int apply_edits(
	json_t *config, const json_t *holder, struct th_error *err)
{
	json_t *edits, *item, *list, *process, *user;
	size_t i;
	int rc = th_json_object(
		holder, "containerEdits", "the file", &edits, err);

	if (rc != 1)
		return rc;
	if (json_object_get(edits, "intelRdt"))
		return th_fail(err, TH_NOT_POSSIBLE,
			"it uses \"intelRdt\", which is not supported");
	process = member(config, "process", json_object);
	if (th_json_array(edits, "env", "containerEdits", &list, err) < 0)
		return -1;
	json_array_foreach(list, i, item)
	{
		json_array_append(member(process, "env", json_array), item);
	}
	user = member(process, "user", json_object);
	if (th_json_array(
		    edits, "additionalGids", "containerEdits", &list, err) < 0)
		return -1;
	json_array_foreach(list, i, item)
	{
		json_array_append(
			member(user, "additionalGids", json_array), item);
	}
	return apply_list(config, edits, "deviceNodes", add_node, err) ||
			apply_list(config, edits, "mounts", add_mount, err) ||
			apply_list(config, edits, "hooks", add_hook, err)
		? -1
		: 0;
}

/* ---- files ---- */

/* The device in one file: 1, 0, -1. *doc is a new reference. */
static int look_into(int folder, const char *file, const char *kind,
	size_t kind_len, const char *device, json_t **doc, json_t **found,
	struct th_error *err)
{
	const char *name;
	json_t *devices, *item, *one = NULL;
	size_t i;

	if (th_json_read_file(folder, file, FILE_MAX_BYTES, &one, err) != 1)
		return -1;
	name = json_string_value(json_object_get(one, "kind"));
	devices = json_object_get(one, "devices");
	if (!name || strlen(name) != kind_len ||
		strncmp(name, kind, kind_len) != 0) {
		json_decref(one);
		return 0;
	}
	json_array_foreach(devices, i, item)
	{
		name = json_string_value(json_object_get(item, "name"));
		if (name && strcmp(name, device) == 0) {
			*doc = one;
			*found = item;
			return 1;
		}
	}
	json_decref(one);
	return 0;
}

static int look_through(const char *folder, const char *name, json_t **doc,
	json_t **device, struct th_error *err)
{
	const char *equals = strchr(name, '=');
	struct dirent *entry;
	DIR *dir = opendir(folder);
	int rc = 0;

	while (dir && rc == 0 && (entry = readdir(dir))) {
		size_t len = strlen(entry->d_name);

		if (len < 6 || strcmp(entry->d_name + len - 5, ".json") != 0)
			continue;
		rc = look_into(dirfd(dir), entry->d_name, name,
			(size_t)(equals - name), equals + 1, doc, device, err);
		if (rc < 0)
			th_hint(err, "repair or remove %.150s/%.80s", folder,
				entry->d_name);
	}
	if (dir)
		closedir(dir);
	return rc;
}

int th_cdi_apply(const char *name, const char *const *folders, json_t *config,
	struct th_error *err)
{
	json_t *doc = NULL, *device = NULL;
	size_t count = 0;
	int rc = 0;

	while (folders[count])
		count++;
	while (rc == 0 && count > 0)
		rc = look_through(folders[--count], name, &doc, &device, err);
	if (rc < 0)
		return -1;
	if (rc == 0) {
		th_fail(err, TH_NOT_FOUND, "no device named \"%.150s\"", name);
		return th_hint(err, "devices are described by files in %s",
			folders[0]);
	}
	rc = apply_edits(config, doc, err) || apply_edits(config, device, err)
		? -1
		: 0;
	if (rc)
		th_hint(err, "required by the device \"%.100s\"", name);
	json_decref(doc);
	return rc;
}
