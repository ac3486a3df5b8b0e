#include "cli/oci_user.h"

#include <errno.h>
#include <fcntl.h>
#include <grp.h>
#include <linux/close_range.h>
#include <pwd.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "base/json.h"

#define COMMAND_MAX (1 << 20)

extern char **environ;

/* The words of this command, as it was called. */
static int read_words(
	struct th_buf *text, struct th_strings *words, struct th_error *err)
{
	if (th_file_read(AT_FDCWD, "/proc/self/cmdline", text, err) != 1)
		return -1;
	for (size_t at = 0; at < text->len; at += strlen(text->data + at) + 1) {
		if (th_strings_add(words, text->data + at))
			return th_fail_memory(err);
	}
	return 0;
}

static int start_anew(char **env, struct th_error *err)
{
	struct th_strings words = {0};
	struct th_buf text;

	th_buf_init(&text, COMMAND_MAX);
	if (read_words(&text, &words, err) == 0) {
		execve("/proc/self/exe", words.items, env);
		th_fail_sys(err, TH_FAILED, errno, "cannot start anew");
	}
	th_strings_release(&words);
	th_buf_release(&text);
	return -1;
}

/* Nothing of the engine's own: its variables and files are not the user's. */
static int become(const struct passwd *user, struct th_error *err)
{
	const char *path = getenv("PATH");
	char *home = th_format("HOME=%s", user->pw_dir), *ways;
	char *env[3] = {home, NULL, NULL};

	ways = th_format("PATH=%s", path ? path : "/usr/bin:/bin");
	env[1] = ways;
	if (!home || !ways)
		th_fail_memory(err);
	else if (initgroups(user->pw_name, user->pw_gid) ||
		setresgid(user->pw_gid, user->pw_gid, user->pw_gid) ||
		setresuid(user->pw_uid, user->pw_uid, user->pw_uid))
		th_fail_sys(err, TH_FAILED, errno, "cannot become %.60s",
			user->pw_name);
	else {
		syscall(SYS_close_range, 3, ~0u, CLOSE_RANGE_CLOEXEC);
		start_anew(env, err);
	}
	free(home);
	free(ways);
	return -1;
}

int oci_act_for(const char *name, struct th_error *err)
{
	struct passwd *user;

	errno = 0;
	user = getpwnam(name);
	if (!user)
		return th_fail(err, TH_NOT_FOUND,
			"this host has no user \"%.60s\"", name);
	if (user->pw_uid == geteuid()) {
		if (!getenv("XDG_RUNTIME_DIR") && !getenv("TIDYHULL_ROOT"))
			return 0;
		unsetenv("XDG_RUNTIME_DIR");
		unsetenv("TIDYHULL_ROOT");
		return start_anew(environ, err);
	}
	if (geteuid() != 0)
		return th_fail(err, TH_USAGE,
			"only root can act for another user (--of %.60s)",
			name);
	return become(user, err);
}
