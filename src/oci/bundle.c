#include "oci/bundle.h"

#include <sched.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
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
	if (!mount->target || mount->target[0] != '/')
		return th_fail(err, TH_FAILED,
			"a mount's destination is not an absolute path");
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

static int read_top(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {"ociVersion", "process", "root",
		"hostname", "domainname", "mounts", "linux", "annotations",
		"hooks", NULL};
	static const char *const refused[] = {
		"solaris", "windows", "vm", "zos", NULL};
	static const struct shape shape = {"config.json", done, refused};
	const char *version = NULL;

	if (shape_check(doc, &shape, err) ||
		th_json_string(doc, "ociVersion", shape.where, &version, err) <
			0)
		return -1;
	if (!version || strncmp(version, "1.", 2) != 0)
		return th_fail(err, TH_FAILED,
			"config.json has the version \"%.30s\"; 1.x is needed",
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
		read_map(doc, "annotations", shape.where, &bundle->annotations,
			err) < 0)
		return -1;
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

int th_bundle_parse(const char *data, size_t len, struct th_bundle *bundle,
	struct th_error *err)
{
	json_t *doc = NULL;
	struct th_buf text;
	int rc;

	prepare(bundle);
	th_buf_init(&text, TH_BUNDLE_MAX * 2);
	wrap_big_numbers(data, len, &text);
	rc = text.failed
		? th_fail_memory(err)
		: th_json_parse(text.data, text.len, "config.json", &doc, err);
	th_buf_release(&text);
	if (rc)
		return -1;
	rc = read_top(doc, bundle, err);
	json_decref(doc);
	if (rc)
		th_bundle_release(bundle);
	return rc;
}

int th_bundle_read(int folder, struct th_bundle *bundle, struct th_error *err)
{
	struct th_buf text;
	int rc;

	prepare(bundle);
	th_buf_init(&text, TH_BUNDLE_MAX);
	rc = th_file_read(folder, "config.json", &text, err);
	if (rc == 0)
		th_fail(err, TH_NOT_FOUND,
			"the bundle does not contain a config.json");
	rc = rc == 1 ? th_bundle_parse(text.data, text.len, bundle, err) : -1;
	th_buf_release(&text);
	return rc;
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

void th_bundle_release(struct th_bundle *bundle)
{
	process_release(&bundle->process);
	free(bundle->root_path);
	free(bundle->hostname);
	free(bundle->domainname);
	for (size_t i = 0; i < bundle->mount_count; i++)
		release_mount(&bundle->mounts[i]);
	free(bundle->mounts);
	for (size_t i = 0; i < bundle->join_count; i++)
		free(bundle->joins[i].path);
	free(bundle->uids.items);
	free(bundle->gids.items);
	th_strings_release(&bundle->masked);
	th_strings_release(&bundle->readonly);
	for (size_t i = 0; i < bundle->device_count; i++)
		free(bundle->devices[i].path);
	free(bundle->devices);
	free(bundle->cgroup_path);
	th_resources_release(&bundle->resources);
	th_seccomp_release(&bundle->seccomp);
	th_strings_release(&bundle->sysctls);
	free(bundle->mount_label);
	th_hooks_release(bundle->hooks);
	th_strings_release(&bundle->annotations);
	prepare(bundle);
}

const char *th_bundle_annotation(
	const struct th_bundle *bundle, const char *key)
{
	size_t len = strlen(key);

	for (size_t i = 0; i < bundle->annotations.count; i++) {
		const char *entry = bundle->annotations.items[i];

		if (strncmp(entry, key, len) == 0 && entry[len] == '=')
			return entry + len + 1;
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
