#include "container/make_bundle.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <linux/capability.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "base/path.h"
#include "container/bundle_files.h"
#include "container/bundle_linux.h"
#include "container/filter_rules.h"
#include "container/share.h"
#include "container/user.h"
#include "container/plan.h"
#include "oci/bundle.h"
#include "sandbox/filter.h"
#include "network/network.h"
#include "sandbox/idmap.h"

#define PATH_DEFAULT                                                           \
	"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
#define ACCOUNTS_MAX (4u << 20)
#define FILES_MAX 524288

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

int th_bundle_command(const struct th_settings *settings,
	const struct th_image_config *image, struct th_strings *command,
	struct th_error *err)
{
	const struct th_strings *arguments =
		settings->command.count ? &settings->command : &image->command;
	int rc = 0;

	if (settings->entrypoint) {
		if (*settings->entrypoint)
			rc = th_strings_add(command, settings->entrypoint);
		/* Another program does not get the image's arguments. */
		arguments = &settings->command;
	} else {
		for (size_t i = 0; i < image->entrypoint.count; i++)
			rc |= th_strings_add(
				command, image->entrypoint.items[i]);
	}
	for (size_t i = 0; i < arguments->count; i++)
		rc |= th_strings_add(command, arguments->items[i]);
	if (rc)
		return th_fail_memory(err);
	if (command->count)
		return 0;
	th_fail(err, TH_USAGE,
		"no command was given, and the image does not define one");
	return th_hint(err, "give a command after --, for example: -- sh");
}

static json_t *strings(const char *const *list, size_t count)
{
	json_t *array = json_array();

	for (size_t i = 0; i < count; i++)
		json_array_append_new(array, json_string(list[i]));
	return array;
}

/* Later ones win: our defaults, the image, the settings. */
static json_t *make_env(const struct th_settings *settings,
	const struct th_image_config *image, const struct th_user *user)
{
	struct th_strings env = {0};
	char home[300];
	json_t *array;
	int rc;

	snprintf(home, sizeof(home), "HOME=%s", user->home);
	rc = th_strings_set(&env, PATH_DEFAULT) | th_strings_set(&env, home);
	if (settings->terminal)
		rc |= th_strings_set(&env, "TERM=xterm");
	for (size_t i = 0; i < image->env.count; i++)
		rc |= th_strings_set(&env, image->env.items[i]);
	for (size_t i = 0; i < settings->env.count; i++)
		rc |= th_strings_set(&env, settings->env.items[i]);
	array = rc ? NULL : th_json_from_strings(&env);
	th_strings_release(&env);
	return array;
}

static json_t *list_capabilities(uint64_t set)
{
	json_t *list = json_array();

	for (int i = 0; th_capability_name(i); i++) {
		if (set & (uint64_t)1 << i)
			json_array_append_new(
				list, json_string(th_capability_name(i)));
	}
	return list;
}

/* What a program's file may bring along: nobody has it otherwise. The kernel
 * does not execute a file that cannot have what it is marked with, and that is
 * how distributions install ping (capabilities(7), "File capabilities"). */
static uint64_t brought_by_files(const struct th_settings *settings)
{
	for (size_t i = 0; i < settings->capabilities.count; i++) {
		if (strcmp(settings->capabilities.items[i], "-NET_RAW") == 0)
			return 0;
	}
	return (uint64_t)1 << CAP_NET_RAW;
}

static json_t *make_capabilities(
	const struct th_settings *settings, const struct th_user *user)
{
	uint64_t set = th_default_capabilities(settings);
	json_t *own;

	/* Another user than root holds none, until a program is root's. */
	own = user->uid == 0 ? list_capabilities(set) : json_array();
	return json_pack("{s:o s:O s:o s:[] s:[]}", "bounding",
		list_capabilities(set | brought_by_files(settings)),
		"effective", own, "permitted", own, "inheritable", "ambient");
}

