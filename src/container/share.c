#include "container/share.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "base/json.h"
#include "sandbox/idmap.h"

static json_t *part(json_t *config, const char *name)
{
	return json_object_get(config, name);
}

static void add_bind(json_t *config, const char *target, const char *source)
{
	json_array_append_new(part(config, "mounts"),
		json_pack("{s:s s:s s:s s:[sss]}", "destination", target,
			"type", "bind", "source", source, "options", "rbind",
			"nosuid", "nodev"));
}

static void set_env(json_t *config, const char *key, const char *value)
{
	json_t *env = part(part(config, "process"), "env"), *item;
	char *text = th_format("%s=%s", key, value);
	size_t i, len = strlen(key) + 1;

	if (!text)
		return;
	json_array_foreach(env, i, item)
	{
		if (strncmp(json_string_value(item), text, len) == 0) {
			json_array_set_new(env, i, json_string(text));
			free(text);
			return;
		}
	}
	json_array_append_new(env, json_string(text));
	free(text);
}

/* ---- identity ---- */

static void add_range(json_t *maps, unsigned int inside, unsigned int outside,
	unsigned int size)
{
	if (size)
		json_array_append_new(maps,
			json_pack("{s:I s:I s:I}", "containerID",
				(json_int_t)inside, "hostID",
				(json_int_t)outside, "size", (json_int_t)size));
}

/* How many IDs from 0 on this user namespace has. */
static unsigned int mapped(const char *path)
{
	struct th_id_map lines[TH_ID_MAP_LINES];
	size_t count = th_idmap_read(path, lines);
	unsigned int total = 0;

	for (size_t i = 0; i < count; i++) {
		if (lines[i].inside == total)
			total += lines[i].size;
	}
	return total;
}

/* Inside, the caller has its own ID, which is this namespace's root; all
 * others are what they are here. */
static json_t *make_map(unsigned int own, const char *path)
{
	unsigned int count = mapped(path);
	json_t *maps = json_array();

	add_range(maps, own, 0, 1);
	if (count > 1) {
		unsigned int below = own > 1 ? own - 1 : 0;

		if (below > count - 1)
			below = count - 1;
		add_range(maps, 1, 1, below);
		if (count > own + 1)
			add_range(maps, own + 1, own + 1, count - own - 1);
	}
	return maps;
}

static int write_account(int folder, const char *name, const char *text,
	const char *line, struct th_error *err)
{
	size_t len = strlen(text);
	char *whole = th_format("%s%s%s\n", text,
		len && text[len - 1] != '\n' ? "\n" : "", line);
	int rc = whole ? th_file_replace(folder, name, whole, strlen(whole),
				 0644, false, err)
		       : th_fail_memory(err);

	free(whole);
	return rc;
}

static int share_user(struct th_store *store, int folder, const char *id,
	const struct th_settings *settings, const struct th_accounts *accounts,
	json_t *config, struct th_error *err)
{
	static const char *const files[] = {"passwd", "group"};
	unsigned int uid = settings->caller.uid, gid = settings->caller.gid;
	const char *name = settings->caller.name;
	json_t *linux_part = part(config, "linux");
	char line[600];

	json_object_set_new(part(config, "process"), "user",
		json_pack("{s:I s:I}", "uid", (json_int_t)uid, "gid",
			(json_int_t)gid));
	if (settings->caller.unprivileged) {
		json_array_append_new(json_object_get(linux_part, "namespaces"),
			json_pack("{s:s}", "type", "user"));
		json_object_set_new(linux_part, "uidMappings",
			make_map(uid, "/proc/self/uid_map"));
		json_object_set_new(linux_part, "gidMappings",
			make_map(gid, "/proc/self/gid_map"));
	}
	if (uid == 0)
		return 0;
	snprintf(line, sizeof(line), "%.60s:x:%u:%u::%.300s:/bin/sh", name, uid,
		gid, settings->caller.home);
	if (write_account(folder, "passwd", accounts->passwd, line, err))
		return -1;
	snprintf(line, sizeof(line), "%.60s:x:%u:", name, gid);
	if (write_account(folder, "group", accounts->group, line, err))
		return -1;
	for (size_t i = 0; i < 2; i++) {
		char *source = th_format(
			"%s/containers/%s/%s", store->root, id, files[i]);
		char target[32];

		if (!source)
			return th_fail_memory(err);
		snprintf(target, sizeof(target), "/etc/%s", files[i]);
		add_bind(config, target, source);
		free(source);
	}
	return 0;
}

