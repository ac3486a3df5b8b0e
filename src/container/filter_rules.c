#include "container/filter_rules.h"

#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "oci/bundle.h"
#include "sandbox/filter.h"

/* A change of the compiler makes what was compiled before worthless. */
#define COMPILER_VERSION 1

/* Files, processes, memory, signals, time, sockets: what programs live on. */
static const char *const ordinary[] = {"_llseek", "_newselect", "accept",
	"accept4", "access", "alarm", "arch_prctl", "bind", "brk", "cachestat",
	"capget", "capset", "chdir", "chmod", "chown", "chown32", "chroot",
	"clock_getres", "clock_getres_time64", "clock_gettime",
	"clock_gettime64", "clock_nanosleep", "clock_nanosleep_time64", "close",
	"close_range", "connect", "copy_file_range", "creat", "dup", "dup2",
	"dup3", "epoll_create", "epoll_create1", "epoll_ctl", "epoll_ctl_old",
	"epoll_pwait", "epoll_pwait2", "epoll_wait", "epoll_wait_old",
	"eventfd", "eventfd2", "execve", "execveat", "exit", "exit_group",
	"faccessat", "faccessat2", "fadvise64", "fadvise64_64", "fallocate",
	"fchdir", "fchmod", "fchmodat", "fchmodat2", "fchown", "fchown32",
	"fchownat", "fcntl", "fcntl64", "fdatasync", "fgetxattr", "flistxattr",
	"flock", "fork", "fremovexattr", "fsetxattr", "fstat", "fstat64",
	"fstatat64", "fstatfs", "fstatfs64", "fsync", "ftruncate",
	"ftruncate64", "futex", "futex_requeue", "futex_time64", "futex_wait",
	"futex_waitv", "futex_wake", "futimesat", "get_mempolicy",
	"get_robust_list", "get_thread_area", "getcpu", "getcwd", "getdents",
	"getdents64", "getegid", "getegid32", "geteuid", "geteuid32", "getgid",
	"getgid32", "getgroups", "getgroups32", "getitimer", "getpeername",
	"getpgid", "getpgrp", "getpid", "getppid", "getpriority", "getrandom",
	"getresgid", "getresgid32", "getresuid", "getresuid32", "getrlimit",
	"getrusage", "getsid", "getsockname", "getsockopt", "gettid",
	"gettimeofday", "getuid", "getuid32", "getxattr", "inotify_add_watch",
	"inotify_init", "inotify_init1", "inotify_rm_watch", "io_cancel",
	"io_destroy", "io_getevents", "io_pgetevents", "io_pgetevents_time64",
	"io_setup", "io_submit", "ioctl", "ioprio_get", "ioprio_set", "ipc",
	"kill", "landlock_add_rule", "landlock_create_ruleset",
	"landlock_restrict_self", "lchown", "lchown32", "lgetxattr", "link",
	"linkat", "listen", "listxattr", "llistxattr", "lremovexattr", "lseek",
	"lsetxattr", "lstat", "lstat64", "madvise", "map_shadow_stack",
	"membarrier", "memfd_create", "memfd_secret", "mincore", "mkdir",
	"mkdirat", "mknod", "mknodat", "mlock", "mlock2", "mlockall", "mmap",
	"mmap2", "modify_ldt", "mprotect", "mq_getsetattr", "mq_notify",
	"mq_open", "mq_timedreceive", "mq_timedreceive_time64", "mq_timedsend",
	"mq_timedsend_time64", "mq_unlink", "mremap", "mseal", "msgctl",
	"msgget", "msgrcv", "msgsnd", "msync", "munlock", "munlockall",
	"munmap", "nanosleep", "newfstatat", "open", "openat", "openat2",
	"pause", "pidfd_open", "pidfd_send_signal", "pipe", "pipe2",
	"pkey_alloc", "pkey_free", "pkey_mprotect", "poll", "ppoll",
	"ppoll_time64", "prctl", "pread64", "preadv", "preadv2", "prlimit64",
	"process_mrelease", "pselect6", "pselect6_time64", "pwrite64",
	"pwritev", "pwritev2", "read", "readahead", "readlink", "readlinkat",
	"readv", "recv", "recvfrom", "recvmmsg", "recvmmsg_time64", "recvmsg",
	"remap_file_pages", "removexattr", "rename", "renameat", "renameat2",
	"restart_syscall", "rmdir", "rseq", "rt_sigaction", "rt_sigpending",
	"rt_sigprocmask", "rt_sigqueueinfo", "rt_sigreturn", "rt_sigsuspend",
	"rt_sigtimedwait", "rt_sigtimedwait_time64", "rt_tgsigqueueinfo",
	"sched_get_priority_max", "sched_get_priority_min", "sched_getaffinity",
	"sched_getattr", "sched_getparam", "sched_getscheduler",
	"sched_rr_get_interval", "sched_rr_get_interval_time64",
	"sched_setaffinity", "sched_setattr", "sched_setparam",
	"sched_setscheduler", "sched_yield", "seccomp", "select", "semctl",
	"semget", "semop", "semtimedop", "semtimedop_time64", "send",
	"sendfile", "sendfile64", "sendmmsg", "sendmsg", "sendto",
	"set_robust_list", "set_thread_area", "set_tid_address", "setfsgid",
	"setfsgid32", "setfsuid", "setfsuid32", "setgid", "setgid32",
	"setgroups", "setgroups32", "setitimer", "setpgid", "setpriority",
	"setregid", "setregid32", "setresgid", "setresgid32", "setresuid",
	"setresuid32", "setreuid", "setreuid32", "setrlimit", "setsid",
	"setsockopt", "setuid", "setuid32", "setxattr", "shmat", "shmctl",
	"shmdt", "shmget", "shutdown", "sigaltstack", "signal", "signalfd",
	"signalfd4", "sigprocmask", "sigreturn", "socketcall", "socketpair",
	"splice", "stat", "stat64", "statfs", "statfs64", "statx", "symlink",
	"symlinkat", "sync", "sync_file_range", "syncfs", "sysinfo", "tee",
	"tgkill", "time", "timer_create", "timer_delete", "timer_getoverrun",
	"timer_gettime", "timer_gettime64", "timer_settime", "timer_settime64",
	"timerfd_create", "timerfd_gettime", "timerfd_gettime64",
	"timerfd_settime", "timerfd_settime64", "times", "tkill", "truncate",
	"truncate64", "ugetrlimit", "umask", "uname", "unlink", "unlinkat",
	"utime", "utimensat", "utimensat_time64", "utimes", "vfork", "vmsplice",
	"wait4", "waitid", "waitpid", "write", "writev"};

