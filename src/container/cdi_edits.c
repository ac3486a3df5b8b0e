/* What a device's description changes in config.json (Container Device
 * Interface Specification, "OCI Edits"). */
#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include "base/json.h"
#include "container/cdi_parts.h"
#include "oci/hooks.h"

static json_t *member(json_t *object, const char *key, json_t *(*make)(void))
{
	json_t *one = json_object_get(object, key);

	if (!one) {
		one = make();
		json_object_set_new(object, key, one);
	}
	return one;
}

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

/* What the description says itself about the node; the host's is not looked at
 * then. 1, 0 where it does not, -1. */
static int number_node(json_t *config, const json_t *node, const char *path,
	const char *access, struct th_error *err)
{
	json_int_t major_id = number_of(node, "major", -1);
	json_int_t minor_id = number_of(node, "minor", -1);
	const char *type = NULL;

	if (th_json_string(node, "type", "deviceNodes", &type, err) < 0)
		return -1;
	if (type && (strlen(type) != 1 || !strchr("bcup", *type)))
		return th_fail(err, TH_FAILED,
			"\"%.20s\" is not the type of a deviceNode (b, c, u, "
			"p)",
			type);
	if (!type || (*type != 'p' && (major_id < 0 || minor_id < 0)))
		return 0;
	if (major_id > UINT32_MAX || minor_id > UINT32_MAX)
		return th_fail(err, TH_FAILED,
			"a deviceNode has a number that is too large");
	json_array_append_new(member(member(config, "linux", json_object),
				      "devices", json_array),
		json_pack("{s:s s:s s:I s:I}", "path", path, "type", type,
			"major", *type == 'p' ? 0 : major_id, "minor",
			*type == 'p' ? 0 : minor_id));
	if (*type != 'p')
		add_rule(config, *type == 'b' ? "b" : "c",
			(unsigned int)major_id, (unsigned int)minor_id, access);
	return 1;
}

/* Bits of ownership that the description has a say in. */
static void set_node(json_t *made, const json_t *node)
{
	static const char *const keys[] = {"fileMode", "uid", "gid"};

	for (size_t i = 0; i < 3; i++) {
		json_int_t value = number_of(node, keys[i], -1);

		if (value >= 0)
			json_object_set_new(made, keys[i], json_integer(value));
	}
}

static int add_node(json_t *config, const json_t *node, struct th_error *err)
{
	const char *path = NULL, *host = NULL, *access = NULL;
	json_t *list;
	int rc;

	if (th_json_string(node, "path", "deviceNodes", &path, err) < 0 ||
		th_json_string(node, "hostPath", "deviceNodes", &host, err) <
			0 ||
		th_json_string(
			node, "permissions", "deviceNodes", &access, err) < 0)
		return -1;
	if (!path || path[0] != '/')
		return th_fail(
			err, TH_FAILED, "a deviceNode has no absolute path");
	access = access && *access ? access : "rwm";
	if (strspn(access, "rwm") != strlen(access))
		return th_fail(err, TH_FAILED,
			"\"%.20s\" is not a permission of a deviceNode (r, w, "
			"m)",
			access);
	rc = number_node(config, node, path, access, err);
	if (rc == 0)
		rc = th_device_add(config, path, host, access, err);
	if (rc < 0)
		return -1;
	list = json_object_get(json_object_get(config, "linux"), "devices");
	set_node(json_array_get(list, json_array_size(list) - 1), node);
	return 0;
}

static int add_mount(json_t *config, const json_t *mount, struct th_error *err)
{
	const char *host = NULL, *path = NULL, *type = NULL;
	struct th_strings options = {0};
	json_t *list;

	if (th_json_strings(mount, "options", "mounts", &options, err) < 0) {
		th_strings_release(&options);
		return -1;
	}
	list = th_json_from_strings(&options);
	if (!options.count && (!list || !json_array_size(list))) {
		json_decref(list);
		list = json_array();
	}
	th_strings_release(&options);
	if (th_json_string(mount, "hostPath", "mounts", &host, err) < 0 ||
		th_json_string(mount, "containerPath", "mounts", &path, err) <
			0 ||
		th_json_string(mount, "type", "mounts", &type, err) < 0) {
		json_decref(list);
		return -1;
	}
	if (!host || !*host || !path || !*path) {
		json_decref(list);
		return th_fail(err, TH_FAILED,
			"a mount has no hostPath or no containerPath");
	}
	json_array_append_new(member(config, "mounts", json_array),
		json_pack("{s:s s:s s:s s:o}", "destination", path, "source",
			host, "type", type && *type ? type : "bind", "options",
			list));
	return 0;
}

static bool is_hook(const char *kind)
{
	for (int i = 0; kind && i < TH_HOOK_KINDS; i++) {
		if (strcmp(kind, th_hook_name((enum th_hook_kind)i)) == 0)
			return true;
	}
	return false;
}

static int add_hook(json_t *config, const json_t *hook, struct th_error *err)
{
	static const char *const keys[] = {"path", "args", "env", "timeout"};
	json_t *made = json_object();
	const char *kind = NULL;

	if (th_json_string(hook, "hookName", "hooks", &kind, err) < 0 ||
		!is_hook(kind)) {
		json_decref(made);
		return th_fail(err, TH_FAILED,
			"a hook has no hookName, or an unknown one");
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

static int add_variables(
	json_t *config, const json_t *edits, struct th_error *err)
{
	json_t *process = member(config, "process", json_object), *list, *item;
	size_t i;

	if (th_json_array(edits, "env", "containerEdits", &list, err) < 0)
		return -1;
	json_array_foreach(list, i, item)
	{
		const char *text = json_string_value(item);

		if (!text || text[0] == '=' || !strchr(text, '='))
			return th_fail(err, TH_FAILED,
				"\"env\" has an item that is not NAME=VALUE");
		json_array_append(member(process, "env", json_array), item);
	}
	return 0;
}

/* 0 is root's own group, and none to be added. */
static int add_groups(json_t *config, const json_t *edits, struct th_error *err)
{
	json_t *user = member(
		member(config, "process", json_object), "user", json_object);
	json_t *list, *item;
	size_t i;

	if (th_json_array(
		    edits, "additionalGids", "containerEdits", &list, err) < 0)
		return -1;
	json_array_foreach(list, i, item)
	{
		json_int_t gid = json_integer_value(item);

		if (!json_is_integer(item) || gid < 0 || gid >= UINT32_MAX)
			return th_fail(err, TH_FAILED,
				"\"additionalGids\" has an item that is not a "
				"group ID");
		if (gid > 0)
			json_array_append(
				member(user, "additionalGids", json_array),
				item);
	}
	return 0;
}

int cdi_edit(json_t *config, const json_t *holder, struct th_error *err)
{
	static const char *const refused[] = {"intelRdt", "netDevices"};
	json_t *edits;
	int rc = th_json_object(
		holder, "containerEdits", "the file", &edits, err);

	if (rc != 1)
		return rc;
	for (size_t i = 0; i < 2; i++) {
		json_t *part = json_object_get(edits, refused[i]);

		if (part && !json_is_null(part))
			return th_fail(err, TH_NOT_POSSIBLE,
				"it uses \"%s\", which is not supported",
				refused[i]);
	}
	return add_variables(config, edits, err) ||
			add_groups(config, edits, err) ||
			apply_list(
				config, edits, "deviceNodes", add_node, err) ||
			apply_list(config, edits, "mounts", add_mount, err) ||
			apply_list(config, edits, "hooks", add_hook, err)
		? -1
		: 0;
}
