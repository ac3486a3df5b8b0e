#include "network/relay.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <netinet/tcp.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "network/datagrams.h"
#include "network/inner.h"

#define PIPE_BYTES (256 * 1024)
#define TARGETS_MAX 4

/* One way of a connection: from -> pipe -> to. */
struct flow {
	int pipe[2];
	size_t held; /* bytes in the pipe */
	bool ended; /* from said that nothing more comes */
	bool passed; /* and to was told */
};

struct link {
	struct th_relay *relay;
	struct link *next, **place;
	struct th_watch client, inner;
	int client_fd, inner_fd; /* stay when the watch has ended */
	struct flow in, out; /* client -> inner, inner -> client */
	int port;
	int target; /* which of the relay's targets is tried */
	bool connecting;
};

struct listener {
	struct listener *next;
	struct th_relay *relay;
	struct th_watch watch;
	int port;
};

struct th_relay {
	struct th_loop *loop;
	struct inner *inside;
	struct sockaddr_storage targets[TARGETS_MAX];
	int target_count;
	struct listener *listeners;
	struct link *links;
	struct datagrams *datagrams; /* UDP ports, or NULL */
	bool out_of_descriptors;
};

static void add_target(struct th_relay *relay, int family, const char *text)
{
	struct sockaddr_storage *target = &relay->targets[relay->target_count];
	struct sockaddr_in *four = (struct sockaddr_in *)(void *)target;
	struct sockaddr_in6 *six = (struct sockaddr_in6 *)(void *)target;

	if (inet_pton(family, text,
		    family == AF_INET ? (void *)&four->sin_addr
				      : (void *)&six->sin6_addr) != 1)
		return;
	target->ss_family = (sa_family_t)family;
	relay->target_count++;
}

struct th_relay *th_relay_new(struct th_loop *loop, int netns,
	const char *address4, const char *address6)
{
	struct th_relay *relay = calloc(1, sizeof(*relay));

	if (!relay)
		return NULL;
	relay->loop = loop;
	relay->inside = inner_new(netns);
	if (!relay->inside) {
		free(relay);
		return NULL;
	}
	/* A server that listens on the loopback only is found as well. */
	add_target(relay, AF_INET, address4);
	add_target(relay, AF_INET, "127.0.0.1");
	add_target(relay, AF_INET6, address6);
	add_target(relay, AF_INET6, "::1");
	return relay;
}

struct th_relay *th_relay_new_closed(struct th_loop *loop)
{
	struct th_relay *relay = calloc(1, sizeof(*relay));

	if (relay)
		relay->loop = loop;
	return relay;
}

static void watch_accepts(struct th_relay *relay, uint32_t events)
{
	for (struct listener *at = relay->listeners; at; at = at->next)
		th_loop_change(relay->loop, &at->watch, events);
}

static void close_watch(struct th_loop *loop, struct th_watch *watch)
{
	int fd = watch->fd;

	th_loop_forget(loop, watch);
	th_close(&fd);
}

static void close_flow(struct flow *flow)
{
	th_close(&flow->pipe[0]);
	th_close(&flow->pipe[1]);
}

static void end_link(struct link *link)
{
	struct th_relay *relay = link->relay;

	th_loop_forget(relay->loop, &link->client);
	th_loop_forget(relay->loop, &link->inner);
	th_close(&link->client_fd);
	th_close(&link->inner_fd);
	close_flow(&link->in);
	close_flow(&link->out);
	*link->place = link->next;
	if (link->next)
		link->next->place = link->place;
	free(link);
	if (relay->out_of_descriptors) {
		relay->out_of_descriptors = false;
		watch_accepts(relay, EPOLLIN);
	}
}

/* Both sides see a reset, not an orderly end. */
static void reset_link(struct link *link)
{
	const struct linger at_once = {.l_onoff = 1, .l_linger = 0};

	if (link->client_fd >= 0)
		setsockopt(link->client_fd, SOL_SOCKET, SO_LINGER, &at_once,
			sizeof(at_once));
	if (link->inner_fd >= 0)
		setsockopt(link->inner_fd, SOL_SOCKET, SO_LINGER, &at_once,
			sizeof(at_once));
	end_link(link);
}

