#include "store/database_files.h"

#include <fcntl.h>
#include <stdlib.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/buffer.h"

int database_check_files(const char *path, struct th_error *err)
{
	static const char *const ends[] = {"", "-wal", "-shm"};
	struct stat st;

	for (size_t i = 0; i < sizeof(ends) / sizeof(*ends); i++) {
		char *name = th_format("%s%s", path, ends[i]);
		bool wrong = name && stat(name, &st) == 0 &&
			!S_ISREG(st.st_mode) && !S_ISDIR(st.st_mode);

		if (wrong)
			th_fail(err, TH_FAILED, "%.300s is not a regular file",
				name);
		free(name);
		if (wrong)
			return th_hint(err, "tidyhull doctor --repair");
	}
	return 0;
}

void database_reserve_log(const char *path)
{
	char *log = th_format("%s-wal", path);
	int fd = log ? open(log, O_WRONLY | O_CLOEXEC | O_NONBLOCK) : -1;
	struct stat st;

	/* A file system that cannot do that is as good as before. */
	if (fd >= 0 && fstat(fd, &st) == 0 && st.st_blocks * 512 < LOG_BYTES)
		fallocate(fd, FALLOC_FL_KEEP_SIZE, 0, LOG_BYTES);
	if (fd >= 0)
		close(fd);
	free(log);
}