/* ---- what ranks of one job talk by ---- */

static bool has_member(const json_t *one, const void *with)
{
	const char *const *pair = with;
	const char *text = json_string_value(json_object_get(one, pair[0]));

	return text && strcmp(text, pair[1]) == 0;
}

/* Takes out what has the member. */
static void remove_with(json_t *list, const char *key, const char *value)
{
	const char *const pair[] = {key, value};

	th_json_filter(list, has_member, pair);
}

static void share_memory(json_t *config)
{
	remove_with(part(config, "mounts"), "destination", "/dev/shm");
	add_bind(config, "/dev/shm", "/dev/shm");
}

/* The host's queues cannot be mounted anew, only the host's mount be shown. */
static void share_ipc(json_t *config)
{
	remove_with(part(part(config, "linux"), "namespaces"), "type", "ipc");
	remove_with(part(config, "mounts"), "destination", "/dev/mqueue");
}

static int share_scratch(const struct th_settings *settings, json_t *config,
	struct th_error *err)
{
	const char *scratch = settings->caller.scratch;

	if (!scratch || scratch[0] != '/' || !scratch[1]) {
		th_fail(err, TH_USAGE,
			"TMPDIR does not name a scratch folder to share");
		return th_hint(err, "batch engines set it for each job");
	}
	add_bind(config, scratch, scratch);
	set_env(config, "TMPDIR", scratch);
	return 0;
}

/* Ranks find their process manager (PMIx, chapter "Server-Specific Interfaces")
 * by files in a folder that it names to them, by the same path inside. */
static int share_pmix(const struct th_settings *settings, json_t *config,
	struct th_error *err)
{
	const char *folder = settings->caller.pmix;

	if (!folder || folder[0] != '/' || !folder[1]) {
		th_fail(err, TH_USAGE,
			"PMIX_SERVER_TMPDIR does not name the folder of a "
			"process manager to share");
		return th_hint(err,
			"start the ranks by mpirun or srun --mpi=pmix, which "
			"set it");
	}
	if (settings->reaper == TH_REAPER_NO) {
		th_fail(err, TH_USAGE,
			"ranks cannot be the first process of their container");
		return th_hint(err, "leave --reaper no or --share pmix out");
	}
	add_bind(config, folder, folder);
	/* Libraries of ranks take the same process ID for the same process
	 * (Open MPI 4.1 then uses another's pointers). */
	json_object_set_new(part(config, "annotations"), "org.tidyhull.reaper",
		json_string("yes"));
	json_object_set_new(part(config, "annotations"),
		"org.tidyhull.program-pid", json_string("of-host"));
	return 0;
}

int th_share_apply(struct th_store *store, int folder, const char *id,
	const struct th_settings *settings, const struct th_accounts *accounts,
	json_t *config, struct th_error *err)
{
	const char *home = settings->caller.home;

	if (settings->share & TH_SHARE_USER &&
		share_user(store, folder, id, settings, accounts, config, err))
		return -1;
	if (settings->share & TH_SHARE_HOME) {
		if (!home || home[0] != '/' || !home[1])
			return th_fail(err, TH_USAGE,
				"the caller has no home folder to share");
		add_bind(config, home, home);
		set_env(config, "HOME", home);
	}
	if (settings->share & TH_SHARE_SCRATCH &&
		share_scratch(settings, config, err))
		return -1;
	if (settings->share & TH_SHARE_PMIX &&
		share_pmix(settings, config, err))
		return -1;
	if (settings->share & TH_SHARE_SHM)
		share_memory(config);
	if (settings->share & TH_SHARE_IPC)
		share_ipc(config);
	if (settings->share & TH_SHARE_CWD) {
		if (strcmp(settings->base, "/") == 0)
			return th_fail(err, TH_USAGE,
				"the current folder is the root, which cannot "
				"be shared");
		add_bind(config, settings->base, settings->base);
		if (!settings->workdir)
			json_object_set_new(part(config, "process"), "cwd",
				json_string(settings->base));
	}
	return 0;
}
