#include "container/write_bundle.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "container/copy.h"
#include "container/place.h"
#include "oci/bundle.h"
#include "oci/manifest.h"
#include "store/blob.h"
#include "store/image_state.h"

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

static int check_settings(struct th_settings *settings, struct th_error *err)
{
	const struct th_strings *networks = &settings->network_texts;

	for (size_t i = 0; i < settings->mount_texts.count; i++) {
		const char *text = settings->mount_texts.items[i];

		if (!strstr(text, "=volume:"))
			continue;
		th_fail(err, TH_USAGE,
			"the mount \"%.200s\" is a volume, which a bundle does "
			"not have",
			text);
		return th_hint(err, "mount a folder: /data=/srv/data");
	}
	if (!networks->count)
		return th_strings_add(&settings->network_texts, "host")
			? th_fail_memory(err)
			: 0;
	if (networks->count == 1 &&
		(strcmp(networks->items[0], "host") == 0 ||
			strcmp(networks->items[0], "none") == 0))
		return 0;
	th_fail(err, TH_USAGE,
		"a bundle cannot be on the network \"%.60s\", which only "
		"containers of the store are on",
		networks->items[0]);
	return th_hint(err, "use --network host or none");
}

/* ---- config.json ---- */

static const char *text_of(const json_t *object, const char *key)
{
	const char *text = json_string_value(json_object_get(object, key));

	return text ? text : "";
}

static bool lies_below(const json_t *mount, const void *with)
{
	const char *source = text_of(mount, "source");
	size_t len = strlen(with);

	return strncmp(source, with, len) == 0 && source[len] == '/';
}

static bool is_of_type(const json_t *namespace, const void *with)
{
	return strcmp(text_of(namespace, "type"), with) == 0;
}

/* Only the caller's group is mapped. */
static bool is_group_option(const json_t *option, const void *with)
{
	(void)with;
	return strcmp(json_string_value(option), "gid=5") == 0;
}

/* The names of the node that it is used on, whichever that is. */
static void add_names(json_t *mounts)
{
	static const char *const files[] = {"/etc/hosts", "/etc/resolv.conf"};

	for (size_t i = 0; i < COUNT(files); i++)
		json_array_append_new(mounts,
			json_pack("{s:s s:s s:s s:[s s s s]}", "destination",
				files[i], "type", "bind", "source", files[i],
				"options", "bind", "ro", "nosuid", "nodev"));
}

static void change_mounts(json_t *config, const struct th_store *store,
	const struct th_settings *settings)
{
	json_t *mounts = json_object_get(config, "mounts"), *mount;
	size_t i;

	/* Files and volumes of the store are not there elsewhere. */
	th_json_filter(mounts, lies_below, store->root);
	json_array_foreach(mounts, i, mount)
	{
		if (strcmp(text_of(mount, "type"), "cgroup2") == 0) {
			json_object_set_new(
				mount, "type", json_string("cgroup"));
			json_object_set_new(
				mount, "source", json_string("cgroup"));
		}
		if (settings->caller.unprivileged)
			th_json_filter(json_object_get(mount, "options"),
				is_group_option, NULL);
	}
	if (strcmp(settings->network, "host") == 0)
		add_names(mounts);
}

static json_t *map_one(json_int_t inside, unsigned int outside)
{
	return json_pack("[{s:I s:I s:i}]", "containerID", inside, "hostID",
		(json_int_t)outside, "size", 1);
}

/* The caller is the program's user inside, and there is nobody else. */
static void map_caller(json_t *config, const struct th_settings *settings)
{
	json_t *part = json_object_get(config, "linux");
	json_t *user =
		json_object_get(json_object_get(config, "process"), "user");

	json_array_append_new(json_object_get(part, "namespaces"),
		json_pack("{s:s}", "type", "user"));
	json_object_set_new(part, "uidMappings",
		map_one(json_integer_value(json_object_get(user, "uid")),
			settings->caller.uid));
	json_object_set_new(part, "gidMappings",
		map_one(json_integer_value(json_object_get(user, "gid")),
			settings->caller.gid));
	json_object_del(user, "additionalGids");
	json_object_del(json_object_get(part, "resources"), "devices");
}

