/* Starting a container's keeper. */
#include <errno.h>
#include <pthread.h>
#include <spawn.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "ipc/words.h"
#include "container/container.h"
#include "container/scope.h"
#include "sandbox/sealed.h"
#include "store/machine.h"

#define KEEPER_CHANNEL 3

static int spawn(const struct th_context *context,
	const struct th_container_row *row, const char *mode,
	struct th_size size, int channel, pid_t *pid, struct th_error *err)
{
	posix_spawn_file_actions_t actions;
	char rows[16], columns[16];
	const char *args[] = {"tidyhull-keeper", context->store->root,
		context->store->run, row->id, mode, rows, columns,
		context->actor, context->notify ? context->notify : "", NULL};
	/* Small parts that are kept for each thread would be most of what it
	 * holds. */
	static char tunables[] = "GLIBC_TUNABLES=glibc.malloc.tcache_count=0";
	char *const env[] = {tunables, NULL};
	char path[TH_FD_PATH];
	int rc, program;

	snprintf(rows, sizeof(rows), "%d", size.rows);
	snprintf(columns, sizeof(columns), "%d", size.columns);
	program = th_sealed_open(context->keeper, err);
	if (program < 0)
		return -1;
	if (posix_spawn_file_actions_init(&actions)) {
		th_close(&program);
		return th_fail_memory(err);
	}
	posix_spawn_file_actions_adddup2(&actions, channel, KEEPER_CHANNEL);
	/* The keeper needs nothing of the caller's environment. */
	rc = posix_spawn(pid, th_fd_path(program, "", path), &actions, NULL,
		(char *const *)(uintptr_t)args, env);
	posix_spawn_file_actions_destroy(&actions);
	th_close(&program);
	if (rc == 0)
		return 0;
	th_fail_sys(err, TH_FAILED, rc, "cannot start %s", context->keeper);
	return th_hint(err, "is tidyhull installed completely?");
}

/* Waits for the keeper's word. */
static int await(const struct th_context *context, const char *id, int channel,
	pid_t pid, struct th_error *err)
{
	struct th_container_row row;
	struct th_error ignored = {0}; /* then it says why */
	struct th_message message;
	int fds[TH_CHANNEL_FDS], rc;

	rc = th_channel_receive(channel, &message, fds, err);
	if (rc == 1 && message.type == TH_TELL_STARTED)
		return 0;
	/* It runs, and the word of it was lost. */
	if (rc == 0 &&
		th_state_get(context->store->db, id, &row, &ignored) == 1 &&
		th_container_is_up(&row))
		return 0;
	/* It has ended, or will at once: the shell gets no zombie. */
	while (waitpid(pid, NULL, 0) < 0 && errno == EINTR)
		;
	if (rc == 1 && message.type == TH_TELL_FAILED)
		return th_words_error(&message, err);
	if (rc >= 0)
		th_fail(err, TH_FAILED,
			"the container's keeper ended before the container "
			"started");
	return -1;
}

static int start(const struct th_context *context,
	const struct th_container_row *row, enum th_attach attach,
	const struct th_handed *handed, struct th_size size, int *channel,
	pid_t *keeper, struct th_error *err)
{
	static const char *const modes[] = {
		"background", "attached", "input", "bound"};
	/* Threads share the scope that their process is in. */
	static pthread_mutex_t in_scope = PTHREAD_MUTEX_INITIALIZER;
	bool scope = th_scope_wanted(context->user_bus);
	struct th_error ignored = {0}; /* explained above its use */
	int pair[2], rc;
	pid_t pid = 0;

	if (row->state == TH_STATE_PAUSED)
		return th_act_check(row, TH_ACT_START, err);
	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair))
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot create a channel to the keeper");
	if (scope) {
		pthread_mutex_lock(&in_scope);
		/* Without groups of its own a container can be had, too: what
		 * needs them says so. */
		th_scope_enter(row->id, row->name, &ignored);
	}
	rc = spawn(context, row, handed ? "successor" : modes[attach], size,
		pair[1], &pid, err);
	if (scope)
		pthread_mutex_unlock(&in_scope);
	close(pair[1]);
	/* One that cannot be told ends, and says why. */
	if (rc == 0 && handed)
		th_handed_send(pair[0], TH_SAY_PORTS, handed, &ignored);
	if (rc == 0)
		rc = await(context, row->id, pair[0], pid, err);
	if (rc || attach == TH_BACKGROUND)
		close(pair[0]);
	else
		*channel = pair[0];
	if (keeper)
		*keeper = pid;
	return rc;
}

int th_container_start(const struct th_context *context,
	const struct th_container_row *row, struct th_error *err)
{
	const struct th_size none = {0, 0};

	return start(context, row, TH_BACKGROUND, NULL, none, NULL, NULL, err);
}

int th_container_start_attached(const struct th_context *context,
	const struct th_container_row *row, enum th_attach attach,
	struct th_size size, int *channel, pid_t *keeper, struct th_error *err)
{
	return start(context, row, attach, NULL, size, channel, keeper, err);
}

int th_container_start_handed(const struct th_context *context,
	const struct th_container_row *row, const struct th_handed *handed,
	struct th_error *err)
{
	const struct th_size none = {0, 0};

	return start(
		context, row, TH_BACKGROUND, handed, none, NULL, NULL, err);
}
