/* Who the container's process is, and what it may do. */
#include <errno.h>
#include <fcntl.h>
#include <grp.h>
#include <limits.h>
#include <linux/capability.h>
#include <stdio.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "sandbox/filter.h"
#include "sandbox/inside.h"

static int drop_bounding(uint64_t keep)
{
	for (int i = 0; th_capability_name(i); i++) {
		/* EINVAL: a capability that this kernel does not have. */
		if (!(keep & (uint64_t)1 << i) &&
			prctl(PR_CAPBSET_DROP, i, 0, 0, 0) && errno != EINVAL)
			return -1;
	}
	return 0;
}

static int set_capabilities(const struct th_process *process)
{
	struct __user_cap_header_struct header = {
		_LINUX_CAPABILITY_VERSION_3, 0};
	struct __user_cap_data_struct data[2];

	for (int i = 0; i < 2; i++) {
		int shift = i * 32;

		data[i].effective = (uint32_t)(process->effective >> shift);
		data[i].permitted = (uint32_t)(process->permitted >> shift);
		data[i].inheritable = (uint32_t)(process->inheritable >> shift);
	}
	if (syscall(SYS_capset, &header, data))
		return -1;
	/* After capset: ambient ones must be permitted and inheritable. */
	for (int i = 0; th_capability_name(i); i++) {
		if (process->ambient & (uint64_t)1 << i &&
			prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_RAISE, i, 0, 0))
			return -1;
	}
	return 0;
}

int th_inside_score(const struct th_process *process, struct th_error *err)
{
	char text[16];
	int fd, len;

	if (!process->has_oom_score)
		return 0;
	len = snprintf(text, sizeof(text), "%d", process->oom_score_adj);
	fd = open("/proc/self/oom_score_adj", O_WRONLY | O_CLOEXEC);
	if (fd < 0 || write(fd, text, (size_t)len) != len) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set the out-of-memory score");
		th_close(&fd);
		return -1;
	}
	th_close(&fd);
	return 0;
}

static int set_limits(const struct th_process *process, struct th_error *err)
{
	for (size_t i = 0; i < process->rlimit_count; i++) {
		if (setrlimit((th_rlimit_kind)process->rlimits[i].resource,
			    &process->rlimits[i].limit))
			return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot set a resource limit");
	}
	return 0;
}

/* Kept to its own: libraries' headers do not have it everywhere. */
struct sched_attributes {
	uint32_t size, policy;
	uint64_t flags;
	int32_t nice;
	uint32_t priority;
	uint64_t runtime, deadline, period;
};

#define IOPRIO_WHO_PROCESS 1
#define IOPRIO_CLASS_SHIFT 13

static int set_priorities(
	const struct th_process *process, struct th_error *err)
{
	const struct th_scheduler *wanted = &process->scheduler;
	struct sched_attributes attributes = {.size = sizeof(attributes),
		.policy = (uint32_t)wanted->policy,
		.flags = wanted->flags,
		.nice = (int32_t)wanted->nice,
		.priority = (uint32_t)wanted->priority,
		.runtime = wanted->runtime,
		.deadline = wanted->deadline,
		.period = wanted->period};

	if (wanted->given && syscall(SYS_sched_setattr, 0, &attributes, 0))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set the scheduler of the process");
	if (process->io_class &&
		syscall(SYS_ioprio_set, IOPRIO_WHO_PROCESS, 0,
			process->io_class << IOPRIO_CLASS_SHIFT |
				process->io_level))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set the I/O priority of the process");
	return 0;
}

/* In a namespace of a single ID groups cannot be changed at all; the process
 * has none then but its own (user_namespaces(7)). */
static int set_groups(const struct th_process *process)
{
	if (setgroups(process->group_count, process->groups) == 0)
		return 0;
	return errno == EPERM && process->group_count == 0 ? 0 : -1;
}

static int load_filter(
	const struct th_inside_filter *filter, struct th_error *err)
{
	int fd, rc;

	if (!filter || !filter->program)
		return 0;
	if (!filter->listener)
		return th_filter_load(
			filter->program, filter->flags, false, &fd, err);
	/* Who listens takes the descriptor out of this process: it cannot be
	 * sent from here, where sending may already be listened to. */
	rc = th_filter_load(filter->program, filter->flags, true, &fd, err);
	if (rc == 0) {
		char byte;

		if (recv(filter->channel, &byte, 1, 0) != 1)
			_exit(1);
		th_close(&fd);
	}
	return rc;
}

/* A path through a descriptor may lead to where no path of the container
 * does (getcwd(3) marks it). */
static bool is_outside(void)
{
	char path[PATH_MAX];

	return !getcwd(path, sizeof(path)) || path[0] != '/';
}

int th_inside_identity(const struct th_process *process,
	const struct th_inside_filter *filter, struct th_error *err)
{
	bool entered;

	if (set_limits(process, err) || set_priorities(process, err) ||
		th_inside_labels(process, err))
		return -1;
	umask(process->has_umask ? process->umask : 022);
	/* Without the promise of no new privileges loading a filter is itself
	 * a privilege. */
	if (!process->no_new_privileges && load_filter(filter, err))
		return -1;
	/* As root or as the user, whichever may enter it. */
	entered = chdir(process->cwd) == 0;
	/* The bounding set first, while CAP_SETPCAP is still there; then
	 * groups, group, user: each needs a privilege that the next step takes.
	 * KEEPCAPS carries the permitted set over the change of user. */
	if (drop_bounding(process->bounding) ||
		prctl(PR_SET_KEEPCAPS, 1, 0, 0, 0) || set_groups(process) ||
		setresgid(process->gid, process->gid, process->gid) ||
		setresuid(process->uid, process->uid, process->uid))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot become user %u with its capabilities",
			process->uid);
	if (!entered && chdir(process->cwd))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot enter the working folder %s", process->cwd);
	if (is_outside())
		return th_fail(err, TH_FAILED,
			"the working folder %s leads out of the container",
			process->cwd);
	if (set_capabilities(process))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set the capabilities of user %u", process->uid);
	prctl(PR_SET_KEEPCAPS, 0, 0, 0, 0);
	if (!process->no_new_privileges)
		return 0;
	if (prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot forbid new privileges");
	return load_filter(filter, err);
}
