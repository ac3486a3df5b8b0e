/* The keeper's loop. */
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/ioctl.h>
#include <sys/signalfd.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"
#include "keeper/keeper.h"

/* How long an attached client may leave the last output unread. */
#define LAST_OUTPUT_MS 10000

static void client_ready(struct th_watch *watch, uint32_t events);

void keeper_add_client(struct keeper *keeper, int fd, bool attached)
{
	struct client *client = calloc(1, sizeof(*client));

	if (!client) {
		close(fd);
		return;
	}
	fcntl(fd, F_SETFL, O_NONBLOCK);
	client->keeper = keeper;
	client->attached = attached;
	client->watch.owner = client;
	client->watch.ready = client_ready;
	if (th_loop_watch(&keeper->loop, &client->watch, fd, EPOLLIN)) {
		close(fd);
		free(client);
		return;
	}
	client->next = keeper->clients;
	client->place = &keeper->clients;
	if (client->next)
		client->next->place = &client->next;
	keeper->clients = client;
}

void keeper_drop_client(struct client *client)
{
	struct keeper *keeper = client->keeper;
	int fd = client->watch.fd;

	th_loop_forget(&keeper->loop, &client->watch);
	th_close(&fd);
	if (client->session)
		client->session->client = NULL;
	if (client->pending) {
		keeper->blocked--;
		free(client->pending);
	}
	*client->place = client->next;
	if (client->next)
		client->next->place = client->place;
	if (client->attached && keeper->input)
		keeper_take_input(keeper, "", 0, true);
	free(client);
	keeper_update_streams(keeper);
}

void keeper_tell(struct client *client, enum th_message_type type,
	const void *data, size_t len)
{
	struct keeper *keeper = client->keeper;
	struct th_message *message;

	if (client->pending) {
		/* Only the very last message can meet a client that is still
		 * stuck; it then learns the end from the closed channel. */
		return;
	}
	if (th_channel_send(client->watch.fd, type, data, len, NULL, 0) == 0)
		return;
	if (errno != EAGAIN)
		return; /* it has gone: the loop will see that */
	message = malloc(sizeof(*message));
	if (!message)
		return;
	message->type = (uint16_t)type;
	message->len = (uint32_t)len;
	memcpy(message->data, data, len);
	client->pending = message;
	keeper->blocked++;
	th_loop_change(&keeper->loop, &client->watch, EPOLLOUT);
	keeper_update_streams(keeper);
}

static void send_pending(struct client *client)
{
	struct keeper *keeper = client->keeper;
	struct th_message *message = client->pending;

	if (th_channel_send(client->watch.fd,
		    (enum th_message_type)message->type, message->data,
		    message->len, NULL, 0) &&
		errno == EAGAIN)
		return;
	free(message);
	client->pending = NULL;
	keeper->blocked--;
	th_loop_change(&keeper->loop, &client->watch, EPOLLIN);
	keeper_update_streams(keeper);
}

/* A line of /proc/PID/status that holds a set of signals. */
static uint64_t signal_set(pid_t pid, const char *name)
{
	char path[48], *at;
	struct th_error ignored = {0};
	struct th_buf buf;
	uint64_t set = 0;

	snprintf(path, sizeof(path), "/proc/%d/status", (int)pid);
	th_buf_init(&buf, 65536);
	if (th_file_read(AT_FDCWD, path, &buf, &ignored) == 1) {
		at = strstr(buf.data, name);
		if (at)
			set = strtoull(at + strlen(name), NULL, 16);
	}
	th_buf_release(&buf);
	return set;
}

static bool ends_by_default(int number)
{
	switch (number) {
	case SIGCHLD:
	case SIGCONT:
	case SIGURG:
	case SIGWINCH:
	case SIGSTOP:
	case SIGTSTP:
	case SIGTTIN:
	case SIGTTOU:
		return false;
	default:
		return true;
	}
}

/* The kernel does not let a signal without a handler end the first process of
 * a PID namespace, so what the signal means by default is done by hand:
 * nobody should wait ten seconds for a program that cannot hear. */
static void send_signal(struct keeper *keeper, int number)
{
	uint64_t bit = (uint64_t)1 << (number - 1);
	pid_t pid = keeper->sandbox.pid;

	if (keeper->ended)
		return;
	/* A reaper hears all of them, and the program below it is no first
	 * process. */
	if (!keeper->options.reaper &&
		keeper->bundle.namespaces & CLONE_NEWPID && number != SIGKILL &&
		ends_by_default(number) &&
		!((signal_set(pid, "SigCgt:") | signal_set(pid, "SigIgn:") |
			  signal_set(pid, "SigBlk:")) &
			bit)) {
		keeper->stands_for = number;
		number = SIGKILL;
	}
	syscall(SYS_pidfd_send_signal, keeper->sandbox.pidfd, number, NULL, 0);
}

