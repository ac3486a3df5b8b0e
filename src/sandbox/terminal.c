/* The container's terminal. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "sandbox/inside.h"

/* The OCI Runtime Specification (config-linux.md, "Default Devices") wants the
 * terminal at /dev/console as well. */
static int bind_at_console(int slave)
{
	char path[TH_FD_PATH];
	int fd, at, rc;

	at = open("/dev/console", O_WRONLY | O_CREAT | O_CLOEXEC | O_NOCTTY,
		0600);
	if (at < 0)
		return -1;
	fd = open_tree(AT_FDCWD, th_fd_path(slave, "", path),
		OPEN_TREE_CLONE | OPEN_TREE_CLOEXEC);
	rc = fd < 0 ? -1
		    : move_mount(fd, "", AT_FDCWD, "/dev/console",
			      MOVE_MOUNT_F_EMPTY_PATH);
	th_close(&fd);
	th_close(&at);
	return rc;
}

int th_inside_terminal(int *master, bool bind_console, struct th_error *err)
{
	int slave = -1, fd, unlock = 0;

	fd = open("/dev/ptmx", O_RDWR | O_NOCTTY | O_CLOEXEC);
	if (fd < 0 || ioctl(fd, TIOCSPTLCK, &unlock))
		goto fail;
	slave = ioctl(fd, TIOCGPTPEER, O_RDWR | O_NOCTTY | O_CLOEXEC);
	if (slave < 0 || (bind_console && bind_at_console(slave)))
		goto fail;
	if (dup2(slave, 0) < 0 || dup2(slave, 1) < 0 || dup2(slave, 2) < 0)
		goto fail;
	th_close(&slave);
	*master = fd;
	return 0;
fail:
	th_fail_sys(err, TH_FAILED, errno,
		"cannot open a terminal for the container");
	th_close(&slave);
	th_close(&fd);
	return -1;
}

int th_inside_take_terminal(struct th_error *err)
{
	return ioctl(0, TIOCSCTTY, 0)
		? th_fail_sys(err, TH_FAILED, errno,
			  "cannot take the container's terminal")
		: 0;
}
