#include "container/apart.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/capability.h>
#include <poll.h>
#include <signal.h>
#include <string.h>
#include <sys/fsuid.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"

#define BIT(capability) ((uint64_t)1 << (capability))
/* For files of any owner. */
#define KEPT                                                                   \
	(BIT(CAP_CHOWN) | BIT(CAP_DAC_OVERRIDE) | BIT(CAP_FOWNER) |            \
		BIT(CAP_FSETID) | BIT(CAP_SETFCAP) | BIT(CAP_MKNOD))
#define READ_BYTES 65536

/* What comes before the reply. */
struct verdict {
	int rc;
	struct th_error error;
};

static const int calls[] = {
	SYS_prctl,
	SYS_brk,
	SYS_clock_gettime,
	SYS_clock_nanosleep,
	SYS_close,
	SYS_copy_file_range,
	SYS_dup,
	SYS_exit,
	SYS_exit_group,
	SYS_fadvise64,
	SYS_fallocate,
	SYS_fchdir,
	SYS_fchmod,
	SYS_fchmodat,
	SYS_fchown,
	SYS_fchownat,
	SYS_fcntl,
	SYS_fdatasync,
	SYS_fgetxattr,
	SYS_flistxattr,
	SYS_fremovexattr,
	SYS_fsetxattr,
	SYS_fstat,
	SYS_fstatfs,
	SYS_fsync,
	SYS_ftruncate,
	SYS_futex,
	SYS_getcwd,
	SYS_getdents64,
	SYS_getegid,
	SYS_geteuid,
	SYS_getgid,
	SYS_getpid,
	SYS_getrandom,
	SYS_gettid,
	SYS_getuid,
	SYS_getxattr,
	SYS_ioctl,
	SYS_lgetxattr,
	SYS_linkat,
	SYS_listxattr,
	SYS_llistxattr,
	SYS_lseek,
	SYS_lsetxattr,
	SYS_madvise,
	SYS_mkdirat,
	SYS_mknodat,
	SYS_mmap,
	SYS_mprotect,
	SYS_mremap,
	SYS_munmap,
	SYS_newfstatat,
	SYS_openat,
	SYS_openat2,
	SYS_ppoll,
	SYS_pread64,
	SYS_pwrite64,
	SYS_read,
	SYS_readlinkat,
	SYS_readv,
	SYS_renameat2,
	SYS_restart_syscall,
	SYS_rt_sigaction,
	SYS_rt_sigprocmask,
	SYS_rt_sigreturn,
	SYS_sigaltstack,
	SYS_sendfile,
	SYS_setxattr,
	SYS_splice,
	SYS_statfs,
	SYS_statx,
	SYS_symlinkat,
	SYS_sync_file_range,
	SYS_tgkill,
	SYS_umask,
	SYS_unlinkat,
	SYS_utimensat,
	SYS_write,
	SYS_writev,
#ifdef SYS_fchmodat2
	SYS_fchmodat2,
#else
	452,
#endif
#ifdef SYS_renameat
	SYS_renameat,
#endif
#ifdef SYS_open
	SYS_open,
	SYS_stat,
	SYS_lstat,
	SYS_chmod,
	SYS_readlink,
	SYS_rename,
	SYS_unlink,
#endif
};

static int go_apart(const struct th_apart *how, struct th_error *err)
{
	/* Somebody without the right to it has no other rights either. */
	if (how->root >= 0 && (fchdir(how->root) || chroot(".")) &&
		errno != EPERM)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot make the container's root this process's");
	/* This takes the capabilities for files out of effect; they come back
	 * with the bound. */
	if (how->maker) {
		setfsgid(how->maker);
		setfsuid(how->maker);
	}
	return th_wall(KEPT, how->folders, how->count, calls,
		sizeof(calls) / sizeof(*calls), err);
}

