/* Creation is the work of a small program, which a container cannot change. */
#include <errno.h>
#include <fcntl.h>
#include <spawn.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "ipc/words.h"
#include "runtime/runtime.h"
#include "sandbox/sealed.h"

#define CHANNEL 3

static int hear(int channel, struct th_error *warning, struct th_error *err)
{
	struct th_message message;
	int fds[TH_CHANNEL_FDS], rc;

	rc = th_channel_receive(channel, &message, fds, err);
	if (rc == 1 && message.type == TH_TELL_STARTED) {
		if (message.len)
			th_words_error(&message, warning);
		return 0;
	}
	if (rc == 1 && message.type == TH_TELL_FAILED)
		th_words_error(&message, err);
	if (!err->code)
		th_fail(err, TH_FAILED,
			"the program that creates the container has died");
	return -1;
}

/* Who reads a pipe of the caller's to its end would wait for the container's
 * program, too. */
static void set_streams(posix_spawn_file_actions_t *actions, const char *output)
{
	bool none = strcmp(output, "none") == 0;

	if (!*output)
		return;
	posix_spawn_file_actions_addopen(actions, 0, "/dev/null", O_RDONLY, 0);
	posix_spawn_file_actions_addopen(actions, 1,
		none ? "/dev/null" : output,
		none ? O_WRONLY : O_WRONLY | O_CREAT | O_APPEND, 0644);
	posix_spawn_file_actions_adddup2(actions, 1, 2);
}

int th_runtime_create_by(const char *keeper,
	const struct th_runtime_options *options, struct th_error *warning,
	struct th_error *err)
{
	const char *args[] = {"tidyhull-keeper", "oci-create", options->dir,
		options->id, options->bundle, options->pid_file,
		options->console_socket, options->entered ? "entered" : "",
		NULL};
	posix_spawn_file_actions_t actions;
	char path[TH_FD_PATH];
	int pair[2] = {-1, -1}, program, rc = -1;
	pid_t pid = 0;

	program = th_sealed_open(keeper, err);
	if (program < 0)
		return -1;
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair) ||
		posix_spawn_file_actions_init(&actions)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot create a channel to the keeper");
		goto out;
	}
	posix_spawn_file_actions_adddup2(&actions, pair[1], CHANNEL);
	set_streams(&actions, options->output);
	rc = posix_spawn(&pid, th_fd_path(program, "", path), &actions, NULL,
		(char *const *)(uintptr_t)args, options->env);
	posix_spawn_file_actions_destroy(&actions);
	th_close(&pair[1]);
	if (rc) {
		rc = *options->output && strcmp(options->output, "none") != 0
			? th_fail_sys(err, TH_FAILED, rc,
				  "cannot start %s, or write to %s", keeper,
				  options->output)
			: th_fail_sys(err, TH_FAILED, rc, "cannot start %s",
				  keeper);
		goto out;
	}
	rc = hear(pair[0], warning, err);
	while (waitpid(pid, NULL, 0) < 0 && errno == EINTR)
		;
out:
	th_close(&pair[0]);
	th_close(&pair[1]);
	th_close(&program);
	return rc;
}

int th_runtime_run_by(const char *keeper,
	const struct th_runtime_options *options, const char *log,
	struct th_error *err)
{
	const char *args[] = {"tidyhull-keeper", "oci-run", options->dir,
		options->id, options->bundle, options->pid_file,
		options->entered ? "entered" : "", log, NULL};
	int program = th_sealed_open(keeper, err);
	char path[TH_FD_PATH];

	if (program < 0)
		return -1;
	execve(th_fd_path(program, "", path), (char *const *)(uintptr_t)args,
		options->env);
	th_fail_sys(err, TH_FAILED, errno, "cannot start %s", keeper);
	th_close(&program);
	return -1;
}

void th_runtime_log(
	const char *log, const char *level, const struct th_error *err)
{
	char time_text[TH_TIME_TEXT];
	json_t *line;
	char *text;
	int fd;

	if (!log || !*log)
		return;
	th_clock_format(th_clock_now_us(), time_text);
	line = json_pack("{s:s s:s s:s s:s}", "time", time_text, "level", level,
		"msg", err->msg, "hint", err->hint);
	text = th_json_text(line, JSON_COMPACT);
	fd = open(log, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0644);
	if (!text || fd < 0 || dprintf(fd, "%s\n", text) < 0)
		fprintf(stderr, "tidyhull: cannot write the log %s: %s\n", log,
			strerror(errno));
	th_close(&fd);
	free(text);
	json_decref(line);
}
