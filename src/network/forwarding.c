#include "network/forwarding.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"

/* One folder for all stores of a network namespace: a file named after each
 * store that needs forwarding, and "was-off" where we switched it on. */
#define SHARED "/run/tidyhull-host"
#define SETTING "/proc/sys/net/ipv4/ip_forward"
#define WAS_OFF "was-off"

/* Opens the folder and locks it; -1 where it cannot be made. */
static int open_shared(void)
{
	char path[96];
	struct stat st;
	int fd;

	if (stat("/proc/self/ns/net", &st))
		return -1;
	snprintf(path, sizeof(path), SHARED "/%lu", (unsigned long)st.st_ino);
	/* The last one to leave may remove the folder in between. */
	for (int tries = 0; tries < 20; tries++) {
		if (th_dir_make(path, 0700, NULL))
			return -1;
		fd = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
		if (fd < 0)
			continue;
		if (flock(fd, LOCK_EX) == 0 && fstat(fd, &st) == 0 &&
			st.st_nlink > 0)
			return fd;
		close(fd);
	}
	return -1;
}

static int read_setting(void)
{
	char value = '0';
	int fd = open(SETTING, O_RDONLY | O_CLOEXEC);

	if (fd < 0 || read(fd, &value, 1) != 1)
		value = '?';
	th_close(&fd);
	return value;
}

static int write_setting(char value)
{
	int fd = open(SETTING, O_WRONLY | O_CLOEXEC);
	int rc = fd >= 0 && write(fd, &value, 1) == 1 ? 0 : -1;

	th_close(&fd);
	return rc;
}

static int touch(int folder, const char *name)
{
	int fd = openat(folder, name, O_WRONLY | O_CREAT | O_CLOEXEC, 0600);

	if (fd < 0)
		return -1;
	close(fd);
	return 0;
}

int th_forwarding_take(const char *tag, struct th_error *err)
{
	int folder = open_shared(), rc = -1;

	if (folder < 0)
		return th_fail_sys(
			err, TH_FAILED, errno, "cannot use the folder " SHARED);
	if (read_setting() == '0' &&
		(touch(folder, WAS_OFF) || write_setting('1')))
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot switch on IPv4 forwarding");
	else if (touch(folder, tag))
		th_fail_sys(
			err, TH_FAILED, errno, "cannot use the folder " SHARED);
	else
		rc = 0;
	close(folder);
	return rc;
}

static int others_left(int folder)
{
	struct dirent *entry;
	int copy = dup(folder), left = 0;
	DIR *dir = copy < 0 ? NULL : fdopendir(copy);

	if (!dir)
		return 1;
	rewinddir(dir);
	while ((entry = readdir(dir)))
		left += entry->d_name[0] != '.' &&
			strcmp(entry->d_name, WAS_OFF) != 0;
	closedir(dir);
	return left;
}

void th_forwarding_give(const char *tag)
{
	char path[96];
	struct stat st;
	int folder;

	if (access(SHARED, F_OK))
		return;
	folder = open_shared();
	if (folder < 0)
		return;
	unlinkat(folder, tag, 0);
	if (!others_left(folder)) {
		if (unlinkat(folder, WAS_OFF, 0) == 0)
			write_setting('0');
		if (stat("/proc/self/ns/net", &st) == 0) {
			snprintf(path, sizeof(path), SHARED "/%lu",
				(unsigned long)st.st_ino);
			rmdir(path);
			rmdir(SHARED);
		}
	}
	close(folder);
}
