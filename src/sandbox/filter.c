#include "sandbox/filter.h"

#include <errno.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <sys/syscall.h>
#include <unistd.h>

int th_filter_load(const struct th_buf *program, unsigned int flags,
	bool listener, int *fd, struct th_error *err)
{
	struct sock_fprog filter = {.len = (unsigned short)(program->len /
					    sizeof(struct sock_filter)),
		.filter = (struct sock_filter *)(void *)program->data};
	long rc;

	*fd = -1;
	if (listener)
		flags |= SECCOMP_FILTER_FLAG_NEW_LISTENER;
	/* The two do not go together but with this. */
	if (listener && flags & SECCOMP_FILTER_FLAG_TSYNC)
		flags |= SECCOMP_FILTER_FLAG_TSYNC_ESRCH;
	rc = syscall(SYS_seccomp, SECCOMP_SET_MODE_FILTER, flags, &filter);
	if (rc < 0)
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot load the system-call filter");
	if (listener)
		*fd = (int)rc;
	return 0;
}
