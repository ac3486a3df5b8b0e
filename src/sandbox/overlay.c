#include "sandbox/overlay.h"

#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/utsname.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "sandbox/message.h"

static int set_text(int fs, const char *key, const char *value)
{
	return fsconfig(fs, FSCONFIG_SET_STRING, key, value, 0);
}

static int set_lowers(int fs, const struct th_strings *lowers)
{
	for (size_t i = 0; i < lowers->count; i++) {
		if (set_text(fs, "lowerdir+", lowers->items[i]))
			return -1;
	}
	return 0;
}

/* The kernel says more in the context's own log than by errno. */
static int fail(int fs, struct th_error *err)
{
	int sys = errno;
	char line[200];
	ssize_t len = read(fs, line, sizeof(line) - 1);

	if (len > 2) {
		line[len] = '\0';
		line[strcspn(line, "\n")] = '\0';
		th_fail(err, TH_NOT_POSSIBLE,
			"cannot mount the image's layers (overlay): %s",
			line + 2);
		if (err)
			err->sys = sys;
		return -1;
	}
	return th_fail_sys(err, TH_NOT_POSSIBLE, sys,
		"cannot mount the image's layers (overlay)");
}

static int open_by_context(
	const struct th_overlay *overlay, int *mount_fd, struct th_error *err)
{
	int fs, fd, rc = -1;

	fs = fsopen("overlay", FSOPEN_CLOEXEC);
	if (fs < 0) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"the kernel does not have the overlay file system");
		return th_hint(err, "load it as root: modprobe overlay");
	}
	if (set_text(fs, "source", "tidyhull") ||
		set_lowers(fs, overlay->lowers) ||
		set_text(fs, "upperdir", overlay->upper) ||
		set_text(fs, "workdir", overlay->work) ||
		(overlay->user_attributes &&
			fsconfig(
				fs, FSCONFIG_SET_FLAG, "userxattr", NULL, 0)) ||
		(overlay->discard &&
			fsconfig(fs, FSCONFIG_SET_FLAG, "volatile", NULL, 0)) ||
		fsconfig(fs, FSCONFIG_CMD_CREATE, NULL, NULL, 0)) {
		fail(fs, err);
		goto out;
	}
	/* Detached: it never has a place among the host's mounts. */
	fd = fsmount(fs, FSMOUNT_CLOEXEC, 0);
	if (fd < 0) {
		fail(fs, err);
		goto out;
	}
	*mount_fd = fd;
	rc = 0;
out:
	th_close(&fs);
	return rc;
}

/* ---- kernels before 6.7 ---- */

/* They take all layers as one text, of one page at most: descriptors make it
 * short. */
static int join_options(const struct th_overlay *overlay, struct th_buf *text)
{
	th_buf_adds(text, "lowerdir=");
	for (size_t i = 0; i < overlay->lowers->count; i++) {
		int fd = open(overlay->lowers->items[i],
			O_PATH | O_DIRECTORY | O_CLOEXEC);

		if (fd < 0)
			return -1;
		th_buf_addf(text, "%s/proc/self/fd/%d", i ? ":" : "", fd);
	}
	th_buf_addf(text, ",upperdir=%s,workdir=%s%s%s", overlay->upper,
		overlay->work, overlay->user_attributes ? ",userxattr" : "",
		overlay->discard ? ",volatile" : "");
	if (!text->failed)
		return 0;
	errno = E2BIG;
	return -1;
}

/* In a mount namespace that ends with this process, so that the host never sees
 * the mount; what is kept of it is a detached copy. */
static int mount_aside(const struct th_overlay *overlay)
{
	struct th_buf options;
	int fd = -1;

	th_buf_init(&options, 4096);
	if (unshare(CLONE_NEWNS) == 0 &&
		mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL) == 0 &&
		join_options(overlay, &options) == 0 &&
		mount("tidyhull", overlay->work, "overlay", 0, options.data) ==
			0)
		fd = open_tree(AT_FDCWD, overlay->work,
			OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
	th_buf_release(&options);
	return fd;
}

