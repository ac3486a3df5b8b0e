#include "network/forwarding.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"

/* One folder for all stores of a network namespace: a file named after each
 * store that needs forwarding, and "changed" with a line for each setting that
 * we changed: what it was, and its path below SETTINGS. */
#define SHARED "/run/tidyhull-host"
#define CHANGED "changed"
#define SETTINGS "/proc/sys/net/"
#define FORWARD4 "ipv4/ip_forward"
#define FORWARD6 "ipv6/conf/all/forwarding"

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

static int read_setting(const char *name)
{
	char path[PATH_MAX], value = '?';
	int fd;

	snprintf(path, sizeof(path), SETTINGS "%s", name);
	fd = open(path, O_RDONLY | O_CLOEXEC);
	if (fd < 0 || read(fd, &value, 1) != 1)
		value = '?';
	th_close(&fd);
	return value;
}

static int write_setting(const char *name, char value)
{
	char path[PATH_MAX];
	int fd, rc;

	snprintf(path, sizeof(path), SETTINGS "%s", name);
	fd = open(path, O_WRONLY | O_CLOEXEC);
	rc = fd >= 0 && write(fd, &value, 1) == 1 ? 0 : -1;
	th_close(&fd);
	return rc;
}

/* Noted before it is done, so that it is put back whatever happens. */
static int change(int folder, const char *name, char from, char to)
{
	int fd, rc;

	if (read_setting(name) != from)
		return 0;
	fd = openat(folder, CHANGED, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC,
		0600);
	rc = fd >= 0 && dprintf(fd, "%c %s\n", from, name) > 0 ? 0 : -1;
	th_close(&fd);
	return rc ? -1 : write_setting(name, to);
}

/* In the order of the lines: forwarding comes last, and its change resets no
 * other one. */
static void put_back(int folder)
{
	struct th_error ignored = {0}; /* then nothing was */
	struct th_buf text;

	th_buf_init(&text, 1 << 20);
	if (th_file_read_regular(folder, CHANGED, &text, &ignored) == 1) {
		for (char *line = text.data; *line;) {
			size_t len = strcspn(line, "\n");
			char *next = line + len + (line[len] == '\n');

			line[len] = '\0';
			if (len > 2)
				write_setting(line + 2, line[0]);
			line = next;
		}
	}
	th_buf_release(&text);
	unlinkat(folder, CHANGED, 0);
}

/* A default route by any device but the loopback (the kernel keeps one there
 * that refuses). */
bool th_forwarding_way_out6(void)
{
	struct th_error ignored = {0}; /* then none */
	struct th_buf text;
	bool found = false;

	th_buf_init(&text, 16 << 20);
	if (th_file_read(AT_FDCWD, "/proc/net/ipv6_route", &text, &ignored) ==
		1) {
		for (const char *line = text.data; *line && !found;) {
			size_t len = strcspn(line, "\n");

			found = strncmp(line,
					"00000000000000000000000000000000 00",
					35) == 0 &&
				!(len > 3 &&
					strncmp(line + len - 3, " lo", 3) == 0);
			line += len + (line[len] == '\n');
		}
	}
	th_buf_release(&text);
	return found;
}

/* A host that forwards does not listen to router advertisements any more,
 * which it may have its own way out from, unless accept_ra is 2. */
static int change6(int folder)
{
	DIR *dir = opendir(SETTINGS "ipv6/conf");
	struct dirent *entry;
	int rc = 0;

	while (dir && rc == 0 && (entry = readdir(dir))) {
		char name[NAME_MAX + 64];

		if (entry->d_name[0] == '.' ||
			strcmp(entry->d_name, "all") == 0 ||
			strcmp(entry->d_name, "default") == 0)
			continue;
		snprintf(name, sizeof(name), "ipv6/conf/%s/accept_ra",
			entry->d_name);
		rc = change(folder, name, '1', '2');
	}
	if (dir)
		closedir(dir);
	return rc ? -1 : change(folder, FORWARD6, '0', '1');
}

bool th_forwarding_has6(void)
{
	return read_setting(FORWARD6) == '1';
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
	if (change(folder, FORWARD4, '0', '1'))
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot switch on IPv4 forwarding");
	else if (th_forwarding_way_out6() && !th_forwarding_has6() &&
		change6(folder))
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot switch on IPv6 forwarding");
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
			strcmp(entry->d_name, CHANGED) != 0;
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
		put_back(folder);
		if (stat("/proc/self/ns/net", &st) == 0) {
			snprintf(path, sizeof(path), SHARED "/%lu",
				(unsigned long)st.st_ino);
			rmdir(path);
			rmdir(SHARED);
		}
	}
	close(folder);
}
