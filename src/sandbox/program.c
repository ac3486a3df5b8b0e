/* The start of the container's program, and why it fails. */
#include <errno.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "sandbox/inside.h"

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
