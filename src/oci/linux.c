/* The member "linux" of config.json (config-linux.md). */
#include <linux/sched.h>
#include <sched.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mount.h>
#include <sys/personality.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include "oci/parts.h"

static int read_id_map(const json_t *item, void *out, struct th_error *err)
{
	struct th_id_map *map = out;

	return read_id(item, "containerID", "an ID mapping", &map->inside,
		       err) < 0 ||
			read_id(item, "hostID", "an ID mapping", &map->outside,
				err) < 0 ||
			read_id(item, "size", "an ID mapping", &map->size,
				err) < 0
		? -1
		: 0;
}

int read_id_maps(const json_t *object, const char *key, const char *where,
	struct th_id_maps *maps, struct th_error *err)
{
	static const char *const done[] = {
		"containerID", "hostID", "size", NULL};
	const struct shape shape = {where, done, NULL};
	void *items = NULL;
	int rc = read_items(object, key, &shape, sizeof(struct th_id_map),
		&items, &maps->count, read_id_map, err);

	maps->items = items;
	/* The kernel's bound (user_namespaces(7)). */
	if (rc == 1 && maps->count > 340)
		return th_fail(
			err, TH_FAILED, "%s has more than 340 items", key);
	return rc;
}

static int add_namespace(struct th_bundle *bundle, int flag, const char *type,
	char *path, struct th_error *err)
{
	for (size_t i = 0; i < bundle->join_count; i++) {
		if (bundle->joins[i].flag == flag)
			flag = 0;
	}
	if (!flag || bundle->namespaces & flag)
		return th_fail(err, TH_FAILED,
			"linux.namespaces has \"%s\" twice", type);
	if (!path) {
		bundle->namespaces |= flag;
		return 0;
	}
	if (path[0] != '/')
		return th_fail(err, TH_FAILED,
			"the path of a namespace is not absolute: %.200s",
			path);
	bundle->joins[bundle->join_count].flag = flag;
	bundle->joins[bundle->join_count].path = strdup(path);
	return bundle->joins[bundle->join_count++].path ? 0
							: th_fail_memory(err);
}

const char *const th_namespace_types[] = {"pid", "network", "mount", "ipc",
	"uts", "user", "cgroup", "time", NULL};

static const int namespace_flags[] = {CLONE_NEWPID, CLONE_NEWNET, CLONE_NEWNS,
	CLONE_NEWIPC, CLONE_NEWUTS, CLONE_NEWUSER, CLONE_NEWCGROUP,
	CLONE_NEWTIME};

const char *th_namespace_type(int flag)
{
	for (size_t i = 0; th_namespace_types[i]; i++) {
		if (namespace_flags[i] == flag)
			return th_namespace_types[i];
	}
	return "";
}

static int read_namespaces(const json_t *linux_part, struct th_bundle *bundle,
	struct th_error *err)
{
	static const char *const done[] = {"type", "path", NULL};
	static const struct shape shape = {"linux.namespaces", done, NULL};
	json_t *array, *item;
	size_t i;
	int rc;

	rc = th_json_array(linux_part, "namespaces", "linux", &array, err);
	if (rc != 1)
		return rc;
	json_array_foreach(array, i, item)
	{
		const char *type = NULL;
		char *path = NULL;
		int kind;

		if (!json_is_object(item))
			return th_fail(err, TH_FAILED,
				"linux.namespaces has an item that is not an "
				"object");
		if (shape_check(item, &shape, err) ||
			th_json_string(item, "type", shape.where, &type, err) <
				0 ||
			read_copy(item, "path", shape.where, &path, err) < 0)
			return -1;
		kind = word_index(type, th_namespace_types);
		rc = kind < 0 ? th_fail(err, TH_NOT_POSSIBLE,
					"linux.namespaces asks for \"%.60s\", "
					"which is not supported",
					type ? type : "")
			      : add_namespace(bundle, namespace_flags[kind],
					type, path, err);
		free(path);
		if (rc)
			return -1;
	}
	return 1;
}

static int read_device(const json_t *item, void *out, struct th_error *err)
{
	static const char where[] = "linux.devices";
	struct th_device *device = out;
	const char *type = NULL;
	int64_t major_id = 0, minor_id = 0, mode = 0666;

	if (read_copy(item, "path", where, &device->path, err) < 0 ||
		th_json_string(item, "type", where, &type, err) < 0 ||
		read_number(item, "major", where, 0, UINT32_MAX, &major_id,
			err) < 0 ||
		read_number(item, "minor", where, 0, UINT32_MAX, &minor_id,
			err) < 0 ||
		th_json_int(item, "fileMode", where, &mode, err) < 0 ||
		read_id(item, "uid", where, &device->uid, err) < 0 ||
		read_id(item, "gid", where, &device->gid, err) < 0)
		return -1;
	if (!device->path || device->path[0] != '/' || !device->path[1])
		return th_fail(
			err, TH_FAILED, "a device's path is not absolute");
	if (!type || strlen(type) != 1 || !strchr("cubp", *type))
		return th_fail(
			err, TH_FAILED, "a device's type must be c, u, b or p");
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
	static const char *const done[] = {"path", "type", "major", "minor",
		"fileMode", "uid", "gid", NULL};
	static const struct shape shape = {"linux.devices", done, NULL};
	void *items = NULL;
	int rc;

	rc = read_items(linux_part, "devices", &shape, sizeof(struct th_device),
		&items, &bundle->device_count, read_device, err);
	bundle->devices = items;
	return rc;
}

