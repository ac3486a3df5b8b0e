#include "sandbox/child.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/close_range.h>
#include <net/if.h>
#include <grp.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/personality.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"
#include "base/inherit.h"
#include "base/libc.h"
#include "base/path.h"
#include "sandbox/run_hooks.h"
#include "sandbox/idmap.h"
#include "sandbox/inside.h"
#include "sandbox/mounts.h"
#include "sandbox/message.h"

/* Without treading on one another. */
int child_place_streams(const int stdio[3], struct th_error *err)
{
	int high[3];

	for (int i = 0; i < 3; i++) {
		high[i] = fcntl(stdio[i], F_DUPFD_CLOEXEC, 3);
		if (high[i] < 0)
			goto fail;
	}
	for (int i = 0; i < 3; i++) {
		if (dup2(high[i], i) < 0)
			goto fail;
		th_close(&high[i]);
	}
	return 0;
fail:
	return th_fail_sys(
		err, TH_FAILED, errno, "cannot join the container's streams");
}

/* ---- the root ---- */

/* Where descriptors wait that the program is to get. */
#define HANDED_FROM 128

static bool wants_propagation(const struct th_bundle *bundle)
{
	if (bundle->propagation & (MS_SHARED | MS_SLAVE))
		return true;
	for (size_t i = 0; i < bundle->mount_count; i++) {
		const struct th_strings *options = &bundle->mounts[i].options;

		for (size_t k = 0; k < options->count; k++) {
			if (strstr(options->items[k], "slave") ||
				strstr(options->items[k], "shared"))
				return true;
		}
	}
	return false;
}

static int cut_off(unsigned long cut, struct th_error *err)
{
	if (mount(NULL, "/", NULL, MS_REC | cut, NULL))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot detach the container's mounts from the host's");
	return 0;
}

/* A copy is a peer of what it was taken from, where that is shared, as systemd
 * has all mounts: what is mounted on it would appear on the host, and
 * pivot_root(2) takes no shared one. */
static int cut_root(int root_fd, unsigned long cut, struct th_error *err)
{
	struct mount_attr attr = {.propagation = cut};

	if (mount_setattr(root_fd, "", AT_EMPTY_PATH | AT_RECURSIVE, &attr,
		    sizeof(attr)))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot detach the container's root from the host's "
			"mounts");
	return 0;
}

/* The folders have to be on mounts of this namespace, until the overlay is
 * there. */
static int make_overlay(struct child *child, struct th_error *err)
{
	const struct th_sandbox_options *options = child->options;
	char path[TH_FD_PATH];
	int rc;

	if (move_mount(options->overlay_base, "", AT_FDCWD, "/",
		    MOVE_MOUNT_F_EMPTY_PATH))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot reach the image's layers");
	rc = th_overlay_open_at(
		options->overlay_base, options->overlay, &child->root_fd, err);
	/* Away at once: pivot_root puts the old root on top of the new one, to
	 * be unmounted, and with something on top of that one it would stay. */
	if (rc == 0 &&
		umount2(th_fd_path(options->overlay_base, "", path),
			MNT_DETACH))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot let go of the image's layers");
	return rc;
}

/* Sources are taken first: as detached mounts they keep their bonds with the
 * host's, and the rest of the host's mounts are then cut off. */
static int open_sources(struct child *child, struct th_error *err)
{
	const struct th_sandbox_options *options = child->options;
	const struct th_bundle *bundle = options->bundle;
	unsigned long cut = wants_propagation(bundle) ? MS_SLAVE : MS_PRIVATE;
	char *path;

	if (!child->mount_fds &&
		th_mounts_open(bundle, options->bundle_path, -1,
			&child->mount_fds, err))
		return -1;
	if (options->overlay)
		return cut_off(cut, err) || make_overlay(child, err) ? -1 : 0;
	path = th_path_absolute(options->bundle_path, bundle->root_path);
	if (!path)
		return th_fail_memory(err);
	if (child->root_fd < 0)
		child->root_fd = open_tree(AT_FDCWD, path,
			OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC | AT_RECURSIVE);
	if (child->root_fd < 0)
		th_fail_sys(
			err, TH_FAILED, errno, "cannot open the root %s", path);
	free(path);
	return child->root_fd < 0 || cut_root(child->root_fd, cut, err) ||
			cut_off(cut, err)
		? -1
		: 0;
}

