#include "container/lock.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"

static void lock_name(const char *id, char name[64])
{
	snprintf(name, 64, "%.40s.lock", id);
}

int th_lock_take(int run_fd, const char *id, int *fd, struct th_error *err)
{
	struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
	struct stat st;
	char name[64];
	int made;

	lock_name(id, name);
	/* Whoever had it may have removed the file in between. */
	for (int tries = 0; tries < 100; tries++) {
		made = openat(run_fd, name, O_RDWR | O_CREAT | O_CLOEXEC, 0600);
		if (made < 0)
			break;
		if (fcntl(made, F_SETLK, &lock)) {
			int sys = errno;

			close(made);
			if (sys == EACCES || sys == EAGAIN)
				return 0;
			errno = sys;
			break;
		}
		/* Locked, but perhaps a file that was just removed. */
		if (fstat(made, &st) == 0 && st.st_nlink > 0) {
			*fd = made;
			return 1;
		}
		close(made);
	}
	return th_fail_sys(err, TH_FAILED, errno, "cannot lock the container");
}

int th_lock_held(int run_fd, const char *id, int *pid)
{
	struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
	char name[64];
	int fd, held;

	lock_name(id, name);
	fd = openat(run_fd, name, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
	if (fd < 0)
		return 0;
	/* A record lock, not flock: the kernel tells whose it is, and it is not
	 * inherited by the container's processes. */
	held = fcntl(fd, F_GETLK, &lock) == 0 && lock.l_type != F_UNLCK;
	if (held)
		*pid = lock.l_pid;
	close(fd);
	return held;
}

bool th_lock_is_there(int run_fd, const char *id, int fd)
{
	struct stat name, open;
	char path[64];

	lock_name(id, path);
	return fd >= 0 && fstat(fd, &open) == 0 &&
		fstatat(run_fd, path, &name, AT_SYMLINK_NOFOLLOW) == 0 &&
		th_is_same_file(&name, &open);
}

int th_lock_wait(int run_fd, const char *id, int timeout_ms, int *fd,
	struct th_error *err)
{
	const struct timespec step = {.tv_nsec = 1000000};
	int64_t until = th_clock_mono_ms() + timeout_ms;
	int rc;

	while ((rc = th_lock_take(run_fd, id, fd, err)) == 0) {
		if (th_clock_mono_ms() > until)
			return 0;
		nanosleep(&step, NULL);
	}
	return rc;
}

bool th_lock_drop(int run_fd, const char *id, int *fd)
{
	char name[64];
	bool gone;

	if (*fd < 0)
		return true;
	lock_name(id, name);
	/* Unlinked while it is held: whoever opened it before finds a file
	 * without links, and makes a new one. */
	gone = unlinkat(run_fd, name, 0) == 0 || errno == ENOENT;
	th_close(fd);
	return gone;
}
