#include "sandbox/sealed.h"

#include <errno.h>
#include <fcntl.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"

/* Out of the way of the descriptors that a new program gets. */
static int move_up(int fd)
{
	int high = fcntl(fd, F_DUPFD_CLOEXEC, 16);

	th_close(&fd);
	return high;
}

int th_sealed_open(const char *path, struct th_error *err)
{
	struct mount_attr attr = {.attr_set = MOUNT_ATTR_RDONLY};
	int fd = open_tree(AT_FDCWD, path, OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);

	if (fd < 0 ||
		mount_setattr(fd, "", AT_EMPTY_PATH, &attr, sizeof(attr))) {
		th_close(&fd);
		fd = open(path, O_PATH | O_CLOEXEC);
	}
	if (fd >= 0)
		fd = move_up(fd);
	if (fd >= 0)
		return fd;
	th_fail_sys(err, TH_FAILED, errno, "cannot start %s", path);
	return th_hint(err, "is tidyhull installed completely?");
}
