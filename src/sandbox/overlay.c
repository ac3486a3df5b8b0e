#include "sandbox/overlay.h"

#include <errno.h>
#include <string.h>
#include <sys/mount.h>
#include <unistd.h>

#include "base/file.h"

static int set_text(int fs, const char *key, const char *value)
{
	return fsconfig(fs, FSCONFIG_SET_STRING, key, value, 0);
}

/* Kernels before 6.7 take the layers as one string of at most 256 bytes for
 * this call; a colon in a name would split it, but ours have none. */
static int set_lowers_joined(int fs, const struct th_strings *lowers)
{
	struct th_buf joined;
	int rc;

	th_buf_init(&joined, 1 << 16);
	for (size_t i = 0; i < lowers->count; i++) {
		if (i)
			th_buf_adds(&joined, ":");
		th_buf_adds(&joined, lowers->items[i]);
	}
	rc = joined.failed ? -1 : set_text(fs, "lowerdir", joined.data);
	th_buf_release(&joined);
	return rc;
}

static int set_lowers(int fs, const struct th_strings *lowers)
{
	for (size_t i = 0; i < lowers->count; i++) {
		if (set_text(fs, "lowerdir+", lowers->items[i]) == 0)
			continue;
		return i == 0 && errno == EINVAL ? set_lowers_joined(fs, lowers)
						 : -1;
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
		return th_fail(err, TH_NOT_POSSIBLE,
			"cannot stack the image's layers (overlay): %s",
			line + 2);
	}
	return th_fail_sys(err, TH_NOT_POSSIBLE, sys,
		"cannot stack the image's layers (overlay)");
}

int th_overlay_open(
	const struct th_overlay *overlay, int *mount_fd, struct th_error *err)
{
	int fs, fd, rc = -1;

	fs = fsopen("overlay", FSOPEN_CLOEXEC);
	if (fs < 0) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"the kernel has no overlay file system");
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
