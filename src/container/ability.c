#include "container/ability.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/netlink.h>
#include <sched.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/utsname.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "network/guard.h"
#include "network/link.h"
#include "network/netlink.h"
#include "base/json.h"
#include "base/libc.h"
#include "oci/resources.h"
#include "container/scope.h"
#include "sandbox/cgroup.h"
#include "sandbox/enter.h"
#include "sandbox/idmap.h"
#include "store/file_system.h"

static struct th_ability *add(struct th_ability *list, size_t *count,
	const char *what, const char *use)
{
	struct th_ability *one = &list[(*count)++];

	memset(one, 0, sizeof(*one));
	one->what = what;
	one->use = use;
	return one;
}

/* Tries something in a child; its errno, or 0. */
static int attempt(int (*act)(void *), void *arg)
{
	int status = 0;
	pid_t pid = fork();

	if (pid == 0)
		_exit(act(arg) ? errno : 0);
	if (pid < 0 || waitpid(pid, &status, 0) < 0)
		return errno;
	return WIFEXITED(status) ? WEXITSTATUS(status) : EINVAL;
}

static int try_unshare(void *arg)
{
	return unshare(*(int *)arg);
}

static int try_overlay(void *arg)
{
	int fs = fsopen("overlay", FSOPEN_CLOEXEC);

	(void)arg;
	return fs < 0 ? -1 : 0;
}

static int try_layers(void *arg)
{
	int fs = fsopen("overlay", FSOPEN_CLOEXEC);

	(void)arg;
	return fsconfig(fs, FSCONFIG_SET_STRING, "lowerdir+", "/", 0);
}

/* In a network of its own, so that the host never sees it. */
static int try_bridge(void *arg)
{
	struct th_subnet subnet = {.prefix4 = 20};
	struct th_error err = {0};

	(void)arg;
	if (unshare(CLONE_NEWNET))
		return -1;
	subnet.base4.s_addr = htonl(10u << 24);
	if (th_link_bridge("thprobe", &subnet, &err) == 0)
		return 0;
	errno = err.sys ? err.sys : EINVAL;
	return -1;
}

static int try_guard(void *arg)
{
	struct th_guard guard = {.device = "thprobe"};
	struct th_error err = {0};
	int rc;

	if (try_bridge(arg))
		return -1;
	rc = th_guard_write("tidyhull_probe", &guard, &err);
	errno = rc > 0 ? EOPNOTSUPP : err.sys;
	return rc ? -1 : 0;
}

