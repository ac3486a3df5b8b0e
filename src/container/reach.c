#include "container/reach.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "ipc/channel.h"
#include "container/lock.h"

/* What a keeper that is well needs is a few milliseconds. */
#define RECALL_MS 3000
#define LOOK_MS 5
/* Program, store, folder of sockets, ID. */
#define ID_AT 3
#define ARGUMENTS 16384

/* A copy of a store has containers of the same IDs. One that is not found any
 * more has been moved. */
static bool is_same_folder(const char *path, int fd)
{
	struct stat named, own;

	return fd < 0 || stat(path, &named) || fstat(fd, &own) ||
		th_is_same_file(&named, &own);
}

/* The memory of a process that ends goes before its locks do: one whose lock is
 * free because it was killed has no arguments any more. */
static bool serves(const char *process, int run_fd, const char *id)
{
	char path[64], text[ARGUMENTS], *at = text, *end, *run = text;
	ssize_t len;
	int fd;

	snprintf(path, sizeof(path), "/proc/%.20s/cmdline", process);
	fd = open(path, O_RDONLY | O_CLOEXEC);
	if (fd < 0)
		return false;
	len = read(fd, text, sizeof(text) - 1);
	close(fd);
	if (len <= 0)
		return false;
	text[len] = '\0';
	end = text + len;
	if (strcmp(text, "tidyhull-keeper") != 0)
		return false;
	for (int i = 0; i < ID_AT && at < end; i++) {
		run = at;
		at += strlen(at) + 1;
	}
	return at < end && strcmp(at, id) == 0 && is_same_folder(run, run_fd);
}

/* Its parent's number and its user; a process that is not dumpable, as keepers
 * are, belongs to root as a file. */
static bool read_status(const char *process, int *parent, uid_t *user)
{
	char path[64], line[256];
	unsigned int number;
	int found = 0;
	FILE *file;

	snprintf(path, sizeof(path), "/proc/%.20s/status", process);
	file = fopen(path, "re");
	if (!file)
		return false;
	while (found < 2 && fgets(line, sizeof(line), file)) {
		if (sscanf(line, "PPid: %d", parent) == 1) {
			found++;
		} else if (sscanf(line, "Uid: %u", &number) == 1) {
			*user = number;
			found++;
		}
	}
	fclose(file);
	return found == 2;
}

/* A child that has not yet become another program looks like its parent. */
static bool is_keeper(const char *process, int run_fd, const char *id)
{
	char above[24];
	int parent;
	uid_t user;

	if (!serves(process, run_fd, id) ||
		!read_status(process, &parent, &user) || user != geteuid())
		return false;
	snprintf(above, sizeof(above), "%d", parent);
	return !serves(above, run_fd, id);
}

int th_keeper_find(int run_fd, const char *id)
{
	DIR *dir = opendir("/proc");
	struct dirent *entry;
	int pidfd = -1;

	while (dir && pidfd < 0 && (entry = readdir(dir))) {
		const char *name = entry->d_name;

		if (*name < '1' || *name > '9' || !is_keeper(name, run_fd, id))
			continue;
		pidfd = (int)syscall(SYS_pidfd_open, atoi(name), 0);
		/* Still the one that was looked at? */
		if (pidfd >= 0 && !is_keeper(name, run_fd, id))
			th_close(&pidfd);
	}
	if (dir)
		closedir(dir);
	return pidfd;
}

bool th_keeper_lives(int run_fd, const char *id)
{
	int pid, pidfd;

	if (th_lock_held(run_fd, id, &pid))
		return true;
	pidfd = th_keeper_find(run_fd, id);
	if (pidfd < 0)
		return false;
	close(pidfd);
	return true;
}

/* Calls the keeper until it can be found; channel may be NULL. */
static int recall(
	int run_fd, const char *id, int *channel, struct th_error *err)
{
	struct pollfd keeper = {.events = POLLIN};
	int64_t until = th_clock_mono_ms() + RECALL_MS;
	int made = -1, pid, rc = 0;

	keeper.fd = th_keeper_find(run_fd, id);
	if (keeper.fd < 0)
		return 0;
	if (syscall(SYS_pidfd_send_signal, keeper.fd, SIGHUP, NULL, 0)) {
		rc = errno == ESRCH
			? 0
			: th_fail_sys(err, TH_FAILED, errno,
				  "cannot call the container's keeper");
		close(keeper.fd);
		return rc;
	}
	do {
		if (poll(&keeper, 1, LOOK_MS) > 0)
			break; /* it has ended */
		rc = th_channel_connect(run_fd, id, &made, err);
		if (rc == 1 && !th_lock_held(run_fd, id, &pid)) {
			th_close(&made);
			rc = 0;
		}
		if (rc == 0 && th_clock_mono_ms() > until)
			rc = th_fail(err, TH_FAILED,
				"the container's keeper does not answer");
	} while (rc == 0);
	if (rc == 1 && channel)
		*channel = made;
	else
		th_close(&made);
	close(keeper.fd);
	return rc;
}

int th_keeper_recall(int run_fd, const char *id, struct th_error *err)
{
	return recall(run_fd, id, NULL, err);
}

int th_keeper_reach(
	int run_fd, const char *id, int *channel, struct th_error *err)
{
	int rc = th_channel_connect(run_fd, id, channel, err);

	return rc ? rc : recall(run_fd, id, channel, err);
}
