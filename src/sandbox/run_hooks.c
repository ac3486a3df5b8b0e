#include "sandbox/run_hooks.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/json.h"
#include "base/file.h"
#include "base/inherit.h"
#include "base/libc.h"

char *th_hooks_state(const struct th_bundle *bundle, const char *id,
	const char *status, pid_t pid, const char *bundle_path)
{
	json_t *notes = json_object(), *doc;
	char *text;

	for (size_t i = 0; i + 1 < bundle->annotations.count; i += 2)
		json_object_set_new(notes, bundle->annotations.items[i],
			json_string(bundle->annotations.items[i + 1]));
	doc = json_pack("{s:s s:s s:s s:s s:o}", "ociVersion",
		TH_OCI_RUNTIME_VERSION, "id", id, "status", status, "bundle",
		bundle_path, "annotations", notes);
	if (doc && pid > 0)
		json_object_set_new(doc, "pid", json_integer(pid));
	text = th_json_text(doc, JSON_COMPACT);
	json_decref(doc);
	return text;
}

static void exec_hook(const struct th_hook *hook, int input, int output)
{
	static char *const none[] = {NULL};
	char *own[] = {hook->path, NULL};

	setpgid(0, 0);
	th_inherit_no_signals();
	dup2(input, 0);
	dup2(output, 1);
	dup2(output, 2);
	syscall(SYS_close_range, 3, ~0u, 0);
	execve(hook->path, hook->args.count ? hook->args.items : own,
		hook->env.count ? hook->env.items : none);
	dprintf(2, "%s", strerror(errno));
	_exit(127);
}

/* Waits for the end; false where the time is up. */
static bool wait_in_time(pid_t pid, int timeout_s, int *status)
{
	int64_t until_ms = th_clock_mono_ms() + (int64_t)timeout_s * 1000;
	int fd = (int)syscall(SYS_pidfd_open, pid, 0);
	struct pollfd poll_fd = {.fd = fd, .events = POLLIN};
	bool done = true;

	while (timeout_s && fd >= 0) {
		int64_t left = until_ms - th_clock_mono_ms();
		int rc = poll(&poll_fd, 1, left > 0 ? (int)left : 0);

		if (rc > 0 || (rc < 0 && errno != EINTR))
			break;
		if (left <= 0) {
			done = false;
			/* With what it has started. */
			kill(-pid, SIGKILL);
			break;
		}
	}
	th_close(&fd);
	while (waitpid(pid, status, 0) < 0 && errno == EINTR)
		;
	return done;
}

/* The last line of what it said. */
static void last_words(int output, char words[200])
{
	char text[2048], *line;
	off_t size = lseek(output, 0, SEEK_END);
	off_t from = size > (off_t)sizeof(text) - 1
		? size - ((off_t)sizeof(text) - 1)
		: 0;
	ssize_t len = pread(output, text, sizeof(text) - 1, from);

	if (len < 0)
		len = 0;
	while (len > 0 && (text[len - 1] == '\n' || text[len - 1] == ' '))
		len--;
	text[len] = '\0';
	line = strrchr(text, '\n');
	snprintf(words, 200, "%.199s", line ? line + 1 : text);
	for (char *at = words; *at; at++) {
		if ((unsigned char)*at < ' ')
			*at = '?';
	}
}

static int run_one(const struct th_hook *hook, const char *name,
	const char *state, struct th_error *err)
{
	int input = memfd_create("state", MFD_CLOEXEC);
	int output = memfd_create("words", MFD_CLOEXEC);
	char words[200];
	int status = 0;
	pid_t pid = -1;

	if (input >= 0 && output >= 0 &&
		th_write_all(input, state, strlen(state)) == 0 &&
		lseek(input, 0, SEEK_SET) == 0)
		pid = fork();
	if (pid == 0)
		exec_hook(hook, input, output);
	if (pid > 0)
		setpgid(pid, pid);
	th_close(&input);
	if (pid < 0) {
		th_close(&output);
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot run the %s hook %.150s", name, hook->path);
	}
	if (!wait_in_time(pid, hook->timeout_s, &status)) {
		th_close(&output);
		return th_fail(err, TH_FAILED,
			"the %s hook %.150s took longer than its %d s", name,
			hook->path, hook->timeout_s);
	}
	last_words(output, words);
	th_close(&output);
	if (WIFEXITED(status) && WEXITSTATUS(status) == 0)
		return 0;
	return th_fail(err, TH_FAILED,
		"the %s hook %.150s ended with %s %d%s%.150s", name, hook->path,
		WIFSIGNALED(status) ? "signal" : "exit code",
		WIFSIGNALED(status) ? WTERMSIG(status) : WEXITSTATUS(status),
		*words ? ": " : "", words);
}

int th_hooks_run(const struct th_bundle *bundle, enum th_hook_kind kind,
	const char *state, struct th_error *err)
{
	const struct th_hooks *hooks = &bundle->hooks[kind];

	/* After the fact the others have their turn all the same. */
	bool all = kind == TH_HOOK_POSTSTART || kind == TH_HOOK_POSTSTOP;
	int rc = 0;

	for (size_t i = 0; i < hooks->count && (rc == 0 || all); i++)
		rc |= run_one(&hooks->items[i], th_hook_name(kind), state, err);
	return rc;
}
