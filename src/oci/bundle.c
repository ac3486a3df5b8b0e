#include "oci/bundle.h"

#include <sched.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include "base/file.h"
#include "base/json_cut.h"
#include "oci/parts.h"

static int read_root(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {"path", "readonly", NULL};
	static const struct shape shape = {"root", done, NULL};
	json_t *root;

	if (th_json_object(doc, "root", "config.json", &root, err) != 1)
		return th_fail(
			err, TH_FAILED, "config.json does not have a root");
	if (shape_check(root, &shape, err) ||
		read_copy(root, "path", "root", &bundle->root_path, err) < 0 ||
		th_json_bool(root, "readonly", "root", &bundle->root_readonly,
			err) < 0)
		return -1;
	if (!bundle->root_path || !*bundle->root_path)
		return th_fail(err, TH_FAILED, "root does not have a path");
	return 0;
}

static int read_mount(const json_t *item, void *out, struct th_error *err)
{
	struct th_mount *mount = out;

	if (read_copy(item, "destination", "mounts", &mount->target, err) < 0 ||
		read_copy(item, "source", "mounts", &mount->source, err) < 0 ||
		read_copy(item, "type", "mounts", &mount->type, err) < 0 ||
		th_json_strings(
			item, "options", "mounts", &mount->options, err) < 0 ||
		read_id_maps(item, "uidMappings", "a mount's uidMappings",
			&mount->uids, err) < 0 ||
		read_id_maps(item, "gidMappings", "a mount's gidMappings",
			&mount->gids, err) < 0)
		return -1;
	if (!mount->target || !*mount->target)
		return th_fail(
			err, TH_FAILED, "a mount does not have a destination");
	/* "It MAY be a relative path, in which case it MUST be interpreted as
	 * relative to "/"" (config.md, "Mounts"). */
	if (mount->target[0] != '/') {
		char *absolute = th_format("/%s", mount->target);

		if (!absolute)
			return th_fail_memory(err);
		free(mount->target);
		mount->target = absolute;
	}
	if (!mount->uids.count != !mount->gids.count)
		return th_fail(err, TH_FAILED,
			"the mount at %.200s has mappings for only one of "
			"users and groups; both are required",
			mount->target);
	return 0;
}

static int read_mounts(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {"destination", "source", "type",
		"options", "uidMappings", "gidMappings", NULL};
	static const struct shape shape = {"mounts", done, NULL};
	void *items = NULL;
	int rc;

	rc = read_items(doc, "mounts", &shape, sizeof(struct th_mount), &items,
		&bundle->mount_count, read_mount, err);
	bundle->mounts = items;
	return rc;
}

/* Two items for each: keys may hold any character. */
static int read_annotations(
	const json_t *doc, struct th_strings *list, struct th_error *err)
{
	json_t *map, *value;
	const char *key;
	int rc = th_json_object(doc, "annotations", "config.json", &map, err);

	if (rc != 1)
		return rc;
	json_object_foreach(map, key, value)
	{
		if (!*key)
			return th_fail(
				err, TH_FAILED, "annotations has an empty key");
		if (!json_is_string(value))
			return th_fail(err, TH_FAILED,
				"\"%.100s\" in annotations is not a string",
				key);
		if (th_strings_add(list, key) ||
			th_strings_add(list, json_string_value(value)))
			return th_fail_memory(err);
	}
	return 1;
}

/* What every container has, and what a terminal is made of (config-linux.md,
 * "Default Devices"). */
static const struct {
	int64_t major_id, minor_id;
} supplied[] = {{1, 3}, {1, 5}, {1, 7}, {1, 8}, {1, 9}, {5, 0}, {5, 1}, {5, 2},
	{136, -1}};

static bool denies_all(const struct th_device_rule *rule)
{
	return !rule->allow && rule->type == 'a' && rule->major_id < 0 &&
		rule->minor_id < 0;
}

static int add_rule(struct th_resources *resources, char type, int64_t major_id,
	int64_t minor_id, bool all, struct th_error *err)
{
	struct th_device_rule *list = realloc(resources->devices,
		(resources->device_count + 1) * sizeof(*list));

	if (!list)
		return th_fail_memory(err);
	resources->devices = list;
	list[resources->device_count++] = (struct th_device_rule){.allow = true,
		.type = type,
		.major_id = major_id,
		.minor_id = minor_id,
		.read = all,
		.write = all,
		.make = true};
	return 0;
}