/* The caller's mount namespace is its own already. */
static int mount_here(const struct th_overlay *overlay)
{
	struct th_buf options;
	int fd = -1, sys;

	th_buf_init(&options, 4096);
	if (join_options(overlay, &options) == 0 &&
		mount("tidyhull", overlay->work, "overlay", 0, options.data) ==
			0) {
		fd = open_tree(AT_FDCWD, overlay->work,
			OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
		sys = errno;
		umount2(overlay->work, MNT_DETACH);
		errno = sys;
	}
	th_buf_release(&options);
	return fd;
}

static int open_by_name(
	const struct th_overlay *overlay, int *mount_fd, struct th_error *err)
{
	struct setup_message message = {.kind = SETUP_FAILED};
	int pair[2], fd = -1;
	pid_t pid;

	if (overlay->here) {
		*mount_fd = mount_here(overlay);
		return *mount_fd >= 0 ? 0
				      : th_fail_sys(err, TH_NOT_POSSIBLE, errno,
						"cannot mount the image's %zu "
						"layers (overlay)",
						overlay->lowers->count);
	}
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot mount the image's layers");
	pid = fork();
	if (pid == 0) {
		fd = mount_aside(overlay);
		message.kind = fd < 0 ? SETUP_FAILED : SETUP_READY;
		message.number = errno;
		setup_tell(pair[1], &message, fd);
		_exit(0);
	}
	close(pair[1]);
	if (pid > 0)
		setup_hear(pair[0], &message, &fd);
	while (pid > 0 && waitpid(pid, NULL, 0) < 0 && errno == EINTR)
		;
	close(pair[0]);
	if (fd >= 0) {
		*mount_fd = fd;
		return 0;
	}
	return th_fail_sys(err, TH_NOT_POSSIBLE, message.number,
		"cannot mount the image's %zu layers (overlay)",
		overlay->lowers->count);
}

/* unknown: what counts for a kernel that does not tell. */
static bool is_at_least(int wanted_major, int wanted_minor, bool unknown)
{
	struct utsname host;
	int major_id = 0, minor_id = 0;

	if (uname(&host) ||
		sscanf(host.release, "%d.%d", &major_id, &minor_id) != 2)
		return unknown;
	return major_id > wanted_major ||
		(major_id == wanted_major && minor_id >= wanted_minor);
}

/* An older kernel does not know the option that takes the layers one by one,
 * and would write each refusal into its log. */
static bool takes_layers_one_by_one(void)
{
	return is_at_least(6, 7, true);
}

bool th_overlay_takes_mapped(void)
{
	return is_at_least(5, 19, false);
}

int th_overlay_open(
	const struct th_overlay *overlay, int *mount_fd, struct th_error *err)
{
	return takes_layers_one_by_one()
		? open_by_context(overlay, mount_fd, err)
		: open_by_name(overlay, mount_fd, err);
}

static int add_at(int folder, const char *path, struct th_strings *paths)
{
	int fd = openat(folder, path, O_PATH | O_DIRECTORY | O_CLOEXEC);

	return fd < 0
		? -1
		: th_strings_take(paths, th_format("/proc/self/fd/%d", fd));
}

int th_overlay_open_at(int folder, const struct th_overlay *overlay,
	int *mount_fd, struct th_error *err)
{
	struct th_strings lowers = {0};
	struct th_overlay at = *overlay;
	char upper[TH_FD_PATH], work[TH_FD_PATH];
	int rc = 0;

	for (size_t i = 0; rc == 0 && i < overlay->lowers->count; i++)
		rc = add_at(folder, overlay->lowers->items[i], &lowers);
	if (rc) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot open the layers of the image");
	} else {
		at.here = true;
		at.lowers = &lowers;
		/* By a name below a descriptor: what is mounted there for a
		 * moment is found by a name only. */
		at.upper = th_fd_path(folder, overlay->upper, upper);
		at.work = th_fd_path(folder, overlay->work, work);
		rc = th_overlay_open(&at, mount_fd, err);
	}
	/* The descriptors end with this process's setting up. */
	th_strings_release(&lowers);
	return rc;
}
