/* Who the container's process is, and the start of its program. */
#include <errno.h>
#include <fcntl.h>
#include <grp.h>
#include <linux/capability.h>
#include <stdio.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"
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
	for (int i = 0; th_capability_name(i); i++) {
		if (process->ambient & (uint64_t)1 << i &&
			prctl(PR_CAP_AMBIENT, PR_CAP_AMBIENT_RAISE, i, 0, 0))
			return -1;
	}
	return 0;
}

static int set_limits(const struct th_process *process, struct th_error *err)
{
	char text[16];
	int fd, len;

	for (size_t i = 0; i < process->rlimit_count; i++) {
		if (setrlimit((__rlimit_resource_t)process->rlimits[i].resource,
			    &process->rlimits[i].limit))
			return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot set a resource limit");
	}
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

int th_inside_identity(const struct th_process *process, struct th_error *err)
{
	if (set_limits(process, err))
		return -1;
	if (chdir(process->cwd))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot enter the working folder %s", process->cwd);
	if (drop_bounding(process->bounding) ||
		prctl(PR_SET_KEEPCAPS, 1, 0, 0, 0) ||
		setgroups(process->group_count, process->groups) ||
		setresgid(process->gid, process->gid, process->gid) ||
		setresuid(process->uid, process->uid, process->uid) ||
		set_capabilities(process))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot become user %u with its capabilities",
			process->uid);
	prctl(PR_SET_KEEPCAPS, 0, 0, 0, 0);
	umask(process->has_umask ? process->umask : 022);
	if (process->no_new_privileges &&
		prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot forbid new privileges");
	return 0;
}

static const char *search_path(const struct th_process *process)
{
	for (size_t i = 0; i < process->env.count; i++) {
		if (strncmp(process->env.items[i], "PATH=", 5) == 0)
			return process->env.items[i] + 5;
	}
	return "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
}

static int say_why(
	const char *program, const char *path, int sys, struct th_error *err)
{
	struct stat st;

	if (sys == ENOENT && path && stat(path, &st) == 0) {
		th_fail(err, TH_NO_EXEC,
			"the program %s is there, but the interpreter or "
			"loader that it names is not",
			path);
		return th_hint(err,
			"an image for it needs that file too, or a program "
			"linked statically");
	}
	if (sys == ENOENT || sys == ENOTDIR) {
		th_fail(err, TH_NO_PROGRAM,
			"there is no program \"%.200s\" in the container",
			program);
		return th_hint(err, "the program's name comes right after --");
	}
	if (sys == ENOEXEC)
		return th_fail(err, TH_NO_EXEC,
			"%.200s is not a program for this machine, nor a "
			"script that names its interpreter",
			path);
	if (sys == EACCES && path && stat(path, &st) == 0 &&
		S_ISDIR(st.st_mode))
		return th_fail(err, TH_NO_EXEC,
			"%.200s is a folder, not a program", path);
	return th_fail_sys(err, TH_NO_EXEC, sys,
		"the program %.200s cannot be executed", path ? path : program);
}

/* As execvp, but with the PATH of the new environment, and remembering what
 * was found. */
int th_inside_exec(const struct th_process *process, struct th_error *err)
{
	const char *program = process->args.items[0];
	const char *at = search_path(process);
	static char *const no_env[] = {NULL};
	char *const *env = process->env.items ? process->env.items : no_env;
	char found[4096] = "", path[4096];
	int sys = ENOENT;

	if (strchr(program, '/')) {
		execve(program, process->args.items, env);
		return say_why(program, program, errno, err);
	}
	while (*program && *at) {
		size_t len = strcspn(at, ":");

		snprintf(path, sizeof(path), "%.*s/%s", len ? (int)len : 1,
			len ? at : ".", program);
		execve(path, process->args.items, env);
		if (!found[0] && errno != ENOENT && errno != ENOTDIR) {
			sys = errno;
			snprintf(found, sizeof(found), "%s", path);
		} else if (!found[0] && access(path, F_OK) == 0) {
			snprintf(found, sizeof(found), "%s", path);
		}
		at += len + (at[len] == ':');
	}
	return say_why(program, found[0] ? found : NULL, sys, err);
}