static json_t *make_process(const struct th_settings *settings,
	const struct th_image_config *image, const struct th_user *user,
	const struct th_strings *command)
{
	const char *cwd = settings->workdir		     ? settings->workdir
		: image->workdir && image->workdir[0] == '/' ? image->workdir
							     : "/";
	json_t *groups = json_array();
	json_int_t files = FILES_MAX;
	struct rlimit limit;

	/* No more than this host gives: raising it is not always allowed. */
	if (getrlimit(RLIMIT_NOFILE, &limit) == 0 && limit.rlim_max < FILES_MAX)
		files = (json_int_t)limit.rlim_max;
	for (size_t i = 0; i < user->group_count; i++)
		json_array_append_new(groups, json_integer(user->groups[i]));
	return json_pack("{s:b s:{s:I s:I s:o} s:o s:o s:s s:o s:b"
			 " s:[{s:s s:I s:I}]}",
		"terminal", settings->terminal, "user", "uid",
		(json_int_t)user->uid, "gid", (json_int_t)user->gid,
		"additionalGids", groups, "args", th_json_from_strings(command),
		"env", make_env(settings, image, user), "cwd", cwd,
		"capabilities", make_capabilities(settings, user),
		"noNewPrivileges", !(settings->allow & TH_ALLOW_PRIVILEGES),
		"rlimits", "type", "RLIMIT_NOFILE", "soft",
		(json_int_t)(files < 1024 ? files : 1024), "hard", files);
}

static void add_mount(json_t *mounts, const char *target, const char *type,
	const char *source, const char *const *options, size_t count)
{
	json_array_append_new(mounts,
		json_pack("{s:s s:s s:s s:o}", "destination", target, "type",
			type, "source", source, "options",
			strings(options, count)));
}

/* True where the group is mapped into this user namespace. */
static bool group_is_mapped(unsigned int gid)
{
	struct th_id_map lines[TH_ID_MAP_LINES];
	size_t count = th_idmap_read("/proc/self/gid_map", lines);

	for (size_t i = 0; i < count; i++) {
		if (gid >= lines[i].inside &&
			gid - lines[i].inside < lines[i].size)
			return true;
	}
	return false;
}

static void add_sys(json_t *mounts, const struct th_settings *settings)
{
	static const char *const plain[] = {"nosuid", "noexec", "nodev", "ro"};
	static const char *const bound[] = {
		"rbind", "rnosuid", "rnoexec", "rnodev", "rro"};

	/* On the host's network an unprivileged user can show only the host's.
	 */
	if (settings->caller.unprivileged &&
		strcmp(settings->network, "host") == 0)
		add_mount(mounts, "/sys", "bind", "/sys", bound, COUNT(bound));
	else
		add_mount(
			mounts, "/sys", "sysfs", "sysfs", plain, COUNT(plain));
	add_mount(mounts, "/sys/fs/cgroup", "cgroup2", "cgroup2", plain,
		COUNT(plain));
}

static void add_system_mounts(
	json_t *mounts, const struct th_settings *settings)
{
	static const char *const plain[] = {"nosuid", "noexec", "nodev"};
	static const char *const dev[] = {
		"nosuid", "noexec", "strictatime", "mode=755", "size=64k"};
	static const char *const pts[] = {"nosuid", "noexec", "newinstance",
		"ptmxmode=0666", "mode=0620", "gid=5"};
	static const char *const shm[] = {
		"nosuid", "noexec", "nodev", "mode=1777", "size=25%"};

	add_mount(mounts, "/proc", "proc", "proc", plain, COUNT(plain));
	add_mount(mounts, "/dev", "tmpfs", "dev", dev, COUNT(dev));
	add_mount(mounts, "/dev/pts", "devpts", "devpts", pts,
		COUNT(pts) - (group_is_mapped(5) ? 0 : 1));
	add_mount(mounts, "/dev/shm", "tmpfs", "shm", shm, COUNT(shm));
	add_mount(
		mounts, "/dev/mqueue", "mqueue", "mqueue", plain, COUNT(plain));
	add_sys(mounts, settings);
}

