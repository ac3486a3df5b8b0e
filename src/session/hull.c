#include "session/hull.h"

#include <fcntl.h>
#include <pwd.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"
#include "image/reclaim.h"
#include "session/enter_networks.h"
#include "store/file_system.h"

/* The value; "" is as good as none. */
static const char *env(const struct th_hull *hull, const char *name)
{
	const char *value = hull->options.env ? hull->options.env(name) : NULL;

	return value && *value ? value : NULL;
}

static void find_caller(struct th_hull *hull)
{
	struct th_caller *caller = &hull->caller;
	char room[1024];
	struct passwd entry, *user = NULL;
	const char *home = env(hull, "HOME");

	caller->uid = geteuid();
	caller->gid = getegid();
	caller->unprivileged = caller->uid != 0;
	if (getpwuid_r(caller->uid, &entry, room, sizeof(room), &user) == 0 &&
		user)
		snprintf(caller->name, sizeof(caller->name), "%.60s",
			user->pw_name);
	else
		snprintf(caller->name, sizeof(caller->name), "%u", caller->uid);
	caller->home = home ? home : "";
	caller->scratch = env(hull, "TMPDIR");
	caller->pmix = env(hull, "PMIX_SERVER_TMPDIR");
}

/* ---- folders and files of docs/configuration.md ---- */

/* The file or folder of that name in the caller's folder for such. */
static char *in_home(const struct th_hull *hull, const char *variable,
	const char *usual, const char *name)
{
	const char *own = env(hull, variable);

	if (own)
		return th_format("%s/tidyhull%s", own, name);
	return th_format("%s/%s/tidyhull%s", hull->caller.home, usual, name);
}

/* Of this host alone, for a caller whose home is on several. */
static char *local_root(const struct th_hull *hull)
{
	return th_format("/var/tmp/tidyhull-%u", hull->caller.uid);
}

/* Where an unprivileged caller's store is when nothing says otherwise. */
static char *usual_root(struct th_hull *hull)
{
	char *root = in_home(hull, "XDG_DATA_HOME", ".local/share", "");

	if (!root || !th_on_network(root))
		return root;
	free(root);
	hull->away_from_home = true;
	return local_root(hull);
}

static int find_root(struct th_hull *hull)
{
	struct th_strings *folders = &hull->folders;
	const char *given = hull->options.root ? hull->options.root
					       : env(hull, "TIDYHULL_ROOT");
	const char *run = env(hull, "XDG_RUNTIME_DIR");
	char cwd[4096];
	int rc;

	if (given && *given) {
		if (!getcwd(cwd, sizeof(cwd)))
			snprintf(cwd, sizeof(cwd), "/");
		rc = th_strings_take(folders, th_path_absolute(cwd, given));
		rc |= th_strings_take(folders,
			rc ? NULL : th_format("%s/run", folders->items[0]));
	} else if (!hull->caller.unprivileged) {
		rc = th_strings_add(folders, "/var/lib/tidyhull");
		rc |= th_strings_add(folders, "/run/tidyhull");
	} else {
		rc = th_strings_take(folders, usual_root(hull));
		rc |= th_strings_take(folders,
			run ? th_format("%s/tidyhull", run)
			    : th_format("/tmp/tidyhull-%d",
				      (int)hull->caller.uid));
	}
	return rc;
}

static int choose_folders(struct th_hull *hull, struct th_error *err)
{
	struct th_strings *folders = &hull->folders;
	int rc = find_root(hull);

	/* The sockets and locks of running containers lie in the store: what an
	 * environment says, or a cleaner of temporary folders takes, does not
	 * part a container from those who look for it. */
	rc |= th_strings_take(
		folders, rc ? NULL : th_format("%s/run", folders->items[0]));
	if (rc)
		return th_fail_memory(err);
	hull->root = folders->items[0];
	hull->run_time = folders->items[1];
	hull->run = folders->items[2];
	return 0;
}

