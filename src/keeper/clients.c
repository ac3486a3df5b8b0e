/* Commands that are connected to the keeper. */
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "keeper/keeper.h"
#include "keeper/scratch.h"

static void client_ready(struct th_watch *watch, uint32_t events);

/* Answers and words of state that wait for one client. */
#define PENDING_MAX 64
/* Slow readers that are served at the same time after the end. */
#define LATE_MAX 256

static void drop_first(struct waiting **list)
{
	struct waiting *first = *list;

	*list = first->next;
	free(first);
}

void keeper_add_client(struct keeper *keeper, int fd, bool attached)
{
	struct client *client = calloc(1, sizeof(*client));

	if (!client) {
		close(fd);
		return;
	}
	/* A client that stops reading must not stop the keeper. */
	fcntl(fd, F_SETFL, O_NONBLOCK);
	client->keeper = keeper;
	client->attached = attached;
	client->pending_end = &client->pending;
	th_buf_init(&client->parts, TH_CHANNEL_REQUEST);
	client->watch.owner = client;
	client->watch.ready = client_ready;
	if (th_loop_watch(&keeper->loop, &client->watch, fd, EPOLLIN)) {
		close(fd);
		free(client);
		return;
	}
	client->next = keeper->clients.first;
	client->place = &keeper->clients.first;
	if (client->next)
		client->next->place = &client->next;
	keeper->clients.first = client;
}

void keeper_drop_client(struct client *client)
{
	struct keeper *keeper = client->keeper;
	int fd = client->watch.fd;

	th_loop_forget(&keeper->loop, &client->watch);
	th_close(&fd);
	if (client->session)
		client->session->client = NULL;
	if (client->pending)
		keeper->clients.blocked--;
	while (client->pending)
		drop_first(&client->pending);
	*client->place = client->next;
	if (client->next)
		client->next->place = client->place;
	if (client->attached && keeper->input && !client->left)
		keeper_take_input(keeper, "", 0, true);
	keeper_forget_pause(client);
	if (client->holds)
		keeper_end_hold(keeper);
	if (client->attached && keeper->bound && keeper_runs(keeper))
		keeper_end_bound(keeper);
	th_buf_release(&client->parts);
	free(client);
	keeper_update_streams(keeper);
}

void keeper_tell(struct client *client, enum th_message_type type,
	const void *data, size_t len)
{
	struct keeper *keeper = client->keeper;
	struct waiting *waiting;

	if (!client->pending) {
		if (th_channel_send(
			    client->watch.fd, type, data, len, NULL, 0) == 0)
			return;
		if (errno != EAGAIN)
			return; /* it has gone: the loop will see that */
	}
	/* It is not asked of more than it has asked for, so what waits for it
	 * is little; one that asks for ever and never reads is dropped. */
	waiting = client->pending_count < PENDING_MAX
		? malloc(sizeof(*waiting) + len)
		: NULL;
	if (!waiting) {
		shutdown(client->watch.fd, SHUT_RDWR);
		return;
	}
	waiting->next = NULL;
	waiting->type = type;
	waiting->len = (uint32_t)len;
	if (len)
		memcpy(waiting->data, data, len);
	*client->pending_end = waiting;
	client->pending_end = &waiting->next;
	if (client->pending_count++)
		return;
	keeper->clients.blocked++;
	th_loop_change(&keeper->loop, &client->watch, EPOLLOUT);
	keeper_update_streams(keeper);
}

static void tell_words(
	struct client *client, enum th_message_type type, char *words)
{
	if (words)
		keeper_tell(client, type, words, strlen(words));
	else /* no memory: its end says that something is wrong */
		shutdown(client->watch.fd, SHUT_RDWR);
	free(words);
}

void keeper_tell_error(struct client *client, const struct th_error *err)
{
	tell_words(client, TH_TELL_FAILED, th_words_of_error(err));
}

void keeper_tell_ending(struct client *client, enum th_message_type type,
	const struct th_ending *ending)
{
	tell_words(client, type, th_words_of_ending(ending));
}

void keeper_tell_end(struct client *client, const struct th_ending *ending)
{
	struct keeper *keeper = client->keeper;
	struct late *late;

	if (!client->pending &&
		(th_words_send(client->watch.fd, TH_TELL_ENDED,
			 th_words_of_ending(ending)) == 0 ||
			errno != EAGAIN))
		return;
	late = calloc(1, sizeof(*late));
	if (!late)
		return;
	late->fd = fcntl(client->watch.fd, F_DUPFD_CLOEXEC, 3);
	late->first = client->pending;
	late->ending = *ending;
	late->next = keeper->clients.late;
	keeper->clients.late = late;
	if (client->pending)
		keeper->clients.blocked--;
	client->pending = NULL;
	client->pending_end = &client->pending;
	client->pending_count = 0;
}

/* True where there is nothing left to tell: all was, or it has gone. */
static bool tell_one(struct late *late)
{
	while (late->first) {
		if (th_channel_send(late->fd, late->first->type,
			    late->first->data, late->first->len, NULL, 0))
			return errno != EAGAIN;
		drop_first(&late->first);
	}
	return th_words_send(late->fd, TH_TELL_ENDED,
		       th_words_of_ending(&late->ending)) == 0 ||
		errno != EAGAIN;
}