static int add_etc_mounts(json_t *mounts, const struct th_store *store,
	const char *id, struct th_error *err)
{
	static const char *const names[] = {"hosts", "hostname", "resolv.conf"};
	static const char *const options[] = {"bind", "nosuid", "nodev"};

	for (size_t i = 0; i < COUNT(names); i++) {
		char *source = th_format(
			"%s/containers/%s/%s", store->root, id, names[i]);
		char target[64];

		if (!source)
			return th_fail_memory(err);
		snprintf(target, sizeof(target), "/etc/%s", names[i]);
		add_mount(mounts, target, "bind", source, options,
			COUNT(options));
		free(source);
	}
	return 0;
}

/* Files of the source's owner are the program's user's inside, and what that
 * one makes is the owner's outside (runtime-spec, config.md, "uidMappings"). */
static void map_owner(json_t *mounts, const struct th_mount_setting *mount,
	const struct th_user *user)
{
	json_t *last = json_array_get(mounts, json_array_size(mounts) - 1);
	struct stat st;

	if (stat(mount->source, &st))
		return;
	json_object_set_new(last, "uidMappings",
		json_pack("[{s:i s:i s:i}]", "containerID", (int)st.st_uid,
			"hostID", (int)user->uid, "size", 1));
	json_object_set_new(last, "gidMappings",
		json_pack("[{s:i s:i s:i}]", "containerID", (int)st.st_gid,
			"hostID", (int)user->gid, "size", 1));
}

static void add_own_mount(json_t *mounts, const struct th_settings *settings,
	const struct th_mount_setting *mount, const struct th_user *user)
{
	const char *options[8];
	char size[48];
	size_t count = 0;

	if (mount->readonly)
		options[count++] =
			mount->kind == TH_MOUNT_MEMORY ? "ro" : "rro";
	options[count++] = "nosuid";
	options[count++] = "nodev";
	if (mount->kind == TH_MOUNT_MEMORY) {
		snprintf(
			size, sizeof(size), "size=%" PRIu64, mount->size_bytes);
		if (mount->size_bytes)
			options[count++] = size;
		options[count++] = "mode=1777";
		add_mount(mounts, mount->target, "tmpfs", "memory", options,
			count);
	} else {
		options[count++] = "rbind";
		if (mount->propagation)
			options[count++] = mount->propagation;
		add_mount(mounts, mount->target, "bind", mount->source, options,
			count);
		/* An unprivileged user's files are root's inside as it is. */
		if (mount->map_owner && !settings->caller.unprivileged)
			map_owner(mounts, mount, user);
	}
}

/* The kernel protects the first process of a PID namespace from signals that it
 * has no handler for, those that it sends itself among them: a program that
 * reports its crash and then ends itself by the same signal would live on. No
 * other process has that, so a program is only the first one where it has to
 * be. */
static const char *reaper_word(
	const struct th_settings *settings, const struct th_strings *command)
{
	/* They insist on being the first process, and do its work. */
	static const char *const firsts[] = {"init", "systemd", "openrc-init",
		"runit", "runit-init", "s6-svscan", "s6-linux-init", "finit"};
	const char *name = th_path_last(command->items[0]);

	if (settings->reaper != TH_REAPER_AUTO)
		return settings->reaper == TH_REAPER_YES ? "yes" : "no";
	for (size_t i = 0; i < COUNT(firsts); i++) {
		if (strcmp(name, firsts[i]) == 0)
			return "no";
	}
	return "yes";
}

static json_t *make_config(struct th_store *store,
	const struct th_container_row *row, const struct th_settings *settings,
	const struct th_image_config *image, const struct th_user *user,
	const struct th_strings *command, struct th_error *err)
{
	json_t *mounts = json_array();

	add_system_mounts(mounts, settings);
	if (add_etc_mounts(mounts, store, row->id, err)) {
		json_decref(mounts);
		return NULL;
	}
	for (size_t i = 0; i < settings->mount_count; i++)
		add_own_mount(mounts, settings, &settings->mounts[i], user);
	return json_pack("{s:s s:{s:s s:b} s:s s:o s:o s:{s:s s:s s:s s:s}}",
		"ociVersion", TH_OCI_RUNTIME_VERSION, "root", "path", "rootfs",
		"readonly", settings->read_only, "hostname",
		settings->hostname ? settings->hostname : row->name, "process",
		make_process(settings, image, user, command), "mounts", mounts,
		"annotations", "org.opencontainers.image.ref.name",
		row->image_name, "org.tidyhull.container.name", row->name,
		"org.tidyhull.image.digest", row->image, "org.tidyhull.reaper",
		reaper_word(settings, command));
}