/* Whether the rules say something about that very device already. */
static bool is_ruled(const struct th_resources *resources, int64_t major_id,
	int64_t minor_id)
{
	for (size_t i = 0; i < resources->device_count; i++) {
		const struct th_device_rule *rule = &resources->devices[i];

		if (rule->type != 'b' && rule->major_id == major_id &&
			rule->minor_id == minor_id)
			return true;
	}
	return false;
}

/* Engines deny all devices and leave it to the runtime that those which every
 * container has are there and can be used; and that it can make the nodes that
 * it is to make, whatever the program may do with them. */
static int complete_rules(struct th_bundle *bundle, struct th_error *err)
{
	struct th_resources *resources = &bundle->resources;
	bool denied = false;

	for (size_t i = 0; i < resources->device_count; i++)
		denied |= denies_all(&resources->devices[i]);
	if (!denied)
		return 0;
	for (size_t i = 0; i < sizeof(supplied) / sizeof(*supplied); i++) {
		if (!is_ruled(resources, supplied[i].major_id,
			    supplied[i].minor_id) &&
			add_rule(resources, 'c', supplied[i].major_id,
				supplied[i].minor_id, true, err))
			return -1;
	}
	for (size_t i = 0; i < bundle->device_count; i++) {
		const struct th_device *device = &bundle->devices[i];

		if (!S_ISFIFO(device->mode) &&
			add_rule(resources, S_ISBLK(device->mode) ? 'b' : 'c',
				major(device->dev), minor(device->dev), false,
				err))
			return -1;
	}
	return 0;
}

static int warn(struct th_bundle *bundle, const char *text)
{
	return th_strings_add(&bundle->process.warnings, text);
}

/* "MUST be in SemVer v2.0.0 format" (config.md): three numbers, and what may
 * stand behind them. */
static bool is_version(const char *text)
{
	for (int part = 0; part < 3; part++) {
		size_t digits = strspn(text, "0123456789");

		if (!digits || (digits > 1 && *text == '0') ||
			(part < 2 && text[digits] != '.'))
			return false;
		text += digits + (part < 2);
	}
	return !*text || *text == '-' || *text == '+';
}

static int read_top(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {"ociVersion", "process", "root",
		"hostname", "domainname", "mounts", "linux", "annotations",
		"hooks", NULL};
	/* Other platforms' parts are nothing to this one. */
	static const char *const refused[] = {"vm", NULL};
	static const struct shape shape = {"config.json", done, refused};
	const char *version = NULL;

	if (shape_check(doc, &shape, err) ||
		th_json_string(doc, "ociVersion", shape.where, &version, err) <
			0)
		return -1;
	if (!version || !is_version(version) || strncmp(version, "1.", 2) != 0)
		return th_fail(err, TH_FAILED,
			"config.json has the ociVersion \"%.30s\"; one like "
			"1.0.2 is needed",
			version ? version : "");
	if (read_process(doc, &bundle->process, err) ||
		read_root(doc, bundle, err) ||
		read_copy(doc, "hostname", shape.where, &bundle->hostname,
			err) < 0 ||
		read_copy(doc, "domainname", shape.where, &bundle->domainname,
			err) < 0 ||
		read_mounts(doc, bundle, err) < 0 ||
		read_linux(doc, bundle, err) < 0 ||
		th_hooks_parse(doc, bundle->hooks, err) < 0 ||
		read_annotations(doc, &bundle->annotations, err) < 0)
		return -1;
	if (complete_rules(bundle, err))
		return -1;
	if (bundle->resources.flat &&
		warn(bundle,
			"linux.resources.memory.useHierarchy is false, "
			"but kernels have no accounting without "
			"hierarchy any more"))
		return th_fail_memory(err);
	if (!(bundle->namespaces & CLONE_NEWNS))
		return th_fail(err, TH_NOT_POSSIBLE,
			"config.json does not ask for a new mount namespace, "
			"which is required");
	if ((bundle->hostname || bundle->domainname) &&
		!(th_bundle_own_namespaces(bundle) & CLONE_NEWUTS))
		return th_fail(err, TH_FAILED,
			"config.json sets a host name, but the container "
			"shares the host's uts namespace");
	return 0;
}

static void prepare(struct th_bundle *bundle)
{
	memset(bundle, 0, sizeof(*bundle));
	bundle->personality = -1;
	th_resources_init(&bundle->resources);
}

