/* What the pilot gives up once its network is made: from then on it only reads
 * and writes packets and sockets, and hands out the namespaces. */
#include <sys/syscall.h>

#include "pilot/pilot.h"
#include "sandbox/wall.h"

int pilot_confine(int folder, struct th_error *err)
{
	/* Name servers are looked up again when they change. */
	const struct th_wall_folder folders[] = {
		{.fd = folder, .access = TH_WALL_FILES},
		{.fd = -1, .path = "/etc"},
		{.fd = -1, .path = "/run/systemd/resolve"},
		{.fd = -1, .path = "/run/resolvconf"},
		{.fd = -1, .path = "/run/NetworkManager"}};
	static const int calls[] = {
		SYS_accept4,
		SYS_bind,
		SYS_brk,
		SYS_clock_gettime,
		SYS_clock_nanosleep,
		SYS_close,
		SYS_connect,
		SYS_exit,
		SYS_exit_group,
		SYS_fcntl,
		SYS_flock,
		SYS_fstat,
		SYS_futex,
		SYS_getpeername,
		SYS_getpid,
		SYS_getrandom,
		SYS_getsockname,
		SYS_getsockopt,
		SYS_getuid,
		SYS_geteuid,
		SYS_gettid,
		SYS_ioctl,
		SYS_listen,
		SYS_lseek,
		SYS_madvise,
		SYS_mmap,
		SYS_mprotect,
		SYS_mremap,
		SYS_munmap,
		SYS_newfstatat,
		SYS_openat,
		SYS_ppoll,
		SYS_pread64,
		SYS_read,
		SYS_readv,
		SYS_recvfrom,
		SYS_recvmsg,
		SYS_restart_syscall,
		SYS_rt_sigaction,
		SYS_rt_sigprocmask,
		SYS_rt_sigreturn,
		SYS_sigaltstack,
		SYS_sendmsg,
		SYS_sendto,
		SYS_setsockopt,
		SYS_shutdown,
		SYS_socket,
		SYS_tgkill,
		SYS_unlinkat,
		SYS_write,
		SYS_writev,
#ifdef SYS_poll
		SYS_poll,
#endif
#ifdef SYS_stat
		SYS_stat,
#endif
	};

	return th_wall(0, folders, sizeof(folders) / sizeof(*folders), calls,
		sizeof(calls) / sizeof(*calls), err);
}