/* Takes the place of the rules until all is text: they are text already, and
 * most of it. Inside a string its quotes would be escaped. */
#define NO_RULES "\"seccomp\":\"-\""

/* The document with the rules in their place. */
static int put_rules(const char *doc, const struct th_buf *rules,
	struct th_buf *out, struct th_error *err)
{
	const char *place = strstr(doc, NO_RULES);

	if (place) {
		th_buf_add(out, doc, (size_t)(place - doc));
		th_buf_adds(out, "\"seccomp\":");
		th_buf_add(out, rules->data, rules->len);
		doc = place + strlen(NO_RULES);
	}
	th_buf_adds(out, doc);
	th_buf_adds(out, "\n");
	return out->failed ? th_fail_memory(err) : 0;
}

static int write_text(int folder, const json_t *doc, const struct th_buf *rules,
	struct th_error *err)
{
	char *text = th_json_text(doc, JSON_COMPACT);
	struct th_buf out;
	int rc;

	th_buf_init(&out, TH_BUNDLE_MAX);
	rc = text ? put_rules(text, rules, &out, err) : th_fail_memory(err);
	if (rc == 0)
		rc = th_file_replace(folder, "config.json", out.data, out.len,
			0600, false, err);
	th_buf_release(&out);
	free(text);
	return rc;
}

static int write_config(struct th_store *store, int folder,
	const struct th_container_row *row, const struct th_settings *settings,
	const struct th_image_config *image, const struct th_user *user,
	const struct th_strings *command, const struct th_accounts *accounts,
	char filter[TH_FILTER_NAME], struct th_error *err)
{
	bool filtered = !(settings->allow & TH_ALLOW_SYSCALLS);
	json_t *doc =
		make_config(store, row, settings, image, user, command, err);
	struct th_buf rules;
	int rc;

	if (!doc)
		return th_fail_memory(err);
	th_buf_init(&rules, TH_FILTER_MAX);
	rc = th_bundle_linux(store, row->id, settings, doc, err);
	if (rc == 0)
		rc = th_share_apply(
			store, folder, row->id, settings, accounts, doc, err);
	if (rc == 0 && filtered)
		rc = th_filter_keep(store, th_default_capabilities(settings),
			settings->allow & TH_ALLOW_OLD_SOCKETS, filter, &rules,
			err);
	if (rc == 0 && filtered)
		json_object_set_new(json_object_get(doc, "linux"), "seccomp",
			json_string("-"));
	if (rc == 0)
		rc = write_text(folder, doc, &rules, err);
	th_buf_release(&rules);
	json_decref(doc);
	return rc;
}

static void add_given(json_t *doc, const char *key, const char *value)
{
	if (value)
		json_object_set_new(doc, key, json_string(value));
}

/* What no other part of the plan knows, for a file that makes it again. */
static json_t *make_given(const struct th_settings *settings)
{
	json_t *doc = json_pack("{s:o s:o s:o s:o s:b}", "command",
		th_json_from_strings(&settings->command), "alias",
		th_json_from_strings(&settings->aliases), "host",
		th_json_from_strings(&settings->host_texts), "capability",
		th_json_from_strings(&settings->capabilities), "read-only",
		settings->read_only);
	json_t *names = json_array();

	add_given(doc, "hostname", settings->hostname);
	add_given(doc, "workdir", settings->workdir);
	add_given(doc, "entrypoint", settings->entrypoint);
	add_given(doc, "reaper", settings->reaper_text);
	add_given(doc, "users", settings->users_text);
	if (settings->terminal)
		add_given(doc, "tty", "yes");
	for (size_t i = 0; i < settings->secret_files.count; i++) {
		const char *text = settings->secret_files.items[i];

		json_array_append_new(names,
			json_sprintf(
				"%.*s=@ask", (int)strcspn(text, "="), text));
	}
	json_object_set_new(doc, "secret", names);
	return doc;
}