static int parse(
	const char *data, size_t len, json_t **doc, struct th_error *err)
{
	struct th_buf text;
	int rc;

	th_buf_init(&text, TH_BUNDLE_MAX * 2);
	/* Hardly any document has one. */
	if (has_big_numbers(data, len)) {
		wrap_big_numbers(data, len, &text);
		data = text.data;
		len = text.len;
	}
	rc = text.failed ? th_fail_memory(err)
			 : th_json_parse(data, len, "config.json", doc, err);
	th_buf_release(&text);
	return rc;
}

/* Frees doc. */
static int take(json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	int rc = read_top(doc, bundle, err);

	json_decref(doc);
	if (rc)
		th_bundle_release(bundle);
	return rc;
}

int th_bundle_parse(const char *data, size_t len, struct th_bundle *bundle,
	struct th_error *err)
{
	json_t *doc = NULL;

	prepare(bundle);
	return parse(data, len, &doc, err) ? -1 : take(doc, bundle, err);
}

static int read_text(int folder, struct th_buf *text, struct th_error *err)
{
	int rc = th_file_read_regular(folder, "config.json", text, err);

	if (rc == 0)
		th_fail(err, TH_NOT_FOUND,
			"the bundle does not contain a config.json");
	return rc == 1 ? 0 : -1;
}

/* The text goes before the rest comes: a keeper's memory has no hole then. */
static int read_bundle(int folder, bool unfiltered, struct th_bundle *bundle,
	struct th_error *err)
{
	json_t *doc = NULL;
	struct th_buf text;
	size_t len;
	bool cut;
	int rc;

	prepare(bundle);
	th_buf_init(&text, TH_BUNDLE_MAX);
	rc = read_text(folder, &text, err);
	len = text.len;
	if (rc == 0 && unfiltered)
		len = th_json_cut(text.data, text.len, "linux", "seccomp");
	cut = len < text.len;
	if (rc == 0)
		rc = parse(text.data, len, &doc, err);
	th_buf_release(&text);
	if (rc || take(doc, bundle, err))
		return -1;
	if (cut)
		bundle->seccomp.given = true;
	return 0;
}

int th_bundle_read(int folder, struct th_bundle *bundle, struct th_error *err)
{
	return read_bundle(folder, false, bundle, err);
}

int th_bundle_read_unfiltered(
	int folder, struct th_bundle *bundle, struct th_error *err)
{
	return read_bundle(folder, true, bundle, err);
}

static void release_mount(struct th_mount *mount)
{
	free(mount->target);
	free(mount->source);
	free(mount->type);
	free(mount->uids.items);
	free(mount->gids.items);
	th_strings_release(&mount->options);
}

void th_bundle_release_setup(struct th_bundle *bundle)
{
	unsigned int flags = bundle->seccomp.flags;
	bool filtered = bundle->seccomp.given;

	for (size_t i = 0; i < bundle->mount_count; i++)
		release_mount(&bundle->mounts[i]);
	free(bundle->mounts);
	bundle->mounts = NULL;
	bundle->mount_count = 0;
	th_strings_release(&bundle->masked);
	th_strings_release(&bundle->readonly);
	for (size_t i = 0; i < bundle->device_count; i++)
		free(bundle->devices[i].path);
	free(bundle->devices);
	bundle->devices = NULL;
	bundle->device_count = 0;
	th_resources_release(&bundle->resources);
	th_resources_init(&bundle->resources);
	th_seccomp_release(&bundle->seccomp);
	bundle->seccomp.flags = flags;
	bundle->seccomp.given = filtered;
	th_strings_release(&bundle->sysctls);
	th_hooks_release(bundle->hooks);
	th_strings_release(&bundle->annotations);
}

void th_bundle_release(struct th_bundle *bundle)
{
	th_bundle_release_setup(bundle);
	process_release(&bundle->process);
	free(bundle->root_path);
	free(bundle->hostname);
	free(bundle->domainname);
	for (size_t i = 0; i < bundle->join_count; i++)
		free(bundle->joins[i].path);
	free(bundle->uids.items);
	free(bundle->gids.items);
	free(bundle->cgroup_path);
	free(bundle->mount_label);
	free(bundle->time_offsets);
	prepare(bundle);
}

const char *th_bundle_annotation(
	const struct th_bundle *bundle, const char *key)
{
	for (size_t i = 0; i + 1 < bundle->annotations.count; i += 2) {
		if (strcmp(bundle->annotations.items[i], key) == 0)
			return bundle->annotations.items[i + 1];
	}
	return NULL;
}

int th_bundle_own_namespaces(const struct th_bundle *bundle)
{
	int all = bundle->namespaces;

	for (size_t i = 0; i < bundle->join_count; i++)
		all |= bundle->joins[i].flag;
	return all;
}
