#include "oci/bundle.h"

#include <inttypes.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include "base/json.h"

/* Which members an object may have: those that are carried out, and those
 * that are known but not supported. */
struct shape {
	const char *where;
	const char *const *done;
	const char *const *refused;
};

static bool is_in(const char *name, const char *const *list)
{
	for (; list && *list; list++) {
		if (strcmp(name, *list) == 0)
			return true;
	}
	return false;
}

static int check_shape(
	const json_t *object, const struct shape *shape, struct th_error *err)
{
	const char *key;
	void *iter = json_object_iter((json_t *)(uintptr_t)object);

	for (; iter; iter = json_object_iter_next(
			     (json_t *)(uintptr_t)object, iter)) {
		key = json_object_iter_key(iter);
		if (is_in(key, shape->done) ||
			json_is_null(json_object_iter_value(iter)))
			continue;
		if (is_in(key, shape->refused))
			return th_fail(err, TH_NOT_POSSIBLE,
				"%s asks for \"%s\", which is not supported",
				shape->where, key);
		return th_fail(err, TH_FAILED,
			"%s has \"%.100s\", which the specification does not "
			"know",
			shape->where, key);
	}
	return 0;
}

static int copy_member(const json_t *object, const char *key, const char *where,
	char **copy, struct th_error *err)
{
	const char *text;
	int rc = th_json_string(object, key, where, &text, err);

	if (rc != 1)
		return rc;
	*copy = strdup(text);
	return *copy ? 1 : th_fail_memory(err);
}

static int read_id(const json_t *object, const char *key, const char *where,
	uint32_t *id, struct th_error *err)
{
	int64_t value = 0;
	int rc = th_json_int(object, key, where, &value, err);

	if (rc == 1 && (value < 0 || value >= UINT32_MAX))
		return th_fail(err, TH_FAILED,
			"\"%s\" in %s is out of range: %" PRId64, key, where,
			value);
	if (rc == 1)
		*id = (uint32_t)value;
	return rc;
}

static int read_user(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {
		"uid", "gid", "umask", "additionalGids", NULL};
	static const struct shape shape = {"process.user", done, NULL};
	json_t *user, *groups, *item;
	uint32_t mask = 0;
	size_t i;
	int rc;

	rc = th_json_object(process, "user", "process", &user, err);
	if (rc != 1)
		return rc;
	if (check_shape(user, &shape, err) ||
		read_id(user, "uid", shape.where, &out->uid, err) < 0 ||
		read_id(user, "gid", shape.where, &out->gid, err) < 0)
		return -1;
	rc = read_id(user, "umask", shape.where, &mask, err);
	if (rc < 0)
		return -1;
	out->has_umask = rc == 1;
	out->umask = mask & 0777;
	rc = th_json_array(user, "additionalGids", shape.where, &groups, err);
	if (rc != 1)
		return rc;
	if (json_array_size(groups) > 65536)
		return th_fail(err, TH_FAILED, "too many additionalGids");
	out->groups = calloc(json_array_size(groups) + 1, sizeof(gid_t));
	if (!out->groups)
		return th_fail_memory(err);
	json_array_foreach(groups, i, item)
	{
		json_int_t gid = json_integer_value(item);

		if (!json_is_integer(item) || gid < 0 || gid >= UINT32_MAX)
			return th_fail(err, TH_FAILED,
				"item %zu of additionalGids is no group ID", i);
		out->groups[out->group_count++] = (gid_t)gid;
	}
	return 1;
}

static int read_capability_set(const json_t *object, const char *key,
	uint64_t *set, struct th_error *err)
{
	struct th_strings names = {0};
	int rc;

	rc = th_json_strings(object, key, "process.capabilities", &names, err);
	for (size_t i = 0; rc == 1 && i < names.count; i++) {
		int number = th_capability_number(names.items[i]);

		if (number < 0)
			rc = th_fail(err, TH_FAILED,
				"process.capabilities names \"%.60s\", which "
				"is no capability",
				names.items[i]);
		else
			*set |= (uint64_t)1 << number;
	}
	th_strings_release(&names);
	return rc;
}