static int run_hooks(const struct child *child, enum th_hook_kind kind,
	const char *status, pid_t pid, struct th_error *err)
{
	const struct th_sandbox_options *options = child->options;
	char *state;
	int rc;

	if (!options->bundle->hooks[kind].count)
		return 0;
	state = th_hooks_state(options->bundle, options->id, status, pid,
		options->bundle_path);
	if (!state)
		return th_fail_memory(err);
	rc = th_hooks_run(options->bundle, kind, state, err);
	free(state);
	return rc;
}

/* The hooks of the host's side are the parent's business. */
static int hooks_before_pivot(
	struct child *child, pid_t *pid, struct th_error *err)
{
	const struct th_hooks *hooks = child->options->bundle->hooks;
	struct setup_message message = {.kind = SETUP_HOOKS};

	if (hooks[TH_HOOK_PRESTART].count ||
		hooks[TH_HOOK_CREATE_RUNTIME].count ||
		hooks[TH_HOOK_CREATE_CONTAINER].count) {
		setup_tell(child->channel, &message, -1);
		if (!setup_await(child->channel, pid))
			_exit(1);
	}
	return run_hooks(
		child, TH_HOOK_CREATE_CONTAINER, "creating", *pid, err);
}

static int attach_memory(const struct th_sandbox_options *options, int rootfd,
	struct th_error *err)
{
	int target, rc;

	if (!options->memory_target || options->memory_mount < 0)
		return 0;
	target = th_path_make_in_root(rootfd, options->memory_target + 1, true);
	rc = target < 0
		? -1
		: move_mount(options->memory_mount, "", target, "",
			  MOVE_MOUNT_F_EMPTY_PATH | MOVE_MOUNT_T_EMPTY_PATH);
	if (rc)
		th_fail_sys(err, TH_FAILED, errno, "cannot mount %s",
			options->memory_target);
	th_close(&target);
	return rc;
}

static int mount_all(
	const struct child *child, int rootfd, struct th_error *err)
{
	if (th_inside_mounts(child->options->bundle, child->options->cgroup,
		    child->mount_fds, rootfd, err) ||
		attach_memory(child->options, rootfd, err))
		return th_trouble(err, TH_TROUBLE_MOUNT);
	return 0;
}

static int enter_root(struct child *child, pid_t *pid, struct th_error *err)
{
	const struct th_bundle *bundle = child->options->bundle;
	int rootfd = -1, rc = -1;

	if (open_sources(child, err))
		return th_trouble(err, TH_TROUBLE_MOUNT);
	/* Over the old root, which every process may reach; pivot_root then
	 * puts it in its place. */
	if (move_mount(
		    child->root_fd, "", AT_FDCWD, "/", MOVE_MOUNT_F_EMPTY_PATH))
		goto fail;
	rootfd =
		openat(child->root_fd, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (rootfd < 0)
		goto fail;
	if (mount_all(child, rootfd, err) ||
		th_inside_devices(bundle, rootfd, err) ||
		hooks_before_pivot(child, pid, err))
		goto out;
	if (fchdir(rootfd) || syscall(SYS_pivot_root, ".", ".") ||
		umount2(".", MNT_DETACH) || chdir("/"))
		goto fail;
	rc = 0;
	goto out;
fail:
	th_fail_sys(err, TH_FAILED, errno, "cannot enter the root %s",
		bundle->root_path);
out:
	th_close(&rootfd);
	th_close(&child->root_fd);
	return rc;
}

/* ---- the rest of the surroundings ---- */

/* Echo requests without a capability, for all groups that there are: the
 * kernel takes only those of this user namespace. Where it takes none, nothing
 * is lost but a comfort. */
static void allow_echo(void)
{
	int fd = open(
		"/proc/sys/net/ipv4/ping_group_range", O_WRONLY | O_CLOEXEC);
	struct th_id_map lines[TH_ID_MAP_LINES];
	size_t count = th_idmap_read("/proc/self/gid_map", lines);
	bool done = false;

	for (size_t i = 0; fd >= 0 && !done && i < count; i++) {
		/* The last group first. */
		const struct th_id_map *line = &lines[count - 1 - i];
		uint32_t last = line->inside + line->size - 1;
		char text[32];
		int len = snprintf(text, sizeof(text), "0 %u",
			last > INT32_MAX ? INT32_MAX : last);

		done = write(fd, text, (size_t)len) == len;
	}
	th_close(&fd);
}

/* The loopback device, and echo requests. */
static void prepare_network(void)
{
	struct ifreq request = {0};
	int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);

	memcpy(request.ifr_name, "lo", 3);
	request.ifr_flags = IFF_UP;
	if (fd >= 0)
		ioctl(fd, SIOCSIFFLAGS, &request);
	th_close(&fd);
	allow_echo();
}

