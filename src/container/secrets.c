#include "container/secrets.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/json.h"
#include "base/libc.h"

static int make_memory(int *mount_fd, struct th_error *err)
{
	int fs = fsopen("tmpfs", FSOPEN_CLOEXEC);

	*mount_fd = -1;
	if (fs >= 0 &&
		fsconfig(fs, FSCONFIG_SET_STRING, "source", "secrets", 0) ==
			0 &&
		fsconfig(fs, FSCONFIG_SET_STRING, "mode", "0755", 0) == 0 &&
		fsconfig(fs, FSCONFIG_CMD_CREATE, NULL, NULL, 0) == 0)
		*mount_fd = fsmount(fs, FSMOUNT_CLOEXEC,
			MOUNT_ATTR_NOSUID | MOUNT_ATTR_NODEV |
				MOUNT_ATTR_NOEXEC);
	if (*mount_fd < 0)
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot make the memory for secrets");
	th_close(&fs);
	return *mount_fd < 0 ? -1 : 0;
}

static int put(int mount_fd, const char *name, const char *value, uid_t uid,
	gid_t gid, struct th_error *err)
{
	int fd = openat(
		mount_fd, name, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0400);

	if (fd < 0 || th_write_all(fd, value, strlen(value)) ||
		fchown(fd, uid, gid)) {
		th_fail_write(
			err, errno, "cannot write the secret \"%s\"", name);
		th_close(&fd);
		return -1;
	}
	th_close(&fd);
	return 0;
}

int th_secrets_mount(
	int folder, uid_t uid, gid_t gid, int *mount_fd, struct th_error *err)
{
	struct mount_attr readonly = {.attr_set = MOUNT_ATTR_RDONLY};
	const char *name;
	json_t *doc = NULL, *value;
	int rc;

	*mount_fd = -1;
	rc = th_json_read_file(folder, TH_SECRETS, TH_SECRETS_MAX, &doc, err);
	if (rc <= 0)
		return rc;
	rc = make_memory(mount_fd, err);
	json_object_foreach(doc, name, value)
	{
		if (rc == 0)
			rc = put(*mount_fd, name, json_string_value(value), uid,
				gid, err);
	}
	if (rc == 0 &&
		mount_setattr(*mount_fd, "", AT_EMPTY_PATH, &readonly,
			sizeof(readonly)))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot make the secrets read-only");
	if (rc)
		th_close(mount_fd);
	json_decref(doc);
	return rc;
}
