/* What a keeper is found by, made anew: a cleaner of files, or somebody by
 * mistake, has removed its socket, its lock, or the folder with both. */
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/keeper.h"
#include "container/lock.h"

/* The folder may be another one of the same name by now. */
static int renew_folder(struct th_store *store, struct th_error *err)
{
	struct stat now, before;
	int fd, rc = 0;

	if (th_dir_make(store->run, 0700, err))
		return -1;
	fd = th_dir_open_private(store->run, err);
	if (fd < 0)
		return -1;
	if (fstat(fd, &now) || fstat(store->run_fd, &before) ||
		(!th_is_same_file(&now, &before) &&
			dup3(fd, store->run_fd, O_CLOEXEC) < 0))
		rc = -1;
	close(fd);
	return rc;
}

void keeper_renew(struct keeper *keeper)
{
	struct th_error ignored = {0}; /* the next look */
	int run = keeper->store->run_fd, made = -1;
	struct stat st;
	char path[64];

	if (renew_folder(keeper->store, &ignored))
		return;
	/* The lock first: whoever holds it may replace the socket. */
	if (!th_lock_is_there(run, keeper->id, keeper->lock_fd)) {
		if (th_lock_take(run, keeper->id, &made, &ignored) != 1)
			return;
		th_close(&keeper->lock_fd);
		keeper->lock_fd = made;
	}
	snprintf(path, sizeof(path), "%.32s.sock", keeper->id);
	if (fstatat(run, path, &st, AT_SYMLINK_NOFOLLOW) == 0 &&
		th_is_same_file(&st, &keeper->clients.socket))
		return;
	keeper_stop_listening(keeper);
	keeper_listen(keeper, &ignored);
}