/* What a capability is given for. */
static const struct {
	const char *capability;
	const char *calls[20];
} special[] = {{"CAP_SYS_ADMIN",
		       {"clone", "clone3", "fsconfig", "fsmount", "fsopen",
			       "fspick", "mount", "mount_setattr", "move_mount",
			       "open_tree", "pivot_root", "quotactl",
			       "quotactl_fd", "setdomainname", "sethostname",
			       "setns", "umount", "umount2", "unshare", NULL}},
	{"CAP_SYS_PTRACE",
		{"kcmp", "pidfd_getfd", "process_madvise", "process_vm_readv",
			"process_vm_writev", "ptrace", NULL}},
	{"CAP_SYS_MODULE",
		{"delete_module", "finit_module", "init_module", NULL}},
	{"CAP_SYS_TIME",
		{"adjtimex", "clock_adjtime", "clock_adjtime64",
			"clock_settime", "clock_settime64", "settimeofday",
			"stime", NULL}},
	{"CAP_SYS_BOOT", {"kexec_file_load", "kexec_load", "reboot", NULL}},
	{"CAP_SYS_RAWIO", {"ioperm", "iopl", NULL}},
	{"CAP_SYS_PACCT", {"acct", NULL}}, {"CAP_BPF", {"bpf", NULL}},
	{"CAP_PERFMON", {"perf_event_open", NULL}},
	{"CAP_SYSLOG", {"syslog", NULL}},
	{"CAP_SYS_TTY_CONFIG", {"vhangup", NULL}},
	{"CAP_SYS_NICE",
		{"mbind", "migrate_pages", "move_pages", "set_mempolicy",
			NULL}},
	{"CAP_DAC_READ_SEARCH",
		{"name_to_handle_at", "open_by_handle_at", NULL}}};

/* Calls that are there on every kernel and are refused as such: a program is
 * told "not permitted" and not "no such call". */
static const char *const refused[] = {"acct", "add_key", "bpf", "clock_settime",
	"delete_module", "finit_module", "init_module", "keyctl", "mount",
	"open_by_handle_at", "perf_event_open", "pivot_root", "ptrace",
	"reboot", "request_key", "setdomainname", "sethostname", "setns",
	"settimeofday", "swapoff", "swapon", "syslog", "umount2", "unshare",
	"userfaultfd"};

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

/* New namespaces, in the flags of clone. */
#define CLONE_NEW_ANY 0x7e020000

static json_t *rule(json_t *names, const char *action, int code)
{
	json_t *one = json_pack("{s:o s:s}", "names", names, "action", action);

	if (code)
		json_object_set_new(one, "errnoRet", json_integer(code));
	return one;
}

static json_t *argument(
	int index, json_int_t value, json_int_t two, const char *op)
{
	json_t *one = json_pack(
		"{s:i s:I s:s}", "index", index, "value", value, "op", op);

	if (strcmp(op, "SCMP_CMP_MASKED_EQ") == 0)
		json_object_set_new(one, "valueTwo", json_integer(two));
	return one;
}