static int read_capabilities(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"bounding", "effective",
		"inheritable", "permitted", "ambient", NULL};
	static const struct shape shape = {"process.capabilities", done, NULL};
	json_t *sets;
	int rc;

	rc = th_json_object(process, "capabilities", "process", &sets, err);
	if (rc != 1)
		return rc;
	if (check_shape(sets, &shape, err) ||
		read_capability_set(sets, "bounding", &out->bounding, err) <
			0 ||
		read_capability_set(sets, "effective", &out->effective, err) <
			0 ||
		read_capability_set(
			sets, "inheritable", &out->inheritable, err) < 0 ||
		read_capability_set(sets, "permitted", &out->permitted, err) <
			0 ||
		read_capability_set(sets, "ambient", &out->ambient, err) < 0)
		return -1;
	return 1;
}

static int rlimit_number(const char *name)
{
	static const struct {
		const char *name;
		int number;
	} limits[] = {{"RLIMIT_AS", RLIMIT_AS}, {"RLIMIT_CORE", RLIMIT_CORE},
		{"RLIMIT_CPU", RLIMIT_CPU}, {"RLIMIT_DATA", RLIMIT_DATA},
		{"RLIMIT_FSIZE", RLIMIT_FSIZE}, {"RLIMIT_LOCKS", RLIMIT_LOCKS},
		{"RLIMIT_MEMLOCK", RLIMIT_MEMLOCK},
		{"RLIMIT_MSGQUEUE", RLIMIT_MSGQUEUE},
		{"RLIMIT_NICE", RLIMIT_NICE}, {"RLIMIT_NOFILE", RLIMIT_NOFILE},
		{"RLIMIT_NPROC", RLIMIT_NPROC}, {"RLIMIT_RSS", RLIMIT_RSS},
		{"RLIMIT_RTPRIO", RLIMIT_RTPRIO},
		{"RLIMIT_RTTIME", RLIMIT_RTTIME},
		{"RLIMIT_SIGPENDING", RLIMIT_SIGPENDING},
		{"RLIMIT_STACK", RLIMIT_STACK}};

	for (size_t i = 0; i < sizeof(limits) / sizeof(*limits); i++) {
		if (strcmp(limits[i].name, name) == 0)
			return limits[i].number;
	}
	return -1;
}

static int read_rlimits(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"type", "hard", "soft", NULL};
	static const struct shape shape = {"process.rlimits", done, NULL};
	json_t *array, *item;
	size_t i;
	int rc;

	rc = th_json_array(process, "rlimits", "process", &array, err);
	if (rc != 1)
		return rc;
	out->rlimits =
		calloc(json_array_size(array) + 1, sizeof(*out->rlimits));
	if (!out->rlimits)
		return th_fail_memory(err);
	json_array_foreach(array, i, item)
	{
		struct th_rlimit *limit = &out->rlimits[out->rlimit_count];
		const char *type = NULL;
		int64_t hard = 0, soft = 0;

		if (!json_is_object(item))
			return th_fail(err, TH_FAILED,
				"process.rlimits has an item that is no "
				"object");
		if (check_shape(item, &shape, err) ||
			th_json_string(item, "type", shape.where, &type, err) <
				0 ||
			th_json_int(item, "hard", shape.where, &hard, err) <
				0 ||
			th_json_int(item, "soft", shape.where, &soft, err) < 0)
			return -1;
		limit->resource = type ? rlimit_number(type) : -1;
		if (limit->resource < 0)
			return th_fail(err, TH_FAILED,
				"process.rlimits has an unknown type \"%.60s\"",
				type ? type : "");
		limit->limit.rlim_max = (rlim_t)hard;
		limit->limit.rlim_cur = (rlim_t)soft;
		out->rlimit_count++;
	}
	return 1;
}

