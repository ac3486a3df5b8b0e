#include "runtime/owner.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"

#define NAME "run"

#ifndef RENAME_NOREPLACE
#define RENAME_NOREPLACE 1
#endif

void owner_token(char token[OWNER_TOKEN])
{
	snprintf(token, OWNER_TOKEN, "%d-%lld", (int)getpid(),
		(long long)th_clock_now_us());
}

static char *early_path(const char *dir, const char *id, const char *token)
{
	return th_format("%s/.%s.%s", dir, id, token);
}

/* The file with its lock: whoever sees the folder by its name sees both. */
static int fill(const char *path, const char *token, int *lock)
{
	char *file = th_format("%s/" NAME, path);

	*lock = file ? open(file, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600)
		     : -1;
	free(file);
	return *lock >= 0 && flock(*lock, LOCK_SH) == 0 &&
			th_write_all(*lock, token, strlen(token)) == 0
		? 0
		: -1;
}

int owner_make_folder(const char *dir, const char *id, const char *token,
	int *lock, struct th_error *err)
{
	char *early = early_path(dir, id, token);
	char *path = th_format("%s/%s", dir, id);
	int rc = -1;

	*lock = -1;
	if (!early || !path)
		th_fail_memory(err);
	else if (mkdir(early, 0700) || fill(early, token, lock))
		th_fail_sys(err, TH_FAILED, errno, "cannot create %s", early);
	else if (syscall(SYS_renameat2, AT_FDCWD, early, AT_FDCWD, path,
			 RENAME_NOREPLACE) == 0)
		rc = 1;
	else if (errno == EEXIST)
		rc = 0;
	else
		th_fail_sys(err, TH_FAILED, errno, "cannot create %s", path);
	if (rc != 1) {
		th_close(lock);
		owner_sweep(dir, id, token);
	}
	free(early);
	free(path);
	return rc;
}

int owner_remove_folder(const char *dir, const char *id, struct th_error *err)
{
	char *path = th_format("%s/%s", dir, id), *early = NULL;
	char *file = th_format("%s/%s/" NAME, dir, id);
	char token[OWNER_TOKEN + 1] = "";
	int fd, rc = -1;

	fd = file ? open(file, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC)
		  : -1;
	if (fd >= 0 && read(fd, token, OWNER_TOKEN) > 0 && !strchr(token, '/'))
		early = early_path(dir, id, token);
	th_close(&fd);
	if (!path)
		th_fail_memory(err);
	else if (early && rename(path, early) == 0)
		rc = th_tree_remove(AT_FDCWD, early, err);
	else
		rc = th_tree_remove(AT_FDCWD, path, err);
	free(path);
	free(early);
	free(file);
	return rc;
}

void owner_sweep(const char *dir, const char *id, const char *token)
{
	struct th_error ignored = {0}; /* a folder of ours that nobody sees */
	char *early = early_path(dir, id, token);

	if (early)
		th_tree_remove(AT_FDCWD, early, &ignored);
	free(early);
}

/* The file may have been removed, and another one be there, before the lock was
 * had. */
static bool is_there(int fd, const char *path)
{
	struct stat held, now;

	return fstat(fd, &held) == 0 && stat(path, &now) == 0 &&
		held.st_ino == now.st_ino && held.st_dev == now.st_dev;
}

static bool lock_file(const char *dir, const char *id, int how, int *lock)
{
	char *path = th_format("%s/%s/" NAME, dir, id);

	*lock = path
		? open(path, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC)
		: -1;
	if (*lock >= 0 && (flock(*lock, how) || !is_there(*lock, path)))
		th_close(lock);
	free(path);
	return *lock >= 0;
}

bool owner_take_over(
	const char *dir, const char *id, const char *token, int *lock)
{
	char text[OWNER_TOKEN + 1] = "";

	if (!lock_file(dir, id, LOCK_SH, lock))
		return false;
	if (read(*lock, text, OWNER_TOKEN) > 0 && strcmp(text, token) == 0)
		return true;
	th_close(lock);
	return false;
}

bool owner_is_lost(const char *dir, const char *id, int *lock)
{
	return lock_file(dir, id, LOCK_EX | LOCK_NB, lock);
}