/* Moves what can be moved; -1 where the connection is broken. */
static int pump(struct flow *flow, int from, int to)
{
	for (;;) {
		bool moved = false;

		if (!flow->ended && flow->held == 0) {
			ssize_t got = splice(from, NULL, flow->pipe[1], NULL,
				PIPE_BYTES, SPLICE_F_NONBLOCK | SPLICE_F_MOVE);

			if (got > 0) {
				flow->held += (size_t)got;
				moved = true;
			} else if (got == 0) {
				flow->ended = true;
			} else if (errno != EAGAIN && errno != EINTR) {
				return -1;
			}
		}
		if (flow->held > 0) {
			ssize_t put = splice(flow->pipe[0], NULL, to, NULL,
				flow->held, SPLICE_F_NONBLOCK | SPLICE_F_MOVE);

			if (put > 0) {
				flow->held -= (size_t)put;
				moved = true;
			} else if (put < 0 && errno != EAGAIN &&
				errno != EINTR) {
				return -1;
			}
		}
		if (!moved)
			break;
	}
	if (flow->ended && flow->held == 0 && !flow->passed) {
		shutdown(to, SHUT_WR);
		flow->passed = true;
	}
	return 0;
}

static void update_link(struct link *link)
{
	struct th_loop *loop = link->relay->loop;

	if (link->in.passed && link->out.passed) {
		end_link(link);
		return;
	}
	th_loop_change(loop, &link->client,
		(!link->in.ended && !link->in.held ? EPOLLIN : 0u) |
			(link->out.held ? EPOLLOUT : 0u));
	th_loop_change(loop, &link->inner,
		(!link->out.ended && !link->out.held ? EPOLLIN : 0u) |
			(link->in.held ? EPOLLOUT : 0u));
}

static int connect_next(struct link *link);

/* The answer to a connect that was under way. */
static void finish_connect(struct link *link)
{
	socklen_t len = sizeof(int);
	int sys = 0, one = 1;

	getsockopt(link->inner_fd, SOL_SOCKET, SO_ERROR, &sys, &len);
	if (sys) {
		th_loop_forget(link->relay->loop, &link->inner);
		th_close(&link->inner_fd);
		if (connect_next(link))
			reset_link(link);
		return;
	}
	link->connecting = false;
	/* Whoever wrote the bytes has already decided about their packets. */
	setsockopt(
		link->client_fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof(one));
	setsockopt(link->inner_fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof(one));
	if (th_loop_watch(link->relay->loop, &link->client, link->client_fd,
		    EPOLLIN)) {
		reset_link(link);
		return;
	}
	update_link(link);
}

static void link_ready(struct th_watch *watch, uint32_t events)
{
	struct link *link = watch->owner;

	if (link->connecting) {
		finish_connect(link);
		return;
	}
	/* An error, or a hang-up with nothing left that could be moved. */
	if (events & EPOLLERR ||
		pump(&link->in, link->client_fd, link->inner_fd) ||
		pump(&link->out, link->inner_fd, link->client_fd)) {
		reset_link(link);
		return;
	}
	/* Both ways of this side are closed, which is told again and again,
	 * while the other side still has to take what is in the pipe. */
	if (events & EPOLLHUP && watch->events == 0)
		th_loop_forget(link->relay->loop, watch);
	update_link(link);
}