static void note_end(struct keeper *keeper, const char *verb, const char *actor)
{
	snprintf(keeper->end_cause, sizeof(keeper->end_cause), "%s", verb);
	snprintf(keeper->ended_by, sizeof(keeper->ended_by), "%s",
		actor ? actor : "");
}

static void begin_stop(
	struct keeper *keeper, int number, int64_t grace_ms, const char *actor)
{
	if (!keeper->stopping)
		note_end(keeper, "stopped", actor);
	keeper->stopping = true;
	keeper->force_ms = th_clock_mono_ms() + grace_ms;
	send_signal(keeper, number);
	/* The signal waits for it when it wakes up. */
	keeper_thaw(keeper);
}

static void read_signal_request(
	struct client *client, const struct th_message *message)
{
	struct keeper *keeper = client->keeper;
	int64_t number = keeper->plan.stop_signal;
	int64_t grace_ms = keeper->plan.grace_ms;
	const char *actor = NULL;
	struct th_error err = {0};
	json_t *doc = NULL;

	if (th_json_parse(
		    message->data, message->len, "a request", &doc, &err) ||
		th_json_int(doc, "signal", "a request", &number, &err) < 0 ||
		th_json_int(doc, "grace-ms", "a request", &grace_ms, &err) <
			0 ||
		th_json_string(doc, "actor", "a request", &actor, &err) < 0 ||
		number < 1 || number > 64 || grace_ms < 0) {
		th_fail(&err, TH_FAILED, "the request is not valid");
		keeper_tell(client, TH_TELL_FAILED, &err, sizeof(err));
	} else if (message->type == TH_SAY_STOP) {
		client->waits_for_end = true;
		begin_stop(keeper, (int)number, grace_ms, actor);
	} else {
		char verb[64];

		snprintf(verb, sizeof(verb), "was sent signal %d", (int)number);
		note_end(keeper, verb, actor);
		send_signal(keeper, (int)number);
		keeper_tell(client, TH_TELL_DONE, NULL, 0);
	}
	json_decref(doc);
}

static void resize(struct keeper *keeper, const struct th_message *message)
{
	struct th_size size;
	struct winsize ws = {0};

	if (message->len != sizeof(size) || keeper->out.fd < 0)
		return;
	memcpy(&size, message->data, sizeof(size));
	ws.ws_row = size.rows;
	ws.ws_col = size.columns;
	if (keeper->bundle.process.terminal)
		ioctl(keeper->out.fd, TIOCSWINSZ, &ws);
}

static void handle(
	struct client *client, const struct th_message *message, int fds[3])
{
	struct keeper *keeper = client->keeper;

	switch (message->type) {
	case TH_SAY_INPUT:
		if (client->attached)
			keeper_take_input(
				keeper, message->data, message->len, false);
		break;
	case TH_SAY_INPUT_END:
		if (client->attached)
			keeper_take_input(keeper, "", 0, true);
		break;
	case TH_SAY_RESIZE:
		resize(keeper, message);
		break;
	case TH_SAY_SIGNAL:
	case TH_SAY_STOP:
		read_signal_request(client, message);
		break;
	case TH_SAY_PAUSE:
	case TH_SAY_RESUME:
		keeper_pause_request(client, message);
		break;
	case TH_SAY_ADJUST:
		keeper_adjust(client, message);
		break;
	case TH_SAY_EXEC:
		keeper_start_session(client, message, fds);
		break;
	default:
		/* A later version of the same protocol: nothing we know. */
		break;
	}
}

static void client_ready(struct th_watch *watch, uint32_t events)
{
	static struct th_message message;
	struct client *client = watch->owner;
	struct th_error err = {0};
	int fds[TH_CHANNEL_FDS], rc;

	if (client->pending) {
		if (events & (EPOLLERR | EPOLLHUP))
			keeper_drop_client(client);
		else
			send_pending(client);
		return;
	}
	rc = th_channel_receive(watch->fd, &message, fds, &err);
	if (rc == 1)
		handle(client, &message, fds);
	for (int i = 0; i < TH_CHANNEL_FDS; i++)
		th_close(&fds[i]);
	if (rc == 0 || (rc < 0 && errno != EAGAIN))
		keeper_drop_client(client);
}