static int read_config(struct th_hull *hull, struct th_error *err)
{
	char *path;
	int rc;

	hull->config_path = hull->options.config ? hull->options.config
						 : env(hull, "TIDYHULL_CONFIG");
	if (hull->config_path && !*hull->config_path)
		hull->config_path = NULL;
	if (hull->config_path) {
		rc = th_config_read(hull->config_path, &hull->config, err);
		if (rc == 0)
			return th_fail(err, TH_NOT_FOUND,
				"the configuration file %s does not exist",
				hull->config_path);
		return rc < 0 ? -1 : 0;
	}
	if (th_config_read("/etc/tidyhull/config.yaml", &hull->config, err) < 0)
		return -1;
	path = in_home(hull, "XDG_CONFIG_HOME", ".config", "/config.yaml");
	if (!path)
		return th_fail_memory(err);
	rc = th_config_read(path, &hull->config, err);
	free(path);
	return rc < 0 ? -1 : 0;
}

static int read_logins(struct th_hull *hull, struct th_error *err)
{
	const char *given = env(hull, "TIDYHULL_LOGINS");

	hull->logins_path = given
		? strdup(given)
		: in_home(hull, "XDG_CONFIG_HOME", ".config", "/logins.json");
	if (!hull->logins_path)
		return th_fail_memory(err);
	return th_logins_read(hull->logins_path, &hull->logins, err);
}

/* ---- */

int th_hull_begin(struct th_hull *hull, const struct th_hull_options *options,
	struct th_error *err)
{
	memset(hull, 0, sizeof(*hull));
	hull->options = *options;
	find_caller(hull);
	return choose_folders(hull, err);
}

int th_hull_open_registries(struct th_hull *hull, struct th_error *err)
{
	if (hull->registries.access)
		return 0;
	if (read_config(hull, err) ||
		(hull->options.logins && read_logins(hull, err)))
		return -1;
	hull->registries.config = &hull->config;
	hull->registries.cancel.flags[0] = hull->options.cancel;
	hull->registries.cancel.work = hull->options.work;
	hull->registries.access = th_access_new(&hull->logins);
	return hull->registries.access ? 0 : th_fail_memory(err);
}

bool th_hull_has_bus(const struct th_hull *hull)
{
	const char *run = env(hull, "XDG_RUNTIME_DIR");
	char path[512];

	snprintf(path, sizeof(path), "%.500s/bus", run ? run : "");
	return env(hull, "DBUS_SESSION_BUS_ADDRESS") ||
		(run && access(path, F_OK) == 0);
}

/* "root: tidyhull stop" */
static void describe_actor(struct th_hull *hull, const char *act)
{
	const char *sudo = env(hull, "SUDO_USER");
	const char *service = env(hull, "SYSTEMD_EXEC_PID");
	char *actor = hull->actor;
	size_t size = sizeof(hull->actor);

	/* systemd.exec(5): it has executed this very process. */
	if (service && atoi(service) == (int)getpid())
		snprintf(actor, size, "systemd: %.80s", act);
	else if (sudo && !hull->caller.unprivileged)
		snprintf(actor, size, "%.40s (as root): %.60s", sudo, act);
	else
		snprintf(actor, size, "%s: %.60s", hull->caller.name, act);
}

/* Everybody may make folders where it lies: another one's is refused. Said
 * once, when it is new. */
static int take_local(struct th_hull *hull, struct th_error *err)
{
	const struct th_hull_options *options = &hull->options;
	bool is_new = access(hull->root, F_OK) != 0;
	char text[400];
	int fd;

	if (th_dir_make(hull->root, 0700, err))
		return -1;
	fd = th_dir_open_private(hull->root, err);
	if (fd < 0)
		return -1;
	close(fd);
	if (is_new && options->notice) {
		snprintf(text, sizeof(text),
			"your home is on a network file system: the store of "
			"this host is %.200s (--root, or TIDYHULL_ROOT, says "
			"otherwise)",
			hull->root);
		options->notice(options->owner, text);
	}
	return 0;
}