static int read_personality(const json_t *linux_part, struct th_bundle *bundle,
	struct th_error *err)
{
	static const char *const done[] = {"domain", NULL};
	/* The specification defines no flag. */
	static const char *const refused[] = {"flags", NULL};
	static const struct shape shape = {"linux.personality", done, refused};
	static const char *const domains[] = {"LINUX", "LINUX32", NULL};
	static const int values[] = {PER_LINUX, PER_LINUX32};
	const char *domain = NULL;
	json_t *object;
	int kind, rc;

	bundle->personality = -1;
	rc = th_json_object(linux_part, "personality", "linux", &object, err);
	if (rc != 1)
		return rc;
	if (json_array_size(json_object_get(object, "flags")) == 0)
		json_object_del(object, "flags");
	if (shape_check(object, &shape, err) ||
		th_json_string(object, "domain", shape.where, &domain, err) < 0)
		return -1;
	kind = word_index(domain, domains);
	if (kind < 0)
		return th_fail(err, TH_FAILED,
			"linux.personality has the unknown domain \"%.40s\"",
			domain ? domain : "");
	bundle->personality = values[kind];
	return 1;
}

static int read_propagation(const json_t *linux_part, struct th_bundle *bundle,
	struct th_error *err)
{
	static const char *const words[] = {"private", "rprivate", "slave",
		"rslave", "shared", "rshared", "unbindable", "runbindable",
		NULL};
	static const unsigned long flags[] = {
		MS_PRIVATE, MS_SLAVE, MS_SHARED, MS_UNBINDABLE};
	const char *text;
	int kind, rc;

	rc = th_json_string(
		linux_part, "rootfsPropagation", "linux", &text, err);
	if (rc != 1)
		return rc;
	kind = word_index(text, words);
	if (kind < 0)
		return th_fail(err, TH_FAILED,
			"linux.rootfsPropagation is \"%.40s\"; it must be "
			"private, slave, shared or unbindable",
			text);
	bundle->propagation = flags[kind / 2] | (kind % 2 ? MS_REC : 0);
	return 1;
}

/* config-linux.md, "Offset for Time Namespace". */
static int read_time_offsets(const json_t *linux_part, struct th_bundle *bundle,
	struct th_error *err)
{
	static const char *const clocks[] = {"monotonic", "boottime"};
	json_t *offsets, *one;
	struct th_buf text;
	const char *clock;
	int rc = th_json_object(
		linux_part, "timeOffsets", "linux", &offsets, err);

	if (rc != 1 || !json_object_size(offsets))
		return rc < 0 ? -1 : 0;
	if (!(bundle->namespaces & CLONE_NEWTIME))
		return th_fail(err, TH_FAILED,
			"linux.timeOffsets needs a new time namespace");
	th_buf_init(&text, 400);
	json_object_foreach(offsets, clock, one)
	{
		int64_t seconds = 0, nanoseconds = 0;

		if (strcmp(clock, clocks[0]) != 0 &&
			strcmp(clock, clocks[1]) != 0)
			continue;
		if (!json_is_object(one)) {
			rc = th_fail(err, TH_FAILED,
				"linux.timeOffsets.%s is not an object", clock);
			break;
		}
		if (th_json_int(one, "secs", "linux.timeOffsets", &seconds,
			    err) < 0 ||
			read_number(one, "nanosecs", "linux.timeOffsets", 0,
				999999999, &nanoseconds, err) < 0) {
			rc = -1;
			break;
		}
		th_buf_addf(&text, "%s %lld %lld\n", clock, (long long)seconds,
			(long long)nanoseconds);
	}
	if (rc < 0)
		th_buf_release(&text);
	else
		bundle->time_offsets = th_buf_take(&text);
	return rc < 0 ? -1 : 1;
}

/* A sysctl must belong to a namespace that is the container's own: elsewhere
 * it would change the host. */