static void add_with_argument(
	json_t *rules, const char *name, json_t *condition)
{
	json_t *one = rule(json_pack("[s]", name), "SCMP_ACT_ALLOW", 0);

	json_object_set_new(one, "args", json_pack("[o]", condition));
	json_array_append_new(rules, one);
}

/* Only families that a program of a container has a use for. */
static void add_sockets(json_t *rules)
{
	static const int families[] = {1, 2, 10, 16, 17}; /* unix, inet,
							      inet6, netlink,
							      packet */

	for (size_t i = 0; i < COUNT(families); i++)
		add_with_argument(rules, "socket",
			argument(0, families[i], 0, "SCMP_CMP_EQ"));
}

/* What only asks, or sets what compatible programs set (personality(2)). */
static void add_personalities(json_t *rules)
{
	static const json_int_t values[] = {
		0, 8, 0x20000, 0x20008, 0x40000, 0xffffffff};

	for (size_t i = 0; i < COUNT(values); i++)
		add_with_argument(rules, "personality",
			argument(0, values[i], 0, "SCMP_CMP_EQ"));
}

static bool is_granted(const char *name, uint64_t capabilities)
{
	for (size_t i = 0; i < COUNT(special); i++) {
		int bit = th_capability_number(special[i].capability);

		for (size_t k = 0; special[i].calls[k]; k++) {
			if (capabilities & (uint64_t)1 << bit &&
				strcmp(special[i].calls[k], name) == 0)
				return true;
		}
	}
	return false;
}

json_t *th_filter_rules(uint64_t capabilities)
{
	json_t *allowed = json_array(), *denied = json_array();
	json_t *rules = json_array();

	for (size_t i = 0; i < COUNT(ordinary); i++)
		json_array_append_new(allowed, json_string(ordinary[i]));
	for (size_t i = 0; i < COUNT(special); i++) {
		int bit = th_capability_number(special[i].capability);

		for (size_t k = 0; capabilities & (uint64_t)1 << bit &&
			special[i].calls[k];
			k++)
			json_array_append_new(
				allowed, json_string(special[i].calls[k]));
	}
	for (size_t i = 0; i < COUNT(refused); i++) {
		if (!is_granted(refused[i], capabilities))
			json_array_append_new(denied, json_string(refused[i]));
	}
	json_array_append_new(rules, rule(allowed, "SCMP_ACT_ALLOW", 0));
	json_array_append_new(rules, rule(denied, "SCMP_ACT_ERRNO", EPERM));
	add_sockets(rules);
	add_personalities(rules);
	/* clone3 keeps its flags where a filter cannot look: libraries fall
	 * back to clone when it is not there. */
	if (!is_granted("clone", capabilities))
		add_with_argument(rules, "clone",
			argument(0, CLONE_NEW_ANY, 0, "SCMP_CMP_MASKED_EQ"));
	return json_pack("{s:s s:i s:[ss] s:o}", "defaultAction",
		"SCMP_ACT_ERRNO", "defaultErrnoRet", ENOSYS, "architectures",
		"SCMP_ARCH_X86_64", "SCMP_ARCH_X86", "syscalls", rules);
}

static int compile(
	const json_t *rules, struct th_buf *program, struct th_error *err)
{
	json_t *part = json_pack("{s:O}", "seccomp", rules);
	struct th_seccomp seccomp = {0};
	int rc = part ? th_seccomp_parse(part, &seccomp, err)
		      : th_fail_memory(err);

	if (rc == 1)
		rc = th_filter_compile(&seccomp, program, err);
	th_seccomp_release(&seccomp);
	json_decref(part);
	return rc;
}

/* FNV-1a: the rules are ours, and nobody gains by a clash. */
static uint64_t checksum(const char *text)
{
	uint64_t sum = 14695981039346656037u;

	for (; *text; text++)
		sum = (sum ^ (unsigned char)*text) * 1099511628211u;
	return sum;
}

int th_filter_keep(struct th_store *store, const json_t *rules, char name[72],
	struct th_error *err)
{
	char *text = json_dumps(rules, JSON_COMPACT);
	struct th_buf program;
	char path[128];
	int rc = -1;

	th_buf_init(&program, TH_FILTER_MAX);
	if (!text) {
		th_fail_memory(err);
		goto out;
	}
	snprintf(name, 72, "%d-%016" PRIx64 "-%zx", COMPILER_VERSION,
		checksum(text), strlen(text));
	snprintf(path, sizeof(path), "filters/%s", name);
	if (faccessat(store->root_fd, path, F_OK, 0) == 0) {
		rc = 0;
		goto out;
	}
	rc = compile(rules, &program, err);
	if (rc == 0)
		rc = th_file_replace(store->root_fd, path, program.data,
			program.len, 0600, true, err);
out:
	th_buf_release(&program);
	free(text);
	return rc;
}
