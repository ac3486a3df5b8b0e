/* Creation is the work of a small program, which a container cannot change. */
#include <errno.h>
#include <spawn.h>
#include <stdint.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
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

int th_runtime_create_by(const char *keeper,
	const struct th_runtime_options *options, struct th_error *warning,
	struct th_error *err)
{
	const char *args[] = {"tidyhull-keeper", "oci-create", options->dir,
		options->id, options->bundle, options->pid_file,
		options->console_socket, options->entered ? "entered" : "",
		NULL};
	static char *const env[] = {NULL};
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
	rc = posix_spawn(&pid, th_fd_path(program, "", path), &actions, NULL,
		(char *const *)(uintptr_t)args, env);
	posix_spawn_file_actions_destroy(&actions);
	th_close(&pair[1]);
	if (rc) {
		rc = th_fail_sys(err, TH_FAILED, rc, "cannot start %s", keeper);
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