static int check_sysctl(
	const struct th_bundle *bundle, const char *entry, struct th_error *err)
{
	static const char *const ipc[] = {"kernel.msgmax", "kernel.msgmnb",
		"kernel.msgmni", "kernel.sem", "kernel.shmall", "kernel.shmmax",
		"kernel.shmmni", "kernel.shm_rmid_forced", NULL};
	static const char *const uts[] = {
		"kernel.hostname", "kernel.domainname", NULL};
	size_t len = strcspn(entry, "=");
	char name[128];
	int need = 0;

	if (len >= sizeof(name) || strstr(entry, "..") || entry[0] == '/')
		return th_fail(err, TH_FAILED,
			"linux.sysctl has the invalid key \"%.100s\"", entry);
	memcpy(name, entry, len);
	name[len] = '\0';
	for (size_t i = 0; i < len; i++) {
		/* Both separators are in use; a dot may belong to a device. */
		if (name[i] == '/')
			name[i] = '.';
	}
	if (strncmp(name, "net.", 4) == 0)
		need = CLONE_NEWNET;
	else if (word_index(name, ipc) >= 0 ||
		strncmp(name, "fs.mqueue.", 10) == 0)
		need = CLONE_NEWIPC;
	else if (word_index(name, uts) >= 0)
		need = CLONE_NEWUTS;
	else if (strncmp(name, "user.", 5) == 0)
		need = CLONE_NEWUSER;
	if (!need)
		return th_fail(err, TH_NOT_POSSIBLE,
			"linux.sysctl sets \"%s\", which would change the "
			"whole host",
			name);
	if (!(th_bundle_own_namespaces(bundle) & need))
		return th_fail(err, TH_NOT_POSSIBLE,
			"linux.sysctl sets \"%s\", but the container shares "
			"that namespace with the host",
			name);
	return 0;
}

#define CGROUP_PATH_MAX 480

static int check_absolute(
	const struct th_strings *paths, const char *key, struct th_error *err)
{
	for (size_t i = 0; i < paths->count; i++) {
		if (paths->items[i][0] != '/')
			return th_fail(err, TH_FAILED,
				"linux.%s has \"%.200s\", which is not "
				"absolute",
				key, paths->items[i]);
	}
	return 0;
}

/* A group of the container's own: neither the hierarchy's top, whose processes
 * are the host's, nor a way up out of the part that is this user's. */
static int check_cgroup_path(const char *path, struct th_error *err)
{
	bool named = false;

	for (const char *at = path ? path : "x"; *at;) {
		size_t len = strcspn(at, "/");

		if ((len == 1 && *at == '.') ||
			(len == 2 && strncmp(at, "..", 2) == 0)) {
			named = false;
			break;
		}
		named |= len > 0;
		at += len + (at[len] == '/');
	}
	/* Within the program "//" leads to other users' parts. */
	if (named &&
		(!path ||
			(strncmp(path, "//", 2) != 0 &&
				strlen(path) <= CGROUP_PATH_MAX)))
		return 0;
	return th_fail(err, TH_FAILED,
		"linux.cgroupsPath \"%s\" does not name a control group of the "
		"container's own",
		path);
}

int read_linux(
	const json_t *doc, struct th_bundle *bundle, struct th_error *err)
{
	static const char *const done[] = {"namespaces", "devices",
		"cgroupsPath", "maskedPaths", "readonlyPaths", "uidMappings",
		"gidMappings", "resources", "seccomp", "sysctl",
		"rootfsPropagation", "mountLabel", "personality", NULL};
	static const char *const refused[] = {
		"intelRdt", "netDevices", "memoryPolicy", NULL};
	static const struct shape shape = {"linux", done, refused};
	json_t *part;
	int rc;

	rc = th_json_object(doc, "linux", "config.json", &part, err);
	if (rc != 1)
		return rc;
	if (shape_check(part, &shape, err) ||
		read_namespaces(part, bundle, err) < 0 ||
		read_id_maps(part, "uidMappings", "linux.uidMappings",
			&bundle->uids, err) < 0 ||
		read_id_maps(part, "gidMappings", "linux.gidMappings",
			&bundle->gids, err) < 0 ||
		read_devices(part, bundle, err) < 0 ||
		read_copy(part, "cgroupsPath", "linux", &bundle->cgroup_path,
			err) < 0 ||
		check_cgroup_path(bundle->cgroup_path, err) ||
		read_copy(part, "mountLabel", "linux", &bundle->mount_label,
			err) < 0 ||
		th_json_strings(part, "maskedPaths", "linux", &bundle->masked,
			err) < 0 ||
		th_json_strings(part, "readonlyPaths", "linux",
			&bundle->readonly, err) < 0 ||
		check_absolute(&bundle->masked, "maskedPaths", err) ||
		check_absolute(&bundle->readonly, "readonlyPaths", err) ||
		read_map(part, "sysctl", "linux", &bundle->sysctls, err) < 0 ||
		read_personality(part, bundle, err) < 0 ||
		read_propagation(part, bundle, err) < 0 ||
		th_resources_parse(part, &bundle->resources, err) < 0 ||
		th_seccomp_parse(part, &bundle->seccomp, err) < 0 ||
		read_time_offsets(part, bundle, err) < 0)
		return -1;
	if (bundle->mount_label && !*bundle->mount_label) {
		free(bundle->mount_label);
		bundle->mount_label = NULL;
	}
	for (size_t i = 0; i < bundle->sysctls.count; i++) {
		if (check_sysctl(bundle, bundle->sysctls.items[i], err))
			return -1;
	}
	if ((bundle->uids.count || bundle->gids.count) &&
		!(bundle->namespaces & CLONE_NEWUSER))
		return th_fail(err, TH_FAILED,
			"linux has ID mappings, but does not create a user "
			"namespace");
	return 1;
}