/* The root's file system stands for the store's, which need not be there. */
static int try_own_users(void *arg)
{
	struct th_id_map line = {.outside = 0x70000000, .size = 65536};
	struct th_id_maps maps = {&line, 1};
	struct mount_attr attr = {.attr_set = MOUNT_ATTR_IDMAP};
	struct th_error err = {0};
	const char *path = access(arg, F_OK) == 0 ? arg : "/";
	int users = th_idmap_namespace(&maps, &maps, &err), fd;

	errno = err.sys;
	if (users < 0)
		return -1;
	attr.userns_fd = (uint64_t)users;
	fd = open_tree(AT_FDCWD, path, OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
	return fd < 0
		? -1
		: mount_setattr(fd, "", AT_EMPTY_PATH, &attr, sizeof(attr));
}

static int try_filter(void *arg)
{
	(void)arg;
	return socket(AF_NETLINK, SOCK_RAW | SOCK_CLOEXEC, NETLINK_NETFILTER) <
			0
		? -1
		: 0;
}

static void judge(struct th_ability *one, int sys, const char *advice)
{
	if (!sys) {
		snprintf(one->here, sizeof(one->here), "yes");
		return;
	}
	one->state = TH_ABILITY_MISSING;
	snprintf(one->here, sizeof(one->here), "no: %s", strerror(sys));
	snprintf(one->advice, sizeof(one->advice), "%s", advice);
}

static void check_namespaces(struct th_ability *list, size_t *count)
{
	static const struct {
		int flag;
		const char *what, *use;
	} kinds[] = {{CLONE_NEWNS, "mount namespaces", "a separate root"},
		{CLONE_NEWPID, "pid namespaces", "separate processes"},
		{CLONE_NEWNET, "network namespaces", "a separate network"},
		{CLONE_NEWUTS, "uts namespaces", "a separate host name"},
		{CLONE_NEWIPC, "ipc namespaces", "separate shared memory"},
		{CLONE_NEWCGROUP, "cgroup namespaces",
			"a private view of control groups"}};

	for (size_t i = 0; i < sizeof(kinds) / sizeof(*kinds); i++) {
		int flag = kinds[i].flag;

		judge(add(list, count, kinds[i].what, kinds[i].use),
			attempt(try_unshare, &flag),
			"the kernel was built without it");
	}
}

static void check_files(struct th_ability *list, size_t *count)
{
	struct th_ability *one;

	judge(add(list, count, "overlay file system", "layers of images"),
		attempt(try_overlay, NULL), "as root: modprobe overlay");
	one = add(list, count, "layer-by-layer mounts",
		"images with many layers");
	if (attempt(try_layers, NULL) == 0) {
		snprintf(one->here, sizeof(one->here), "yes");
	} else {
		one->state = TH_ABILITY_LESS;
		snprintf(one->here, sizeof(one->here),
			"older interface, fewer layers");
		snprintf(one->advice, sizeof(one->advice),
			"kernels from 6.7 on add layers one by one");
	}
}

/* ---- control groups ---- */

static void check_limit(struct th_ability *list, size_t *count,
	const char *what, const char *use, const char *resources,
	const struct th_ability_user *user)
{
	struct th_ability *one = add(list, count, what, use);
	struct th_resources wanted;
	struct th_cgroup group = TH_CGROUP_NONE;
	struct th_error err = {0};
	char path[64];
	json_t *doc = json_loads(resources, 0, NULL);

	th_resources_init(&wanted);
	snprintf(path, sizeof(path), "/tidyhull-doctor-%d", (int)getpid());
	if (doc && th_resources_parse(doc, &wanted, &err) == 1 &&
		th_cgroup_make(path, &wanted, false, &group, &err) == 0) {
		snprintf(one->here, sizeof(one->here), "yes%s",
			group.fd >= 0 && group.v1_count == 0
				? ""
				: ", by version 1");
	} else {
		one->state = TH_ABILITY_LESS;
		snprintf(one->here, sizeof(one->here), "no");
		snprintf(one->advice, sizeof(one->advice), "%s",
			user->name ? "delegate a control group to this user: "
				     "systemd-run --user --scope -p "
				     "Delegate=yes, or loginctl enable-linger"
				   : "the kernel was booted without it");
	}
	th_cgroup_close(&group);
	th_cgroup_remove(path, 1);
	th_resources_release(&wanted);
	json_decref(doc);
}

static void check_groups(struct th_ability *list, size_t *count,
	const struct th_ability_user *user)
{
	struct th_ability *one =
		add(list, count, "control groups", "ending all processes");
	const char *mount = th_cgroup_mount();
	struct th_resources none;
	struct th_cgroup group = TH_CGROUP_NONE;
	struct th_error err = {0};
	bool freezes = false, held = false;
	char path[64];

	th_resources_init(&none);
	snprintf(path, sizeof(path), "/tidyhull-doctor-%d", (int)getpid());
	if (th_cgroup_make(path, &none, false, &group, &err) == 0) {
		held = group.path[0] != '\0';
		freezes = th_cgroup_can_freeze(&group);
	}
	th_cgroup_close(&group);
	th_cgroup_remove(path, 1);
	if (held && mount) {
		snprintf(
			one->here, sizeof(one->here), "version 2 at %s", mount);
	} else if (!held && th_scope_wanted(user->bus)) {
		snprintf(one->here, sizeof(one->here),
			"requested from systemd at each start");
	} else {
		one->state = TH_ABILITY_LESS;
		snprintf(one->here, sizeof(one->here),
			held ? "no version 2" : "none available to this user");
		snprintf(one->advice, sizeof(one->advice), "%s",
			user->name ? "without one, processes are ended through "
				     "their PID namespace; as root: loginctl "
				     "enable-linger USER"
				   : "mount it: mount -t cgroup2 none "
				     "/sys/fs/cgroup");
	}
	one = add(list, count, "freezer", "pause and resume");
	snprintf(one->here, sizeof(one->here), freezes ? "yes" : "no");
	one->state = freezes ? TH_ABILITY_THERE : TH_ABILITY_LESS;
	check_limit(list, count, "memory limits", "--limit memory=",
		"{\"resources\":{\"memory\":{\"limit\":1073741824}}}", user);
	check_limit(list, count, "cpu limits",
		"--limit cpu=", "{\"resources\":{\"cpu\":{\"quota\":100000}}}",
		user);
	check_limit(list, count, "process limits", "--limit processes=",
		"{\"resources\":{\"pids\":{\"limit\":1000}}}", user);
}

static void check_network(struct th_ability *list, size_t *count)
{
	struct th_ability *one;

	judge(add(list, count, "bridges", "containers on a network"),
		attempt(try_bridge, NULL), "as root: modprobe bridge veth");
	judge(add(list, count, "packet filter", "reaching other hosts"),
		attempt(try_filter, NULL), "as root: modprobe nf_tables");
	one = add(
		list, count, "address guards", "neighbours cannot be imitated");
	snprintf(one->here, sizeof(one->here), "yes");
	if (attempt(try_guard, NULL)) {
		one->state = TH_ABILITY_LESS;
		snprintf(one->here, sizeof(one->here),
			"no: the kernel has no netdev filter");
	}
	one = add(list, count, "IPv6", "IPv6 addresses");
	if (access("/proc/net/if_inet6", F_OK) == 0) {
		snprintf(one->here, sizeof(one->here), "yes");
	} else {
		one->state = TH_ABILITY_LESS;
		snprintf(one->here, sizeof(one->here), "IPv4 only");
	}
}

/* The rest of what root's containers have. */
static void check_own_users(
	struct th_ability *list, size_t *count, const char *root)
{
	struct th_ability *one = add(
		list, count, "own user IDs", "root inside is nobody outside");
	int sys = attempt(try_own_users, (void *)(uintptr_t)root);

	snprintf(one->here, sizeof(one->here), "yes");
	if (sys) {
		one->state = TH_ABILITY_LESS;
		snprintf(one->here, sizeof(one->here), "no: %s",
			sys == EINVAL ? "the store's file system cannot map IDs"
				      : strerror(sys));
	}
}

/* To be asked outside of a user namespace: inside the groups have other
 * numbers. */
static bool may_ping(gid_t gid)
{
	struct th_error ignored = {0}; /* then it may not */
	unsigned int first = 1, last = 0;
	struct th_buf range;
	bool may;

	th_buf_init(&range, 4096);
	may = th_file_read(AT_FDCWD, "/proc/sys/net/ipv4/ping_group_range",
		      &range, &ignored) == 1 &&
		sscanf(range.data, "%u %u", &first, &last) == 2 &&
		first <= gid && gid <= last;
	th_buf_release(&range);
	return may;
}

/* What an unprivileged user's networks need beyond that. */
static void check_uplink(struct th_ability *list, size_t *count, bool pings)
{
	struct th_ability *one;

	one = add(list, count, "tap devices", "fast access to the outside");
	if (access("/dev/net/tun", R_OK | W_OK) == 0) {
		snprintf(one->here, sizeof(one->here), "yes");
	} else {
		one->state = TH_ABILITY_LESS;
		snprintf(one->here, sizeof(one->here),
			"no; packet sockets are used, which are slower");
		snprintf(one->advice, sizeof(one->advice),
			"as root: chmod 0666 /dev/net/tun");
	}
	one = add(list, count, "pings", "ping from networks to the world");
	if (pings) {
		snprintf(one->here, sizeof(one->here), "yes");
	} else {
		one->state = TH_ABILITY_LESS;
		snprintf(one->here, sizeof(one->here), "no");
		snprintf(one->advice, sizeof(one->advice),
			"as root: sysctl -w net.ipv4.ping_group_range=\"0 "
			"2147483647\"");
	}
}

static void check_user(struct th_ability *list, size_t *count,
	const struct th_ability_user *user)
{
	struct th_subordinate found;
	struct th_error err = {0};
	struct th_ability *one;
	bool single = false;

	one = add(list, count, "user namespace", "everything without root");
	if (th_user_enter(user->name, user->uid, user->gid, &single, &err)) {
		one->state = TH_ABILITY_MISSING;
		snprintf(one->here, sizeof(one->here), "no: %.80s", err.msg);
		snprintf(one->advice, sizeof(one->advice),
			"as root: set the sysctl user.max_user_namespaces "
			"above 0");
	} else {
		snprintf(one->here, sizeof(one->here), "yes");
	}
	th_subordinate_find(user->name, user->uid, &found);
	one = add(list, count, "subordinate IDs", "images with several users");
	if (!single && !err.code) {
		snprintf(one->here, sizeof(one->here),
			"%llu users, %llu groups",
			(unsigned long long)found.users,
			(unsigned long long)found.groups);
		return;
	}
	one->state = TH_ABILITY_LESS;
	snprintf(one->here, sizeof(one->here), "a single ID");
	if (!found.tools)
		snprintf(one->advice, sizeof(one->advice),
			"as root: apt-get install uidmap");
	else
		snprintf(one->advice, sizeof(one->advice),
			"as root: usermod --add-subuids 100000-165535 "
			"--add-subgids 100000-165535 %.40s",
			user->name);
}

static void check_place(struct th_ability *list, size_t *count,
	const struct th_ability_user *user)
{
	const char *name = th_on_network(user->store);
	struct th_ability *one =
		add(list, count, "local disk", "the store, its layers");

	if (!name) {
		snprintf(one->here, sizeof(one->here), "yes");
		return;
	}
	snprintf(one->here, sizeof(one->here), "no: it is %s", name);
	one->state = TH_ABILITY_MISSING;
	snprintf(one->advice, sizeof(one->advice),
		"keep the store on this host: --root /var/tmp/tidyhull-%u",
		(unsigned int)user->uid);
}

size_t th_ability_check(const struct th_ability_user *user,
	struct th_ability list[TH_ABILITIES_MAX])
{
	struct utsname host;
	struct th_ability *one;
	size_t count = 0;
	int major_id = 0, minor_id = 0;
	bool pings = may_ping(user->gid);

	one = add(list, &count, "kernel", "everything");
	if (uname(&host) == 0 &&
		sscanf(host.release, "%d.%d", &major_id, &minor_id) == 2)
		snprintf(one->here, sizeof(one->here), "%.60s", host.release);
	if (major_id * 1000 + minor_id < 5014) {
		one->state = TH_ABILITY_MISSING;
		snprintf(one->advice, sizeof(one->advice),
			"version 5.14 or later is needed");
	}
	check_place(list, &count, user);
	if (user->name)
		check_user(list, &count, user);
	check_namespaces(list, &count);
	check_files(list, &count);
	check_groups(list, &count, user);
	check_network(list, &count);
	if (user->name)
		check_uplink(list, &count, pings);
	else
		check_own_users(list, &count, user->store);
	return count;
}