static void listener_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	int fd = accept4(watch->fd, NULL, NULL, SOCK_CLOEXEC);

	(void)events;
	if (fd >= 0)
		keeper_add_client(keeper, fd, false);
}

static void process_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	int status = 0;

	(void)events;
	if (waitpid(keeper->sandbox.pid, &status, WNOHANG) == 0)
		return;
	keeper->ended = true;
	keeper->ended_ms = th_clock_mono_ms();
	keeper->status = status;
	keeper->sandbox.pid = 0;
	th_loop_forget(&keeper->loop, watch);
	th_close(&keeper->sandbox.pidfd);
	/* Nobody is left to read the input. */
	keeper->in_end = true;
	keeper->in_pending.len = 0;
}

static void signals_ready(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	struct signalfd_siginfo info;

	(void)events;
	if (read(watch->fd, &info, sizeof(info)) != (ssize_t)sizeof(info))
		return;
	/* Somebody wants the keeper away, as a host does when it goes down. */
	if (info.ssi_signo == SIGTERM || info.ssi_signo == SIGINT)
		begin_stop(keeper, keeper->plan.stop_signal,
			keeper->plan.grace_ms, "a signal to the keeper");
}

int keeper_watch_control(struct keeper *keeper, struct th_error *err)
{
	sigset_t set;
	int fd;

	fd = th_channel_listen(keeper->store->run_fd, keeper->id, err);
	if (fd < 0)
		return -1;
	keeper->listener.owner = keeper;
	keeper->listener.ready = listener_ready;
	if (th_loop_watch(&keeper->loop, &keeper->listener, fd, EPOLLIN))
		goto fail;
	sigemptyset(&set);
	sigaddset(&set, SIGTERM);
	sigaddset(&set, SIGINT);
	sigaddset(&set, SIGHUP);
	sigaddset(&set, SIGCHLD);
	fd = signalfd(-1, &set, SFD_CLOEXEC | SFD_NONBLOCK);
	keeper->signals.owner = keeper;
	keeper->signals.ready = signals_ready;
	if (fd < 0 ||
		th_loop_watch(&keeper->loop, &keeper->signals, fd, EPOLLIN))
		goto fail;
	keeper->process.owner = keeper;
	keeper->process.ready = process_ready;
	if (th_loop_watch(&keeper->loop, &keeper->process,
		    keeper->sandbox.pidfd, EPOLLIN))
		goto fail;
	return 0;
fail:
	th_fail_sys(err, TH_FAILED, errno, "cannot watch the container");
	th_close(&fd);
	return -1;
}

/* Milliseconds until something is due, or -1. */
static int next_due(struct keeper *keeper)
{
	int64_t left;

	if (keeper->ended)
		left = keeper->ended_ms + LAST_OUTPUT_MS - th_clock_mono_ms();
	else if (keeper->stopping && !keeper->by_force)
		left = keeper->force_ms - th_clock_mono_ms();
	else
		return -1;
	return left < 0 ? 0 : left > 1000000 ? 1000000 : (int)left;
}

static void do_what_is_due(struct keeper *keeper)
{
	if (!keeper->ended && keeper->stopping && !keeper->by_force &&
		th_clock_mono_ms() >= keeper->force_ms) {
		keeper->by_force = true;
		syscall(SYS_pidfd_send_signal, keeper->sandbox.pidfd, SIGKILL,
			NULL, 0);
	}
	if (keeper->log.failed && !keeper->log_reported) {
		struct th_change change = {.to = TH_STATE_RUNNING,
			.pid = keeper->sandbox.pid,
			.cause = "the log could not be written any more",
			.actor = "keeper",
			.ports = keeper->port_rows};
		struct th_error ignored = {0};

		/* Recorded once; the container goes on. */
		keeper->log_reported = true;
		if (!keeper->ended)
			th_state_change(keeper->store->db, keeper->id, &change,
				&ignored);
	}
}

void keeper_serve(struct keeper *keeper)
{
	while (!keeper->ended || keeper_streams_open(keeper) ||
		keeper->blocked) {
		if (th_loop_round(&keeper->loop, next_due(keeper)) < 0)
			break;
		do_what_is_due(keeper);
		if (keeper->ended &&
			th_clock_mono_ms() > keeper->ended_ms + LAST_OUTPUT_MS)
			break;
	}
}