/* Everything in it is borrowed. */
static int write_plan(int folder, const struct th_container_row *row,
	const struct th_settings *settings, const struct th_image_config *image,
	const struct th_image_root *root, const char *filter,
	struct th_error *err)
{
	struct th_container_row names = *row;
	struct th_plan plan = {.name = names.name,
		.image = names.image_name,
		.network = names.network,
		.network_count = settings->network_count,
		.layers = root->trees,
		.ports = settings->ports,
		.port_count = settings->port_count,
		.mounts = settings->mounts,
		.mount_count = settings->mount_count,
		.env = settings->env,
		.secrets = settings->secrets,
		.devices = settings->device_texts,
		.keep = settings->keep,
		.unprivileged = settings->caller.unprivileged,
		.own_users = settings->users != TH_USERS_HOST,
		.users_given = settings->users == TH_USERS_OWN,
		.allow = settings->allow,
		.share = settings->share,
		.limit = settings->limit,
		.log = settings->log,
		.policy = settings->policy,
		.probe = settings->probe,
		.stop_signal = settings->stop_signal,
		.grace_ms = settings->grace_ms};
	char filter_name[TH_FILTER_NAME], user[256];
	int rc;

	memcpy(plan.networks, settings->networks, sizeof(plan.networks));
	if (!plan.stop_signal && image->stop_signal)
		plan.stop_signal = th_signal_parse(image->stop_signal);
	if (plan.stop_signal <= 0)
		plan.stop_signal = SIGTERM;
	snprintf(filter_name, sizeof(filter_name), "%s", filter);
	plan.filter = *filter ? filter_name : NULL;
	snprintf(
		user, sizeof(user), "%s", settings->user ? settings->user : "");
	plan.settings_user = settings->user ? user : NULL;
	plan.given = make_given(settings);
	plan.state = json_pack("{s:s s:s s:s s:I}", "image-digest", row->image,
		"command", row->command, "aliases", row->aliases, "created",
		(json_int_t)row->created_us);
	rc = th_plan_write(folder, &plan, err);
	json_decref(plan.given);
	json_decref(plan.state);
	return rc;
}

/* Of an overlay's root the upper folder's attributes count. */
static int dress_upper(
	int folder, const struct th_image_root *root, struct th_error *err)
{
	int upper = openat(folder, "upper", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	int rc = upper < 0 ? th_fail_sys(err, TH_FAILED, errno,
				     "cannot open the container's root")
			   : th_image_root_dress(root, upper, err);

	th_close(&upper);
	return rc;
}

int th_bundle_make(struct th_store *store, int folder,
	const struct th_container_row *row, const struct th_settings *settings,
	const struct th_image_config *image, const struct th_image_root *root,
	struct th_error *err)
{
	struct th_strings command = {0};
	struct th_accounts accounts;
	struct th_buf passwd, group;
	struct th_user user;
	char filter[TH_FILTER_NAME] = "";
	int rc = -1;

	th_buf_init(&passwd, ACCOUNTS_MAX);
	th_buf_init(&group, ACCOUNTS_MAX);
	if (th_bundle_command(settings, image, &command, err) ||
		th_image_root_read(root, "etc/passwd", &passwd, err) ||
		th_image_root_read(root, "etc/group", &group, err) ||
		th_user_resolve(settings->user ? settings->user : image->user,
			passwd.data, group.data, &user, err) ||
		bundle_files(folder, row, settings, err) ||
		dress_upper(folder, root, err))
		goto out;
	accounts.passwd = passwd.data;
	accounts.group = group.data;
	if (write_config(store, folder, row, settings, image, &user, &command,
		    &accounts, filter, err) ||
		write_plan(folder, row, settings, image, root, filter, err))
		goto out;
	rc = 0;
out:
	th_buf_release(&passwd);
	th_buf_release(&group);
	th_strings_release(&command);
	return rc;
}