/* Tries the next target; -1 where none is left. */
static int connect_next(struct link *link)
{
	struct th_relay *relay = link->relay;

	while (link->target < relay->target_count) {
		struct sockaddr_storage target = relay->targets[link->target++];
		int fd;

		if (target.ss_family == AF_INET)
			((struct sockaddr_in *)(void *)&target)->sin_port =
				htons((uint16_t)link->port);
		else
			((struct sockaddr_in6 *)(void *)&target)->sin6_port =
				htons((uint16_t)link->port);
		fd = inner_socket(relay->inside, target.ss_family, SOCK_STREAM);
		if (fd < 0)
			continue;
		if ((connect(fd, (struct sockaddr *)(void *)&target,
			     target.ss_family == AF_INET
				     ? sizeof(struct sockaddr_in)
				     : sizeof(struct sockaddr_in6)) == 0 ||
			    errno == EINPROGRESS) &&
			th_loop_watch(
				relay->loop, &link->inner, fd, EPOLLOUT) == 0) {
			link->inner_fd = fd;
			return 0;
		}
		close(fd);
	}
	return -1;
}

static int open_flow(struct flow *flow)
{
	if (pipe2(flow->pipe, O_NONBLOCK | O_CLOEXEC)) {
		flow->pipe[0] = flow->pipe[1] = -1;
		return -1;
	}
	fcntl(flow->pipe[1], F_SETPIPE_SZ, PIPE_BYTES);
	return 0;
}

static void start_link(struct listener *listener, int client)
{
	struct th_relay *relay = listener->relay;
	struct link *link = calloc(1, sizeof(*link));

	if (!link) {
		close(client);
		return;
	}
	link->relay = relay;
	link->port = listener->port;
	link->connecting = true;
	link->client_fd = client;
	link->client.fd = link->inner_fd = -1;
	link->client.ready = link->inner.ready = link_ready;
	link->client.owner = link->inner.owner = link;
	link->inner.fd = -1;
	link->in.pipe[0] = link->in.pipe[1] = -1;
	link->out.pipe[0] = link->out.pipe[1] = -1;
	link->next = relay->links;
	link->place = &relay->links;
	if (link->next)
		link->next->place = &link->next;
	relay->links = link;
	if (open_flow(&link->in) || open_flow(&link->out) || connect_next(link))
		reset_link(link);
}

static void accept_ready(struct th_watch *watch, uint32_t events)
{
	struct listener *listener = watch->owner;

	(void)events;
	/* A few at a time, so that running connections get their turn. */
	for (int i = 0; i < 16; i++) {
		int client = accept4(
			watch->fd, NULL, NULL, SOCK_NONBLOCK | SOCK_CLOEXEC);

		if (client >= 0) {
			start_link(listener, client);
			continue;
		}
		if (errno == EMFILE || errno == ENFILE) {
			listener->relay->out_of_descriptors = true;
			watch_accepts(listener->relay, 0);
		}
		return;
	}
}

int th_relay_serve(struct th_relay *relay, const struct th_port *port,
	const int fds[2], struct th_error *err)
{
	int rc = 0;

	for (int i = 0; i < 2; i++) {
		struct listener *listener;

		if (fds[i] < 0)
			continue;
		if (port->udp) {
			rc |= datagrams_serve(&relay->datagrams, relay->loop,
				relay->inside, relay->targets,
				relay->target_count, port->port, fds[i], err);
			continue;
		}
		listener = rc ? NULL : calloc(1, sizeof(*listener));
		if (!listener) {
			close(fds[i]);
			rc = th_fail_memory(err);
			continue;
		}
		listener->relay = relay;
		listener->port = port->port;
		listener->watch.owner = listener;
		listener->watch.ready = accept_ready;
		if (th_loop_watch(
			    relay->loop, &listener->watch, fds[i], EPOLLIN)) {
			close(fds[i]);
			free(listener);
			rc = th_fail_sys(err, TH_FAILED, errno,
				"cannot serve port %d", port->host_port);
			continue;
		}
		listener->next = relay->listeners;
		relay->listeners = listener;
	}
	return rc;
}

void th_relay_free(struct th_relay *relay)
{
	if (!relay)
		return;
	while (relay->links)
		reset_link(relay->links);
	while (relay->listeners) {
		struct listener *next = relay->listeners->next;

		close_watch(relay->loop, &relay->listeners->watch);
		free(relay->listeners);
		relay->listeners = next;
	}
	datagrams_free(relay->datagrams);
	inner_free(relay->inside);
	free(relay);
}