/* Whom the maps make root; or whoever comes first in them. */
static uint32_t first_id(const struct th_id_maps *maps)
{
	uint32_t first = maps->count ? maps->items[0].inside : 0;

	for (size_t i = 0; i < maps->count; i++) {
		if (maps->items[i].inside == 0)
			first = 0;
	}
	return first;
}

static int become_mapped(const struct th_bundle *bundle, struct th_error *err)
{
	uid_t uid = first_id(&bundle->uids);
	gid_t gid = first_id(&bundle->gids);

	if (!(bundle->namespaces & CLONE_NEWUSER))
		return 0;
	setgroups(0, NULL);
	if (setresgid(gid, gid, gid) || setresuid(uid, uid, uid))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot become user %u of the container's ID mappings",
			uid);
	/* A change of IDs makes the process readable to others again. */
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	return 0;
}

static int name_host(const struct th_bundle *bundle, struct th_error *err)
{
	if ((bundle->hostname &&
		    sethostname(bundle->hostname, strlen(bundle->hostname))) ||
		(bundle->domainname &&
			setdomainname(bundle->domainname,
				strlen(bundle->domainname))))
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot set the host name");
	return 0;
}

static int finish_root(const struct th_bundle *bundle, struct th_error *err)
{
	int rootfd, folder, rc;

	rootfd = open("/", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	/* An image may name a working folder that it does not hold; where it
	 * cannot be made, entering it will say why. */
	folder = th_path_make_in_root(rootfd, bundle->process.cwd, true);
	th_close(&folder);
	rc = th_inside_protect(bundle, rootfd, err);
	if (rc == 0 && bundle->propagation &&
		mount(NULL, "/", NULL, (unsigned long)bundle->propagation,
			NULL))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot set the propagation of the root");
	th_close(&rootfd);
	return rc;
}

static int set_up(
	struct child *child, int *console, pid_t *pid, struct th_error *err)
{
	const struct th_sandbox_options *options = child->options;
	const struct th_bundle *bundle = options->bundle;

	if (become_mapped(bundle, err))
		return -1;
	/* Only now that the process is in its group, so that the group is the
	 * root of what it sees. */
	if (bundle->namespaces & CLONE_NEWCGROUP && unshare(CLONE_NEWCGROUP))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot create a cgroup namespace");
	if (!bundle->process.terminal &&
		child_place_streams(options->stdio, err))
		return -1;
	if (enter_root(child, pid, err))
		return -1;
	if (bundle->namespaces & CLONE_NEWNET)
		prepare_network();
	if (name_host(bundle, err) || th_inside_sysctls(bundle, err))
		return -1;
	if (bundle->process.terminal &&
		(th_inside_terminal(console, true, err) ||
			th_inside_take_terminal(err)))
		return -1;
	if (bundle->personality >= 0 &&
		personality((unsigned long)bundle->personality) < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set the personality");
	return finish_root(bundle, err);
}

/* ---- birth, waiting, program ---- */

/* The parent's end is closed: it died before it could be our killer. */
static void die_with_parent(int channel)
{
	char byte;

	prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
	if (recv(channel, &byte, 1, MSG_DONTWAIT | MSG_PEEK) == 0)
		_exit(1);
}

/* Whoever connects and says "go" starts the program; others only look. */
static int accept_start(int listener, pid_t *pid)
{
	for (;;) {
		int fd = accept4(listener, NULL, NULL, SOCK_CLOEXEC);

		if (fd < 0 && errno != EINTR && errno != ECONNABORTED)
			_exit(1);
		if (fd >= 0 && setup_await(fd, pid))
			return fd;
		th_close(&fd);
	}
}

/* All but the streams, the channel and what the reaper needs is closed before
 * the program's user has a say. */
static void close_rest(
	int *channel, int *status, int *handed, size_t handed_count)
{
	int top = 3;

	/* Those that are handed on wait further up. */
	for (size_t i = 0; i < handed_count; i++)
		handed[i] = fcntl(handed[i], F_DUPFD_CLOEXEC, HANDED_FROM);

	if (*channel != 3) {
		/* Both move to the bottom, one after the other. */
		if (*status == 3) {
			*status = fcntl(*status, F_DUPFD_CLOEXEC, 4);
			close(3);
		}
		dup3(*channel, 3, O_CLOEXEC);
		*channel = 3;
	}
	if (*status >= 0 && *status != 4) {
		dup3(*status, 4, O_CLOEXEC);
		*status = 4;
	}
	top = *status >= 0 ? 5 : 4;
	if (!handed_count) {
		syscall(SYS_close_range, top, ~0u, 0);
		return;
	}
	syscall(SYS_close_range, top, HANDED_FROM - 1, 0);
	syscall(SYS_close_range, handed[handed_count - 1] + 1, ~0u, 0);
}

/* The last step before the program: the channel gives up its place. */
static void hand_on(const struct th_bundle *bundle, const int *handed,
	size_t count, int *channel)
{
	struct th_strings *env =
		(struct th_strings *)(uintptr_t)&bundle->process.env;

	if (!count)
		return;
	*channel = fcntl(*channel, F_DUPFD_CLOEXEC, 2 * HANDED_FROM);
	for (size_t i = 0; i < count; i++)
		dup2(handed[i], 3 + (int)i);
	th_strings_take(env, th_format("LISTEN_FDS=%zu", count));
	th_strings_take(env, th_format("LISTEN_PID=%d", (int)getpid()));
}

static void announce_filter(int channel)
{
	struct setup_message message = {.kind = SETUP_FILTER};

	message.number = fcntl(channel, F_DUPFD_CLOEXEC, 3);
	close(message.number);
	setup_tell(channel, &message, -1);
}

static void run_program(struct child *child, int channel, pid_t pid)
{
	const struct th_sandbox_options *options = child->options;
	const struct th_bundle *bundle = options->bundle;
	struct th_inside_filter filter = {.program = options->filter,
		.flags = bundle->seccomp.flags,
		.listener = bundle->seccomp.listener_path != NULL,
		.channel = channel};
	struct th_error error = {0};
	int status = child->status, handed[TH_HANDED_MAX];
	size_t count = options->handed_count;

	if (count)
		memcpy(handed, options->handed, count * sizeof(*handed));
	if (run_hooks(child, TH_HOOK_START_CONTAINER, "created", pid, &error))
		goto fail;
	close_rest(&channel, &status, handed, count);
	filter.channel = channel;
	if (options->reaper) {
		if (th_inside_reaper(&bundle->process, options->program_pid,
			    status, &error))
			goto fail;
		th_close(&status);
	}
	if (filter.program && filter.listener)
		announce_filter(channel);
	if (th_inside_identity(&bundle->process, &filter, &error))
		goto fail;
	/* A change of user has taken the signal back. */
	if (options->listener < 0 && !options->reaper)
		die_with_parent(channel);
	hand_on(bundle, handed, count, &channel);
	th_inside_exec(&bundle->process, &error);
fail:
	setup_fail(channel, &error);
	_exit(1);
}

/* Closes what lies above the streams, but for those that are given. */
static void close_all_but(const int *fds, size_t count)
{
	int from = 3;

	for (;;) {
		int next = -1;

		for (size_t i = 0; i < count; i++) {
			if (fds[i] >= from && (next < 0 || fds[i] < next))
				next = fds[i];
		}
		if (next < 0)
			break;
		if (next > from)
			syscall(SYS_close_range, from, next - 1, 0);
		from = next + 1;
	}
	syscall(SYS_close_range, from, ~0u, 0);
}

static void keep_only(const struct child *child, int channel, int console)
{
	const struct th_sandbox_options *options = child->options;
	int fds[4 + TH_HANDED_MAX] = {
		channel, console, child->status, options->listener};

	if (options->handed_count)
		memcpy(fds + 4, options->handed,
			options->handed_count * sizeof(*fds));
	close_all_but(fds, 4 + options->handed_count);
}

void child_run(struct child *child)
{
	const struct th_sandbox_options *options = child->options;
	struct setup_message ready = {.kind = SETUP_READY};
	struct th_error error = {0};
	int console = -1, channel = child->channel;
	pid_t pid = 0;

	/* A session of its own: no terminal of the host can be its terminal. */
	setsid();
	th_inherit_no_signals();
	if (options->listener < 0)
		die_with_parent(channel);
	if (child->waits && !setup_await(channel, &pid))
		_exit(1);
	if (th_inside_score(&options->bundle->process, &error) ||
		(child->enters && !child->waits &&
			th_cgroup_enter_old(options->cgroup, &error)) ||
		set_up(child, &console, &pid, &error)) {
		setup_fail(channel, &error);
		_exit(1);
	}
	/* Locks and the like of the parent must not live on here. */
	keep_only(child, channel, console);
	setup_tell(channel, &ready, console);
	th_close(&console);
	/* It ends with a creation that is killed, of which nobody knows. */
	if (!setup_await(channel, &pid))
		_exit(1);
	if (options->listener >= 0) {
		th_close(&channel);
		channel = accept_start(options->listener, &pid);
	}
	run_program(child, channel, pid);
	_exit(1);
}