static int check_place(struct th_hull *hull, struct th_error *err)
{
	char *local = local_root(hull);
	int rc = local ? th_store_check_place(hull->root, local, err)
		       : th_fail_memory(err);

	free(local);
	return rc || !hull->away_from_home ? rc : take_local(hull, err);
}

static int open_store(struct th_hull *hull, struct th_error *err)
{
	const struct th_hull_options *options = &hull->options;

	if (options->checks)
		return th_check_open(hull->root, hull->run, options->repairs,
			&hull->context.store, &hull->findings, err);
	return th_store_open(
		hull->root, hull->run, false, &hull->context.store, err);
}

/* Its containers have user IDs of their own, as which the store appears to
 * them; what lies elsewhere does not. */
static int refuse_root(struct th_error *err)
{
	th_fail(err, TH_NOT_POSSIBLE,
		"unpacked layers are borrowed by unprivileged users only");
	return th_hint(err,
		"without --layers-from, root's store unpacks its "
		"own");
}

/* Before the user namespace: root is known by its number. What is wrong with it
 * is told when a layer is wanted. */
static int find_lender(
	struct th_hull *hull, struct th_lender **lender, struct th_error *err)
{
	const char *folder = hull->options.layers_from;

	*lender = NULL;
	if (hull->options.look)
		return 0;
	if (!folder)
		folder = env(hull, "TIDYHULL_LAYERS_FROM");
	if (!folder)
		folder = hull->config.layers_from;
	if (!folder)
		return 0;
	if (!hull->caller.unprivileged)
		return hull->options.layers_from ? refuse_root(err) : 0;
	*lender = th_lender_open(folder);
	return *lender ? 0 : th_fail_memory(err);
}

int th_hull_open_store(
	struct th_hull *hull, const char *act, struct th_error *err)
{
	const struct th_hull_options *options = &hull->options;
	struct th_context *context = &hull->context;
	struct th_error ignored = {0}; /* it keeps what it has */
	struct th_lender *lender = NULL;

	if (check_place(hull, err))
		return -1;
	if (options->checks)
		th_check_files(hull->root, options->repairs, &hull->findings);
	if (th_hull_open_registries(hull, err) ||
		find_lender(hull, &lender, err))
		return -1;
	if (enter_networks(hull, err) || open_store(hull, err)) {
		th_lender_close(lender);
		return -1;
	}
	context->store->lender = lender;
	context->store->unprivileged = hull->caller.unprivileged;
	if (context->store->state_lost && !options->checks && options->notice)
		options->notice(options->owner,
			"the store's state.db was gone; tidyhull doctor "
			"--repair takes up again what is on the disk");
	/* A state that cannot be written keeps what it has. */
	th_state_keep_events(context->store->db,
		hull->config.keep_events ? hull->config.keep_events
					 : TH_KEEP_EVENTS,
		&ignored);
	th_image_repair(context->store);
	describe_actor(hull, act);
	context->actor = hull->actor;
	context->user_bus = th_hull_has_bus(hull);
	context->notify = env(hull, "NOTIFY_SOCKET");
	context->keeper = options->keeper;
	context->registries = &hull->registries;
	context->cancel = options->cancel;
	context->work = options->work;
	return 0;
}

void th_hull_end(struct th_hull *hull)
{
	th_store_close(hull->context.store);
	hull->context.store = NULL;
	th_access_free(hull->registries.access);
	hull->registries.access = NULL;
	th_findings_release(&hull->findings);
	th_logins_release(&hull->logins);
	free(hull->logins_path);
	hull->logins_path = NULL;
	th_config_release(&hull->config);
	th_strings_release(&hull->folders);
	hull->root = hull->run = hull->run_time = NULL;
}
