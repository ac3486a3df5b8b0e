#include "sandbox/cgroup.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/magic.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/vfs.h>
#include <time.h>
#include <unistd.h>

#include "base/file.h"

/* How long the last processes get to leave after the kill. */
#define LEAVE_TRIES 400
#define LEAVE_STEP_NS 5000000

const char *th_cgroup_mount(void)
{
	static const char *const places[] = {
		"/sys/fs/cgroup", "/sys/fs/cgroup/unified"};
	struct statfs fs;

	for (size_t i = 0; i < sizeof(places) / sizeof(*places); i++) {
		if (statfs(places[i], &fs) == 0 &&
			fs.f_type == CGROUP2_SUPER_MAGIC)
			return places[i];
	}
	return NULL;
}

int th_cgroup_make(
	const char *group, const char *name, int *fd, struct th_error *err)
{
	const char *mount = th_cgroup_mount();
	char path[256];

	*fd = -1;
	if (!mount)
		return 0;
	/* Another container's end may remove the group in between. */
	for (int tries = 0; tries < 20; tries++) {
		snprintf(path, sizeof(path), "%s/%s", mount, group);
		if (mkdir(path, 0755) && errno != EEXIST)
			break;
		snprintf(path, sizeof(path), "%s/%s/%s", mount, group, name);
		if (mkdir(path, 0755) == 0 || errno == EEXIST) {
			*fd = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
			if (*fd >= 0)
				return 0;
		}
		if (errno != ENOENT)
			break;
	}
	return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
		"cannot make the control group %s", path);
}

static void kill_all(const char *path)
{
	char file[320];
	int fd;

	snprintf(file, sizeof(file), "%s/cgroup.kill", path);
	fd = open(file, O_WRONLY | O_CLOEXEC);
	if (fd < 0)
		return;
	if (write(fd, "1", 1) < 0) {
		/* It is empty or gone: the removal will tell. */
	}
	close(fd);
}

bool th_cgroup_remove(const char *group, const char *name)
{
	const struct timespec step = {.tv_nsec = LEAVE_STEP_NS};
	const char *mount = th_cgroup_mount();
	char path[256];

	if (!mount)
		return true;
	snprintf(path, sizeof(path), "%s/%s/%s", mount, group, name);
	for (int tries = 0; tries < LEAVE_TRIES; tries++) {
		if (rmdir(path) == 0 || errno == ENOENT) {
			snprintf(path, sizeof(path), "%s/%s", mount, group);
			rmdir(path);
			return true;
		}
		if (tries == 0)
			kill_all(path);
		nanosleep(&step, NULL);
	}
	return false;
}