static int read_process(
	const json_t *doc, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"terminal", "user", "args", "env",
		"cwd", "capabilities", "noNewPrivileges", "rlimits",
		"oomScoreAdj", NULL};
	static const char *const refused[] = {"consoleSize", "commandLine",
		"apparmorProfile", "selinuxLabel", "ioPriority", "scheduler",
		"execCPUAffinity", NULL};
	static const struct shape shape = {"process", done, refused};
	json_t *process;
	int64_t score = 0;
	int rc;

	if (th_json_object(doc, "process", "config.json", &process, err) != 1)
		return th_fail(err, TH_FAILED, "config.json has no process");
	if (check_shape(process, &shape, err) ||
		th_json_bool(process, "terminal", "process", &out->terminal,
			err) < 0 ||
		th_json_bool(process, "noNewPrivileges", "process",
			&out->no_new_privileges, err) < 0 ||
		th_json_strings(process, "args", "process", &out->args, err) <
			0 ||
		th_json_strings(process, "env", "process", &out->env, err) <
			0 ||
		copy_member(process, "cwd", "process", &out->cwd, err) < 0 ||
		read_user(process, out, err) < 0 ||
		read_capabilities(process, out, err) < 0 ||
		read_rlimits(process, out, err) < 0)
		return -1;
	rc = th_json_int(process, "oomScoreAdj", "process", &score, err);
	if (rc < 0)
		return -1;
	out->has_oom_score = rc == 1;
	out->oom_score_adj = (int)score;
	if (score < -1000 || score > 1000)
		return th_fail(
			err, TH_FAILED, "process.oomScoreAdj is out of range");
	if (out->args.count == 0)
		return th_fail(err, TH_FAILED, "process.args is empty");
	if (!out->cwd || out->cwd[0] != '/')
		return th_fail(
			err, TH_FAILED, "process.cwd is not an absolute path");
	return 0;
}

static int read_root(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {"path", "readonly", NULL};
	static const struct shape shape = {"root", done, NULL};
	json_t *root;

	if (th_json_object(doc, "root", "config.json", &root, err) != 1)
		return th_fail(err, TH_FAILED, "config.json has no root");
	if (check_shape(root, &shape, err) ||
		copy_member(root, "path", "root", &bundle->root_path, err) <
			0 ||
		th_json_bool(root, "readonly", "root", &bundle->root_readonly,
			err) < 0)
		return -1;
	if (!bundle->root_path || !*bundle->root_path)
		return th_fail(err, TH_FAILED, "root has no path");
	return 0;
}

static int read_mounts(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {
		"destination", "source", "type", "options", NULL};
	static const char *const refused[] = {
		"uidMappings", "gidMappings", NULL};
	static const struct shape shape = {"mounts", done, refused};
	json_t *array, *item;
	size_t i;
	int rc;

	rc = th_json_array(doc, "mounts", "config.json", &array, err);
	if (rc != 1)
		return rc;
	bundle->mounts =
		calloc(json_array_size(array) + 1, sizeof(*bundle->mounts));
	if (!bundle->mounts)
		return th_fail_memory(err);
	json_array_foreach(array, i, item)
	{
		struct th_mount *mount = &bundle->mounts[bundle->mount_count++];

		if (!json_is_object(item))
			return th_fail(err, TH_FAILED,
				"mounts has an item that is no object");
		if (check_shape(item, &shape, err) ||
			copy_member(item, "destination", "mounts",
				&mount->target, err) < 0 ||
			copy_member(item, "source", "mounts", &mount->source,
				err) < 0 ||
			copy_member(item, "type", "mounts", &mount->type, err) <
				0 ||
			th_json_strings(item, "options", "mounts",
				&mount->options, err) < 0)
			return -1;
		if (!mount->target || mount->target[0] != '/')
			return th_fail(err, TH_FAILED,
				"a mount's destination is not an absolute "
				"path");
	}
	return 1;
}

