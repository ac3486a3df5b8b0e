#include "store/presence.h"

#include <fcntl.h>
#include <stdbool.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/path.h"

/* What a connection keeps locked for as long as it is open (SQLite's
 * os_unix.c): the shared bytes of the file, and the one of the log's index that
 * says that somebody uses it. */
static const struct held {
	const char *file;
	off_t from, len;
} holds[TH_PRESENCE_FILES] = {{"", 0x40000002, 510}, {"-shm", 128, 1}};

/* Locks of the open file and not of the process: SQLite's are taken and given
 * up beside them (fcntl(2), "Open file description locks"). */
static void set(const struct th_presence *presence, bool held)
{
	for (size_t i = 0; i < TH_PRESENCE_FILES; i++) {
		struct flock lock = {.l_type = held ? F_RDLCK : F_UNLCK,
			.l_whence = SEEK_SET,
			.l_start = holds[i].from,
			.l_len = holds[i].len};

		if (presence->fds[i] >= 0)
			fcntl(presence->fds[i], F_OFD_SETLK, &lock);
	}
}

void th_presence_init(struct th_presence *presence)
{
	for (size_t i = 0; i < TH_PRESENCE_FILES; i++)
		presence->fds[i] = -1;
}

void th_presence_begin(struct th_presence *presence, const char *path)
{
	for (size_t i = 0; i < TH_PRESENCE_FILES; i++) {
		char *name;

		if (presence->fds[i] >= 0)
			continue;
		name = th_format("%s%s", path, holds[i].file);
		if (name)
			presence->fds[i] =
				open(name, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
		free(name);
	}
	set(presence, true);
}

static bool is_another(int fd, const char *path)
{
	struct stat held, now;

	return fd >= 0 &&
		(fstat(fd, &held) || stat(path, &now) ||
			!th_is_same_file(&held, &now));
}

void th_presence_renew(struct th_presence *presence, const char *path)
{
	if (is_another(presence->fds[0], path))
		th_presence_release(presence);
	th_presence_begin(presence, path);
}

void th_presence_end(const struct th_presence *presence)
{
	set(presence, false);
}

void th_presence_release(struct th_presence *presence)
{
	for (size_t i = 0; i < TH_PRESENCE_FILES; i++)
		th_close(&presence->fds[i]);
}