static void drop_late(struct late **place)
{
	struct late *late = *place;

	*place = late->next;
	th_close(&late->fd);
	while (late->first)
		drop_first(&late->first);
	free(late);
}

/* All at the same time: one that never reads must not keep the others. */
void keeper_tell_late(struct keeper *keeper)
{
	struct pollfd all[LATE_MAX];

	while (keeper->clients.late) {
		size_t count = 0;

		for (struct late *at = keeper->clients.late;
			at && count < LATE_MAX; at = at->next)
			all[count++] = (struct pollfd){
				.fd = at->fd, .events = POLLOUT};
		if (poll(all, count, -1) < 0)
			continue;
		count = 0;
		for (struct late **place = &keeper->clients.late;
			*place && count < LATE_MAX; count++) {
			short events = all[count].revents;

			if (events & (POLLERR | POLLHUP) ||
				(events && tell_one(*place)))
				drop_late(place);
			else
				place = &(*place)->next;
		}
	}
}

static void send_pending(struct client *client)
{
	struct keeper *keeper = client->keeper;
	struct waiting *first = client->pending;

	if (th_channel_send(client->watch.fd, first->type, first->data,
		    first->len, NULL, 0) &&
		errno == EAGAIN)
		return;
	drop_first(&client->pending);
	keeper->clients.read_ms = th_clock_mono_ms();
	if (--client->pending_count)
		return;
	client->pending_end = &client->pending;
	keeper->clients.blocked--;
	th_loop_change(&keeper->loop, &client->watch, EPOLLIN);
	keeper_update_streams(keeper);
}

static void client_ready(struct th_watch *watch, uint32_t events)
{
	static _Alignas(APART) struct th_message message;
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
	/* One message a round, so that a busy client does not starve others. */
	rc = th_channel_receive(watch->fd, &message, fds, &err);
	if (rc == 1)
		keeper_handle(client, &message, fds);
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
	if (fd >= 0 && th_peer_is_own(fd))
		keeper_add_client(keeper, fd, false);
	else
		th_close(&fd);
}

int keeper_listen(struct keeper *keeper, struct th_error *err)
{
	int fd = th_channel_listen(keeper->store->run_fd, keeper->id, err);
	char path[64];

	if (fd < 0)
		return -1;
	snprintf(path, sizeof(path), "%.32s.sock", keeper->id);
	if (fstatat(keeper->store->run_fd, path, &keeper->clients.socket,
		    AT_SYMLINK_NOFOLLOW))
		memset(&keeper->clients.socket, 0,
			sizeof(keeper->clients.socket));
	keeper->clients.listener.owner = keeper;
	keeper->clients.listener.ready = listener_ready;
	if (th_loop_watch(
		    &keeper->loop, &keeper->clients.listener, fd, EPOLLIN) == 0)
		return 0;
	th_fail_sys(err, TH_FAILED, errno, "cannot watch the keeper's socket");
	th_close(&fd);
	return -1;
}

void keeper_stop_listening(struct keeper *keeper)
{
	int fd = keeper->clients.listener.fd;

	th_loop_forget(&keeper->loop, &keeper->clients.listener);
	th_close(&fd);
	keeper->clients.listener.fd = -1;
}

/* ---- all of them ---- */

void keeper_each_client(struct keeper *keeper,
	void (*act)(struct client *client, const void *with), const void *with)
{
	struct client *next;

	for (struct client *at = keeper->clients.first; at; at = next) {
		next = at->next;
		act(at, with);
	}
}

static void tell_all(struct client *client, const void *with)
{
	if (client->attached || client->waits_for_end ||
		client->waits_for_ready || client->waits_for_start)
		keeper_tell_end(client, with);
	keeper_drop_client(client);
}

void keeper_tell_all_end(struct keeper *keeper, const struct th_ending *ending)
{
	keeper_each_client(keeper, tell_all, ending);
}

static void tell_again(struct client *client, const void *with)
{
	if (client->attached)
		keeper_tell_ending(client, TH_TELL_AGAIN, with);
}

void keeper_tell_again(struct keeper *keeper, const struct th_ending *ending)
{
	keeper_each_client(keeper, tell_again, ending);
}

static void tell_start(struct client *client, const void *with)
{
	if (!client->waits_for_start)
		return;
	client->waits_for_start = false;
	if (with)
		keeper_tell_error(client, with);
	else
		keeper_tell(client, TH_TELL_STARTED, NULL, 0);
}

void keeper_tell_start(struct keeper *keeper, const struct th_error *why)
{
	keeper_each_client(keeper, tell_start, why);
}

static void tell_ready(struct client *client, const void *with)
{
	(void)with;
	if (!client->waits_for_ready)
		return;
	client->waits_for_ready = false;
	keeper_tell(client, TH_TELL_DONE, NULL, 0);
}

void keeper_tell_ready(struct keeper *keeper)
{
	keeper_each_client(keeper, tell_ready, NULL);
}