/* image-spec, conversion.md, "Annotation Fields": what the image says of
 * itself; its labels win. */
static void annotate(json_t *annotations, const json_t *image)
{
	static const char *const members[] = {"author", "created", "os",
		"architecture", "variant", "os.version"};
	const json_t *config = json_object_get(image, "config");
	json_t *value;
	const char *name;
	char key[80], ports[400] = "";
	size_t used = 0;

	for (size_t i = 0; i < COUNT(members); i++) {
		if (!*text_of(image, members[i]))
			continue;
		snprintf(key, sizeof(key), "org.opencontainers.image.%s",
			members[i]);
		json_object_set_new(annotations, key,
			json_string(text_of(image, members[i])));
	}
	if (*text_of(config, "StopSignal"))
		json_object_set_new(annotations,
			"org.opencontainers.image.stopSignal",
			json_string(text_of(config, "StopSignal")));
	json_object_foreach(
		json_object_get(config, "ExposedPorts"), name, value)
	{
		if (used < sizeof(ports))
			used += (size_t)snprintf(ports + used,
				sizeof(ports) - used, "%s%s", used ? "," : "",
				name);
	}
	if (*ports)
		json_object_set_new(annotations,
			"org.opencontainers.image.exposedPorts",
			json_string(ports));
	json_object_foreach(json_object_get(config, "Labels"), name, value)
	{
		if (json_is_string(value))
			json_object_set(annotations, name, value);
	}
}

static int read_image(const struct th_context *context,
	const struct th_container_row *row, json_t **image,
	struct th_error *err)
{
	struct th_image_row *rows = NULL;
	struct th_buf body;
	size_t count = 0;
	int rc = th_image_state_find(
		context->store, row->image, &rows, &count, err);

	th_buf_init(&body, TH_MANIFEST_MAX);
	if (rc == 0 && !count)
		rc = th_fail(err, TH_NOT_FOUND, "the image has gone");
	if (rc == 0)
		rc = th_blob_read(context->store, rows[0].config, &body, err) ||
				th_json_parse(body.data, body.len,
					"the image's configuration", image, err)
			? -1
			: 0;
	th_buf_release(&body);
	th_image_rows_free(rows, count);
	return rc;
}

static int change_config(const struct th_context *context,
	const struct th_container_row *row, const struct th_settings *settings,
	json_t *config, struct th_error *err)
{
	json_t *part = json_object_get(config, "linux");
	json_t *annotations = json_object_get(config, "annotations");
	json_t *image = NULL;

	if (read_image(context, row, &image, err))
		return -1;
	change_mounts(config, context->store, settings);
	json_object_del(part, "cgroupsPath");
	/* Without a name of its own it has the node's. */
	if (!settings->hostname) {
		json_object_del(config, "hostname");
		th_json_filter(
			json_object_get(part, "namespaces"), is_of_type, "uts");
	}
	if (settings->caller.unprivileged)
		map_caller(config, settings);
	json_object_set_new(annotations, "org.opencontainers.image.ref.name",
		json_string(settings->image));
	json_object_del(annotations, "org.tidyhull.container.name");
	json_object_del(annotations, "org.tidyhull.reaper");
	json_object_del(annotations, "org.tidyhull.program-pid");
	annotate(annotations, image);
	json_decref(image);
	return 0;
}

static int write_config(const struct th_context *context,
	const struct th_container_row *row, const struct th_settings *settings,
	int folder, struct th_error *err)
{
	int from = th_container_folder(context, row, err), rc;
	json_t *config = NULL;

	rc = from < 0 ? -1
		      : th_json_read_file(from, "config.json", TH_BUNDLE_MAX,
				&config, err);
	th_close(&from);
	if (rc == 0)
		th_fail(err, TH_FAILED, "the container has no config.json");
	rc = rc == 1 ? change_config(context, row, settings, config, err) : -1;
	if (rc == 0)
		rc = th_json_write_file(
			folder, "config.json", config, 0644, false, err);
	json_decref(config);
	return rc;
}

/* ---- rootfs ---- */