static _Noreturn void be_child(const struct th_apart *how, int out,
	int (*work)(void *arg, struct th_buf *reply, struct th_error *err),
	void *arg, struct th_buf *reply)
{
	struct verdict verdict = {.rc = -1};

	int rc = go_apart(how, &verdict.error);

	/* A change of IDs takes both back. */
	prctl(PR_SET_PDEATHSIG, SIGKILL, 0, 0, 0);
	prctl(PR_SET_DUMPABLE, 0, 0, 0, 0);
	/* What it has done is counted in memory that is shared; the parent
	 * tells it. */
	if (how->work)
		how->work->tell = NULL;
	if (rc == 0)
		verdict.rc = work(arg, reply, &verdict.error);
	if (th_write_all(out, &verdict, sizeof(verdict)) == 0 && reply->len)
		th_write_all(out, reply->data, reply->len);
	_exit(0);
}

/* How long the end of a child may take once it has said all. */
#define END_MS 1000
/* How often it is told what it has done. */
#define TELL_MS 100

static void end_child(int pidfd, pid_t pid, bool at_end, int *status)
{
	struct pollfd one = {.fd = pidfd, .events = POLLIN};

	if (!at_end || pidfd < 0 || poll(&one, 1, END_MS) <= 0)
		kill(pid, SIGKILL);
	while (waitpid(pid, status, 0) < 0 && errno == EINTR)
		;
}

/* All that comes. True where the child is at its end, and has not had its time.
 */
static bool listen_to(int in, int patience_ms, const struct th_work *work,
	struct th_buf *text)
{
	int64_t until = th_clock_mono_ms() + patience_ms;

	for (;;) {
		struct pollfd one = {.fd = in, .events = POLLIN};
		int64_t left = until - th_clock_mono_ms();
		char *room = th_buf_room(text, READ_BYTES);
		ssize_t got;

		if (!room || (patience_ms && left <= 0))
			return false;
		if (poll(&one, 1,
			    work		  ? TELL_MS
				    : patience_ms ? (int)left
						  : -1) <= 0) {
			th_work_tell(work);
			if (errno == EINTR || patience_ms || work)
				continue;
			return false;
		}
		got = read(in, room, READ_BYTES);
		if (got < 0 && errno == EINTR)
			continue;
		if (got <= 0)
			return got == 0;
		text->len += (size_t)got;
	}
}

static int take_verdict(struct th_buf *text, int status, struct th_error *err)
{
	struct verdict verdict;

	if (text->failed)
		return th_fail_memory(err);
	if (text->len < sizeof(verdict)) {
		th_buf_drop(text, text->len);
		return th_fail(err, TH_FAILED,
			WIFSIGNALED(status) && WTERMSIG(status) == SIGKILL
				? "the work on the container's files took too "
				  "long, or was killed"
				: "the work on the container's files failed");
	}
	memcpy(&verdict, text->data, sizeof(verdict));
	th_buf_drop(text, sizeof(verdict));
	if (verdict.rc < 0 && err)
		*err = verdict.error;
	return verdict.rc;
}

int th_apart(const struct th_apart *how,
	int (*work)(void *arg, struct th_buf *reply, struct th_error *err),
	void *arg, struct th_buf *reply, struct th_error *err)
{
	int pair[2], status = 0;
	pid_t pid;

	if (pipe2(pair, O_CLOEXEC))
		return th_fail_sys(err, TH_FAILED, errno, "cannot start");
	pid = fork();
	if (pid == 0) {
		close(pair[0]);
		be_child(how, pair[1], work, arg, reply);
	}
	close(pair[1]);
	if (pid > 0) {
		int pidfd = (int)syscall(SYS_pidfd_open, pid, 0);

		end_child(pidfd, pid,
			listen_to(pair[0], how->patience_ms, how->work, reply),
			&status);
		th_close(&pidfd);
	}
	close(pair[0]);
	if (pid < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot start a process for the container's files");
	return take_verdict(reply, status, err);
}