static int read_namespaces(const json_t *linux_part, struct th_bundle *bundle,
	struct th_error *err)
{
	static const char *const done[] = {"type", NULL};
	static const char *const refused[] = {"path", NULL};
	static const struct shape shape = {"linux.namespaces", done, refused};
	static const struct {
		const char *name;
		int flag;
	} kinds[] = {{"pid", CLONE_NEWPID}, {"network", CLONE_NEWNET},
		{"mount", CLONE_NEWNS}, {"ipc", CLONE_NEWIPC},
		{"uts", CLONE_NEWUTS}, {"cgroup", CLONE_NEWCGROUP}};
	json_t *array, *item;
	size_t i, k;
	int rc;

	rc = th_json_array(linux_part, "namespaces", "linux", &array, err);
	if (rc != 1)
		return rc;
	json_array_foreach(array, i, item)
	{
		const char *type = NULL;

		if (!json_is_object(item))
			return th_fail(err, TH_FAILED,
				"linux.namespaces has an item that is no "
				"object");
		if (check_shape(item, &shape, err) ||
			th_json_string(item, "type", shape.where, &type, err) <
				0)
			return -1;
		for (k = 0; k < sizeof(kinds) / sizeof(*kinds); k++) {
			if (type && strcmp(type, kinds[k].name) == 0)
				break;
		}
		if (k == sizeof(kinds) / sizeof(*kinds))
			return th_fail(err, TH_NOT_POSSIBLE,
				"linux.namespaces asks for \"%.60s\", which is "
				"not supported",
				type ? type : "");
		bundle->namespaces |= kinds[k].flag;
	}
	return 1;
}

static int read_device(
	const json_t *item, struct th_device *device, struct th_error *err)
{
	static const char *const done[] = {"path", "type", "major", "minor",
		"fileMode", "uid", "gid", NULL};
	static const struct shape shape = {"linux.devices", done, NULL};
	const char *type = NULL;
	int64_t major_id = 0, minor_id = 0, mode = 0666;

	if (!json_is_object(item))
		return th_fail(err, TH_FAILED,
			"linux.devices has an item that is no object");
	if (check_shape(item, &shape, err) ||
		copy_member(item, "path", shape.where, &device->path, err) <
			0 ||
		th_json_string(item, "type", shape.where, &type, err) < 0 ||
		th_json_int(item, "major", shape.where, &major_id, err) < 0 ||
		th_json_int(item, "minor", shape.where, &minor_id, err) < 0 ||
		th_json_int(item, "fileMode", shape.where, &mode, err) < 0 ||
		read_id(item, "uid", shape.where, &device->uid, err) < 0 ||
		read_id(item, "gid", shape.where, &device->gid, err) < 0)
		return -1;
	if (!device->path || strncmp(device->path, "/dev/", 5) != 0)
		return th_fail(
			err, TH_FAILED, "a device's path is not below /dev");
	if (!type || strlen(type) != 1 || !strchr("cubp", *type))
		return th_fail(err, TH_FAILED,
			"a device's type is none of c, u, b and p");
	device->mode = (mode_t)(mode & 07777) |
		(*type == 'b'		       ? S_IFBLK
				: *type == 'p' ? S_IFIFO
					       : S_IFCHR);
	device->dev = makedev((unsigned int)major_id, (unsigned int)minor_id);
	return 0;
}

static int read_devices(const json_t *linux_part, struct th_bundle *bundle,
	struct th_error *err)
{
	json_t *array, *item;
	size_t i;
	int rc;

	rc = th_json_array(linux_part, "devices", "linux", &array, err);
	if (rc != 1)
		return rc;
	bundle->devices =
		calloc(json_array_size(array) + 1, sizeof(*bundle->devices));
	if (!bundle->devices)
		return th_fail_memory(err);
	json_array_foreach(array, i, item)
	{
		if (read_device(item, &bundle->devices[bundle->device_count++],
			    err))
			return -1;
	}
	return 1;
}

