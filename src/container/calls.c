#include "container/calls.h"

#include <string.h>

/* How a call is judged: what does it reach that the container's namespaces,
 * control group and capabilities do not already keep apart, and which program
 * needs it? Code of the kernel that few programs use has few eyes on it, so a
 * call that nobody needs is absent even where it looks harmless.
 *
 * Names are those of the kernel's own tables (asm/unistd_64.h and
 * asm/unistd_32.h on x86); tests/unit/container/test_calls.c fails when one is
 * missing here, stands here twice, or does not exist. */

/* clang-format off: one line a field, names wrapped by hand. */
const struct th_call_group th_call_groups[] = {

	/* ---- allowed ---- */

	{"open files", TH_CALLS_ALLOWED, NULL,
		"what a program does with descriptors it holds",
		"read write readv writev pread64 pwrite64 preadv pwritev "
		"preadv2 pwritev2 "
		"lseek _llseek close close_range dup dup2 dup3 fcntl fcntl64 "
		"ioctl fsync "
		"fdatasync sync syncfs sync_file_range truncate truncate64 "
		"ftruncate "
		"ftruncate64 fallocate fadvise64 fadvise64_64 readahead flock "
		"copy_file_range sendfile sendfile64 splice tee pipe pipe2"},

	{"file names and attributes", TH_CALLS_ALLOWED, NULL,
		"the mount namespace shows only the container's own files",
		"open openat openat2 creat access faccessat faccessat2 stat "
		"lstat fstat "
		"newfstatat stat64 lstat64 fstat64 fstatat64 statx statfs "
		"fstatfs statfs64 "
		"fstatfs64 getdents getdents64 mkdir mkdirat rmdir link linkat "
		"unlink "
		"unlinkat rename renameat renameat2 symlink symlinkat readlink "
		"readlinkat "
		"mknod mknodat chdir fchdir getcwd umask chmod fchmod fchmodat "
		"fchmodat2 "
		"chown fchown lchown fchownat chown32 fchown32 lchown32 utime "
		"utimes "
		"futimesat utimensat utimensat_time64 getxattr lgetxattr "
		"fgetxattr "
		"getxattrat setxattr lsetxattr fsetxattr setxattrat listxattr "
		"llistxattr "
		"flistxattr listxattrat removexattr lremovexattr fremovexattr "
		"removexattrat"},

	{"waiting for events", TH_CALLS_ALLOWED, NULL,
		"every server's main loop",
		"poll ppoll ppoll_time64 select _newselect pselect6 "
		"pselect6_time64 "
		"epoll_create epoll_create1 epoll_ctl epoll_wait epoll_pwait "
		"epoll_pwait2 "
		"eventfd eventfd2 signalfd signalfd4 timerfd_create "
		"timerfd_settime "
		"timerfd_settime64 timerfd_gettime timerfd_gettime64 "
		"inotify_init "
		"inotify_init1 inotify_add_watch inotify_rm_watch"},

	{"asynchronous file access", TH_CALLS_ALLOWED, NULL,
		"databases queue their reads and writes with it",
		"io_setup io_destroy io_submit io_cancel io_getevents "
		"io_pgetevents "
		"io_pgetevents_time64"},

	{"memory", TH_CALLS_ALLOWED, NULL,
		"a process arranges its own address space",
		"brk mmap mmap2 munmap mremap mprotect madvise mincore msync "
		"mlock mlock2 "
		"munlock mlockall munlockall membarrier memfd_create "
		"pkey_alloc pkey_free "
		"pkey_mprotect map_shadow_stack mseal"},

	{"memory nodes", TH_CALLS_ALLOWED, NULL,
		"databases and Java spread their own memory over the nodes of "
		"a large host",
		"get_mempolicy set_mempolicy set_mempolicy_home_node mbind"},

	{"memory of other processes", TH_CALLS_ALLOWED, NULL,
		"message passing on clusters copies with it; same checks as "
		"/proc/PID/mem, "
		"which a filter cannot see",
		"process_vm_readv process_vm_writev"},

	{"threads", TH_CALLS_ALLOWED, NULL, "locks and thread-local storage",
		"futex futex_time64 futex_waitv futex_wake futex_wait "
		"futex_requeue "
		"set_robust_list get_robust_list set_tid_address gettid "
		"arch_prctl "
		"set_thread_area get_thread_area rseq getcpu"},

	{"signals", TH_CALLS_ALLOWED, NULL,
		"the PID namespace bounds whom a signal can reach",
		"rt_sigaction rt_sigprocmask rt_sigpending rt_sigsuspend "
		"rt_sigtimedwait "
		"rt_sigtimedwait_time64 rt_sigqueueinfo rt_tgsigqueueinfo "
		"rt_sigreturn "
		"sigreturn sigaltstack kill tkill tgkill pause pidfd_open "
		"pidfd_send_signal restart_syscall"},

	{"time", TH_CALLS_ALLOWED, NULL,
		"reading clocks and sleeping; setting them is below",
		"time gettimeofday clock_gettime clock_gettime64 clock_getres "
		"clock_getres_time64 nanosleep clock_nanosleep "
		"clock_nanosleep_time64 "
		"times alarm getitimer setitimer timer_create timer_settime "
		"timer_settime64 timer_gettime timer_gettime64 "
		"timer_getoverrun "
		"timer_delete"},

	{"processes", TH_CALLS_ALLOWED, NULL,
		"starting, ending and asking about the container's own "
		"processes",
		"fork vfork execve execveat exit exit_group wait4 waitid "
		"waitpid getpid "
		"getppid getpgid getpgrp setpgid getsid setsid getrusage prctl "
		"uname "
		"sysinfo getrandom"},

	{"scheduling and limits", TH_CALLS_ALLOWED, NULL,
		"the kernel asks for capabilities where priority is raised",
		"getpriority setpriority sched_yield sched_getparam "
		"sched_setparam "
		"sched_getscheduler sched_setscheduler sched_getattr "
		"sched_setattr "
		"sched_get_priority_max sched_get_priority_min "
		"sched_rr_get_interval "
		"sched_rr_get_interval_time64 sched_getaffinity "
		"sched_setaffinity "
		"ioprio_get ioprio_set getrlimit ugetrlimit setrlimit "
		"prlimit64"},

	{"users and capabilities", TH_CALLS_ALLOWED, NULL,
		"servers start as root and change to a user of their own",
		"getuid getuid32 geteuid geteuid32 getgid getgid32 getegid "
		"getegid32 "
		"getresuid getresuid32 getresgid getresgid32 getgroups "
		"getgroups32 setuid "
		"setuid32 setgid setgid32 setreuid setreuid32 setregid "
		"setregid32 "
		"setresuid setresuid32 setresgid setresgid32 setfsuid "
		"setfsuid32 setfsgid "
		"setfsgid32 setgroups setgroups32 capget capset"},

	{"restricting oneself", TH_CALLS_ALLOWED, NULL,
		"they only ever take rights away",
		"seccomp landlock_create_ruleset landlock_add_rule "
		"landlock_restrict_self"},

	{"sockets", TH_CALLS_ALLOWED, NULL,
		"which families can be opened is decided at socket",
		"socketpair bind connect listen accept accept4 getsockname "
		"getpeername "
		"getsockopt setsockopt sendto recvfrom sendmsg recvmsg "
		"sendmmsg recvmmsg "
		"recvmmsg_time64 shutdown"},

	{"messages and shared memory", TH_CALLS_ALLOWED, NULL,
		"the IPC namespace keeps them apart; databases need them",
		"shmget shmat shmdt shmctl semget semop semtimedop "
		"semtimedop_time64 semctl "
		"msgget msgsnd msgrcv msgctl ipc mq_open mq_unlink "
		"mq_timedsend "
		"mq_timedsend_time64 mq_timedreceive mq_timedreceive_time64 "
		"mq_notify "
		"mq_getsetattr"},

	{"probes of the host", TH_CALLS_ALLOWED, NULL,
		"the kernel's own trampolines make them when the host traces a "
		"program",
		"uprobe uretprobe"},

	/* ---- allowed with some arguments ---- */

	{"new processes and threads", TH_CALLS_EXAMINED, NULL,
		"without flags for new namespaces (EPERM); all with "
		"CAP_SYS_ADMIN",
		"clone"},

	{"unsharing", TH_CALLS_EXAMINED, NULL,
		"files, working folder and semaphores of a thread, as file "
		"servers do; no "
		"namespaces (EPERM); all with CAP_SYS_ADMIN",
		"unshare"},

	{"new sockets", TH_CALLS_EXAMINED, NULL,
		"unix, IPv4, IPv6, and netlink for routes and socket lists; "
		"all of netlink "
		"with CAP_NET_ADMIN, packets with CAP_NET_RAW. Others are told "
		"that the "
		"family or protocol is not there (EAFNOSUPPORT, "
		"EPROTONOSUPPORT)",
		"socket"},

	{"personality", TH_CALLS_EXAMINED, NULL,
		"asking, and flags that do not weaken memory protection; "
		"others EPERM",
		"personality"},

	/* ---- given with a capability ---- */

	{"new namespaces, all flags", TH_CALLS_GRANTED, "CAP_SYS_ADMIN",
		"each opens a large part of the kernel to its maker", "setns"},

	{"mounts", TH_CALLS_GRANTED, "CAP_SYS_ADMIN",
		"they would undo masked and read-only paths",
		"mount umount umount2 pivot_root fsopen fsconfig fsmount "
		"fspick open_tree "
		"open_tree_attr move_mount mount_setattr statmount listmount"},

	{"quotas, watching whole mounts, host names", TH_CALLS_GRANTED,
		"CAP_SYS_ADMIN",
		"they act on more than the caller's files and processes",
		"quotactl quotactl_fd fanotify_init fanotify_mark sethostname "
		"setdomainname"},

	{"another root", TH_CALLS_GRANTED, "CAP_SYS_CHROOT",
		"given by default; goes with the capability", "chroot"},

	{"looking into processes", TH_CALLS_GRANTED, "CAP_SYS_PTRACE",
		"debuggers", "ptrace pidfd_getfd kcmp"},

	{"moving the memory of others", TH_CALLS_GRANTED, "CAP_SYS_NICE",
		"load balancers of large hosts",
		"migrate_pages move_pages process_madvise"},

	{"setting clocks", TH_CALLS_GRANTED, "CAP_SYS_TIME",
		"clocks are the host's",
		"clock_settime clock_settime64 clock_adjtime clock_adjtime64 "
		"adjtimex "
		"settimeofday stime"},

	{"kernel modules", TH_CALLS_GRANTED, "CAP_SYS_MODULE",
		"code in the kernel", "init_module finit_module delete_module"},

	{"rebooting", TH_CALLS_GRANTED, "CAP_SYS_BOOT",
		"ends the container's PID namespace", "reboot"},

	{"hardware ports", TH_CALLS_GRANTED, "CAP_SYS_RAWIO",
		"direct access to devices", "ioperm iopl"},

	{"process accounting", TH_CALLS_GRANTED, "CAP_SYS_PACCT",
		"writes a record of every process that ends", "acct"},

	{"kernel programs", TH_CALLS_GRANTED, "CAP_BPF", "code in the kernel",
		"bpf"},

	{"performance counters", TH_CALLS_GRANTED, "CAP_PERFMON",
		"measures other programs, too", "perf_event_open"},

	{"kernel log", TH_CALLS_GRANTED, "CAP_SYSLOG", "the host's messages",
		"syslog"},

	{"hanging up terminals", TH_CALLS_GRANTED, "CAP_SYS_TTY_CONFIG",
		"takes a terminal from its users", "vhangup"},

	{"files by handle", TH_CALLS_GRANTED, "CAP_DAC_READ_SEARCH",
		"a handle opens any file of a file system, in the mount "
		"namespace or not",
		"name_to_handle_at open_by_handle_at"},

	/* ---- refused ---- */

	{"swap and another kernel", TH_CALLS_REFUSED, NULL,
		"they act on the whole host and on nothing of the container",
		"swapon swapoff kexec_load kexec_file_load"},

	/* ---- absent ---- */

	{"new processes, flags in memory", TH_CALLS_ABSENT, NULL,
		"a filter cannot read its flags; libraries fall back to clone. "
		"There with "
		"CAP_SYS_ADMIN",
		"clone3"},

	{"io_uring", TH_CALLS_ABSENT, NULL,
		"it makes other calls out of the filter's sight; programs fall "
		"back",
		"io_uring_setup io_uring_enter io_uring_register"},

	{"keyrings", TH_CALLS_ABSENT, NULL,
		"a user's keys are not kept apart by namespaces",
		"add_key request_key keyctl"},

	{"page faults by hand", TH_CALLS_ABSENT, NULL,
		"stops the kernel in the middle of a copy, which makes races "
		"winnable",
		"userfaultfd"},

	{"corners nobody needs", TH_CALLS_ABSENT, NULL,
		"rarely used code; where programs try them, they have another "
		"way",
		"vmsplice remap_file_pages memfd_secret process_mrelease "
		"cachestat "
		"modify_ldt lsm_get_self_attr lsm_set_self_attr "
		"lsm_list_modules "
		"file_getattr file_setattr"},

	{"all sockets in one call", TH_CALLS_ABSENT, NULL,
		"32-bit only: the family is in memory, where the filter cannot "
		"look; the "
		"direct calls are there. `--allow old-sockets` permits it",
		"socketcall"},

	{"older forms, 32-bit", TH_CALLS_ABSENT, NULL,
		"replaced 20 years ago and more by the calls above",
		"oldstat oldfstat oldlstat olduname oldolduname readdir nice "
		"signal "
		"sigaction sigprocmask sigpending sigsuspend sgetmask ssetmask "
		"vm86 "
		"vm86old"},

	{"older forms", TH_CALLS_ABSENT, NULL,
		"about file system types and libraries; nothing asks any more",
		"sysfs ustat uselib _sysctl lookup_dcookie"},

	{"numbers without code", TH_CALLS_ABSENT, NULL,
		"the kernel itself answers ENOSYS",
		"afs_syscall break create_module epoll_ctl_old epoll_wait_old "
		"ftime "
		"get_kernel_syms getpmsg gtty idle bdflush lock mpx nfsservctl "
		"prof profil "
		"putpmsg query_module security stty tuxcall ulimit vserver"},
};
/* clang-format on */

const size_t th_call_group_count =
	sizeof(th_call_groups) / sizeof(*th_call_groups);

_Bool th_call_next(const char **at, char name[TH_CALL_NAME])
{
	const char *start = *at + strspn(*at, " ");
	size_t len = strcspn(start, " ");

	if (!len || len >= TH_CALL_NAME)
		return 0;
	memcpy(name, start, len);
	name[len] = '\0';
	*at = start + len;
	return 1;
}