/* What is mounted there has to be a file. */
static void make_target(int etc, const char *name)
{
	struct stat st;
	int fd;

	if (fstatat(etc, name, &st, AT_SYMLINK_NOFOLLOW) == 0) {
		if (!S_ISLNK(st.st_mode) || unlinkat(etc, name, 0))
			return;
	}
	fd = openat(etc, name, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
	th_close(&fd);
}

static void make_targets(int root)
{
	static const char *const names[] = {"hosts", "resolv.conf"};
	int etc;

	if (mkdirat(root, "etc", 0755)) {
		/* It is there, as a rule. */
	}
	etc = openat(
		root, "etc", O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
	for (size_t i = 0; etc >= 0 && i < COUNT(names); i++)
		make_target(etc, names[i]);
	th_close(&etc);
}

static int copy_root(int from, int to, const struct th_settings *settings,
	struct th_error *err)
{
	struct th_copy copy = {.owner = settings->caller.unprivileged
			? TH_OWNER_GIVEN
			: TH_OWNER_KEEP};
	struct stat st;

	if (th_copy_entries(from, to, &copy, err))
		return -1;
	if (strcmp(settings->network, "host") == 0)
		make_targets(to);
	if (fstat(from, &st) || fchmod(to, st.st_mode & 07777) ||
		(!settings->caller.unprivileged &&
			fchown(to, st.st_uid, st.st_gid)))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot set the attributes of the bundle's root");
	return 0;
}

static int write_root(const struct th_context *context,
	const struct th_container_row *row, const struct th_settings *settings,
	int folder, struct th_error *err)
{
	struct th_place place = {.root = -1,
		.lock = -1,
		.container = strdup(row->id),
		.path = strdup("/")};
	int from = -1, to = -1, rc = -1;

	if (!place.container || !place.path)
		th_fail_memory(err);
	else if (th_place_open(context, &place, err) == 0) {
		from = openat(
			place.root, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
		to = mkdirat(folder, "rootfs", 0755)
			? -1
			: openat(folder, "rootfs",
				  O_RDONLY | O_DIRECTORY | O_CLOEXEC);
		rc = from < 0 || to < 0
			? th_fail_sys(err, TH_FAILED, errno,
				  "cannot open the root of the bundle")
			: copy_root(from, to, settings, err);
	}
	th_close(&from);
	th_close(&to);
	th_place_release(context, &place);
	return rc;
}

/* ---- the folder ---- */

static int write_bundle(const struct th_context *context,
	const struct th_container_row *row, const struct th_settings *settings,
	const char *folder, struct th_error *err)
{
	bool made = mkdir(folder, 0755) == 0;
	int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC), rc;

	if (fd < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot create the folder %.300s", folder);
	if (!made && !th_dir_is_empty(fd)) {
		close(fd);
		return th_fail(err, TH_IN_USE, "the folder %.300s is not empty",
			folder);
	}
	/* The root first: what has a config.json is whole. */
	rc = write_root(context, row, settings, fd, err) ||
			write_config(context, row, settings, fd, err)
		? -1
		: 0;
	if (rc) {
		unlinkat(fd, "config.json", 0);
		th_tree_remove(fd, "rootfs", NULL);
	}
	close(fd);
	if (rc && made)
		rmdir(folder);
	return rc;
}

int th_bundle_write(const struct th_context *context,
	struct th_settings *settings, const char *folder,
	struct th_problems *problems, struct th_error *err)
{
	struct th_container_row row;
	struct th_error later = {0}; /* the next command finds it */
	char maker[TH_ID_LENGTH + 1];
	int lock = -1, rc;

	if (check_settings(settings, err))
		return -1;
	/* The root is read from a container that never runs: as one of a build
	 * nobody sees it, and it goes where this process dies. */
	th_id_new(maker);
	if (th_build_lock(context->store, maker, &lock, err) != 1)
		return th_fail(err, TH_FAILED, "cannot make a container");
	settings->build = maker;
	settings->keep = false;
	rc = th_container_create(context, settings, problems, &row, err);
	if (rc == 0) {
		rc = write_bundle(context, &row, settings, folder, err);
		th_container_remove(context, &row, true, &later);
	}
	settings->build = NULL;
	th_build_unlock(context->store, maker, &lock);
	return rc;
}