static int read_linux(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {"namespaces", "devices",
		"cgroupsPath", "maskedPaths", "readonlyPaths", NULL};
	static const char *const refused[] = {"uidMappings", "gidMappings",
		"resources", "seccomp", "sysctl", "rootfsPropagation",
		"mountLabel", "personality", "intelRdt", "timeOffsets", NULL};
	static const struct shape shape = {"linux", done, refused};
	json_t *part;
	int rc;

	rc = th_json_object(doc, "linux", "config.json", &part, err);
	if (rc != 1)
		return rc;
	if (check_shape(part, &shape, err) ||
		read_namespaces(part, bundle, err) < 0 ||
		read_devices(part, bundle, err) < 0 ||
		copy_member(part, "cgroupsPath", "linux", &bundle->cgroup_path,
			err) < 0 ||
		th_json_strings(part, "maskedPaths", "linux", &bundle->masked,
			err) < 0 ||
		th_json_strings(part, "readonlyPaths", "linux",
			&bundle->readonly, err) < 0)
		return -1;
	return 1;
}

static int read_top(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {"ociVersion", "process", "root",
		"hostname", "domainname", "mounts", "linux", "annotations",
		NULL};
	static const char *const refused[] = {
		"hooks", "solaris", "windows", "vm", "zos", NULL};
	static const struct shape shape = {"config.json", done, refused};
	const char *version = NULL;
	json_t *annotations;

	if (check_shape(doc, &shape, err) ||
		th_json_string(doc, "ociVersion", shape.where, &version, err) <
			0)
		return -1;
	if (!version || strncmp(version, "1.", 2) != 0)
		return th_fail(err, TH_FAILED,
			"config.json has the version \"%.30s\"; 1.x is needed",
			version ? version : "");
	if (read_process(doc, &bundle->process, err) ||
		read_root(doc, bundle, err) ||
		copy_member(doc, "hostname", shape.where, &bundle->hostname,
			err) < 0 ||
		copy_member(doc, "domainname", shape.where, &bundle->domainname,
			err) < 0 ||
		read_mounts(doc, bundle, err) < 0 ||
		read_linux(doc, bundle, err) < 0 ||
		th_json_object(
			doc, "annotations", shape.where, &annotations, err) < 0)
		return -1;
	if (!(bundle->namespaces & CLONE_NEWNS))
		return th_fail(err, TH_NOT_POSSIBLE,
			"config.json asks for no mount namespace of its own, "
			"which is not supported");
	return 0;
}

int th_bundle_parse(const char *data, size_t len, struct th_bundle *bundle,
	struct th_error *err)
{
	json_t *doc = NULL;
	int rc;

	memset(bundle, 0, sizeof(*bundle));
	if (th_json_parse(data, len, "config.json", &doc, err))
		return -1;
	rc = read_top(doc, bundle, err);
	json_decref(doc);
	if (rc)
		th_bundle_release(bundle);
	return rc;
}

int th_bundle_read(int folder, struct th_bundle *bundle, struct th_error *err)
{
	json_t *doc = NULL;
	int rc;

	memset(bundle, 0, sizeof(*bundle));
	rc = th_json_read_file(folder, "config.json", TH_BUNDLE_MAX, &doc, err);
	if (rc == 0)
		return th_fail(
			err, TH_NOT_FOUND, "the bundle has no config.json");
	if (rc < 0)
		return -1;
	rc = read_top(doc, bundle, err);
	json_decref(doc);
	if (rc)
		th_bundle_release(bundle);
	return rc;
}

void th_bundle_release(struct th_bundle *bundle)
{
	struct th_process *process = &bundle->process;

	free(process->groups);
	free(process->rlimits);
	free(process->cwd);
	th_strings_release(&process->args);
	th_strings_release(&process->env);
	free(bundle->root_path);
	free(bundle->hostname);
	free(bundle->domainname);
	for (size_t i = 0; i < bundle->mount_count; i++) {
		free(bundle->mounts[i].target);
		free(bundle->mounts[i].source);
		free(bundle->mounts[i].type);
		th_strings_release(&bundle->mounts[i].options);
	}
	free(bundle->mounts);
	th_strings_release(&bundle->masked);
	th_strings_release(&bundle->readonly);
	for (size_t i = 0; i < bundle->device_count; i++)
		free(bundle->devices[i].path);
	free(bundle->devices);
	free(bundle->cgroup_path);
	memset(bundle, 0, sizeof(*bundle));
}
