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

/* What is read at once: a request and its answer take two calls each. */
#define CHUNK_BYTES (64 * 1024)
/* Whoever fills that sends a stream, which goes through a pipe: two calls more,
 * and no copies. */
#define PIPE_BYTES (1024 * 1024)
#define TARGETS_MAX 4
/* Connections that are being made at the same time. A server with a short
 * queue would get more of them than it can take, and answer the rest wrongly
 * (SYN cookies): the others wait here for their turn. */
#define CONNECTS_MAX 32

/* One way of a connection: from -> to. */
struct flow {
	char *held; /* what to has not taken yet; NULL: nothing */
	size_t held_at, held_len;
	int pipe[2]; /* of a stream; 0: none */
	size_t piped; /* bytes in it */
	bool streams;
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
	struct link *next_waiting; /* for its turn to be connected */
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
	int connects; /* that are under way */
	struct link *waiting, **waiting_end;
	bool releasing, closing;
	char *chunk; /* what is under way, of one connection at a time */
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

/* Takes inside over. */
static struct th_relay *make(struct th_loop *loop, struct inner *inside,
	const char *address4, const char *address6)
{
	struct th_relay *relay = calloc(1, sizeof(*relay));

	if (!relay) {
		inner_free(inside);
		return NULL;
	}
	relay->loop = loop;
	relay->waiting_end = &relay->waiting;
	relay->inside = inside;
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

struct th_relay *th_relay_new(struct th_loop *loop, int netns,
	const char *address4, const char *address6)
{
	return make(loop, inner_new(netns), address4, address6);
}

struct th_relay *th_relay_new_outside(struct th_loop *loop, int channel,
	const char *address4, const char *address6)
{
	return make(loop, inner_new_asking(channel), address4, address6);
}

struct th_relay *th_relay_new_closed(struct th_loop *loop)
{
	struct th_relay *relay = calloc(1, sizeof(*relay));

	if (relay) {
		relay->loop = loop;
		relay->waiting_end = &relay->waiting;
	}
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

static void release_flow(struct flow *flow)
{
	free(flow->held);
	if (flow->pipe[0]) {
		close(flow->pipe[0]);
		close(flow->pipe[1]);
	}
}

static void release_waiting(struct th_relay *relay);

static void end_link(struct link *link)
{
	struct th_relay *relay = link->relay;
	bool connecting = link->connecting;

	th_loop_forget(relay->loop, &link->client);
	th_loop_forget(relay->loop, &link->inner);
	th_close(&link->client_fd);
	th_close(&link->inner_fd);
	release_flow(&link->in);
	release_flow(&link->out);
	*link->place = link->next;
	if (link->next)
		link->next->place = link->place;
	free(link);
	if (connecting) {
		relay->connects--;
		release_waiting(relay);
	}
	if (relay->out_of_descriptors) {
		relay->out_of_descriptors = false;
		watch_accepts(relay, EPOLLIN);
	}
}

/* Both sides see a reset, not an orderly end. */
/* Linger of zero makes close() send a reset. */
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

/* Keeps what could not be sent. */
static int hold(struct flow *flow, const char *data, size_t len)
{
	flow->held = malloc(len);
	if (!flow->held)
		return -1;
	memcpy(flow->held, data, len);
	flow->held_at = 0;
	flow->held_len = len;
	return 0;
}

/* Sends what it can: how much, or -1 where the connection is broken. */
static ssize_t push(int to, const char *data, size_t len)
{
	ssize_t sent = send(to, data, len, MSG_DONTWAIT | MSG_NOSIGNAL);

	return sent < 0 && (errno == EAGAIN || errno == EINTR) ? 0 : sent;
}

static int push_held(struct flow *flow, int to)
{
	ssize_t sent = push(
		to, flow->held + flow->held_at, flow->held_len - flow->held_at);

	if (sent < 0)
		return -1;
	flow->held_at += (size_t)sent;
	if (flow->held_at == flow->held_len) {
		free(flow->held);
		flow->held = NULL;
	}
	return 0;
}

static bool is_pending(const struct flow *flow)
{
	return flow->held || flow->piped;
}

/* Sends what is waiting; -1 where the connection is broken. */
/* Whatever waits here is older than what can be read: nothing is read while it
 * waits, so that the order stays and the sender is slowed down. */
static int push_pending(struct flow *flow, int to)
{
	ssize_t put;

	if (flow->held)
		return push_held(flow, to);
	put = splice(flow->pipe[0], NULL, to, NULL, flow->piped,
		SPLICE_F_NONBLOCK | SPLICE_F_MOVE);
	if (put < 0)
		return errno == EAGAIN || errno == EINTR ? 0 : -1;
	flow->piped -= (size_t)put;
	return 0;
}

/* A stream's next part goes into the pipe: as recv. */
static ssize_t read_stream(struct flow *flow, int from)
{
	ssize_t got = splice(from, NULL, flow->pipe[1], NULL, PIPE_BYTES,
		SPLICE_F_NONBLOCK | SPLICE_F_MOVE);

	if (got > 0)
		flow->piped = (size_t)got;
	/* Back to what is quicker for little. */
	flow->streams = got >= CHUNK_BYTES / 4;
	return got;
}

static ssize_t read_chunk(
	struct th_relay *relay, struct flow *flow, int from, int to)
{
	ssize_t got = recv(from, relay->chunk, CHUNK_BYTES, MSG_DONTWAIT);
	ssize_t sent = got > 0 ? push(to, relay->chunk, (size_t)got) : 0;

	if (sent < 0 ||
		(got > sent &&
			hold(flow, relay->chunk + sent, (size_t)(got - sent))))
		return -2;
	if (got == CHUNK_BYTES && !flow->pipe[0] &&
		pipe2(flow->pipe, O_NONBLOCK | O_CLOEXEC) == 0)
		fcntl(flow->pipe[1], F_SETPIPE_SZ, PIPE_BYTES);
	flow->streams = got == CHUNK_BYTES && flow->pipe[0];
	return got;
}

/* Moves what can be moved; -1 where the connection is broken. A short read was
 * all that there was: the loop tells when there is more. */
static int pump(struct th_relay *relay, struct flow *flow, int from, int to)
{
	bool more = true;

	if (is_pending(flow) && push_pending(flow, to))
		return -1;
	for (int i = 0; more && !is_pending(flow) && !flow->ended && i < 8;
		i++) {
		bool streams = flow->streams;
		ssize_t got = streams ? read_stream(flow, from)
				      : read_chunk(relay, flow, from, to);

		if (got == -2 || (got < 0 && errno != EAGAIN && errno != EINTR))
			return -1;
		flow->ended = got == 0;
		if (flow->piped && push_pending(flow, to))
			return -1;
		more = flow->streams;
	}
	if (flow->ended && !is_pending(flow) && !flow->passed) {
		shutdown(to, SHUT_WR);
		flow->passed = true;
	}
	return 0;
}

static void update_link(struct link *link)
{
	struct th_loop *loop = link->relay->loop;

	/* Each direction ends by itself: a client may close its side and still
	 * wait for the answer. */
	if (link->in.passed && link->out.passed) {
		end_link(link);
		return;
	}
	th_loop_change(loop, &link->client,
		(!link->in.ended && !is_pending(&link->in) ? EPOLLIN : 0u) |
			(is_pending(&link->out) ? EPOLLOUT : 0u));
	th_loop_change(loop, &link->inner,
		(!link->out.ended && !is_pending(&link->out) ? EPOLLIN : 0u) |
			(is_pending(&link->in) ? EPOLLOUT : 0u));
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
	link->relay->connects--;
	/* Whoever wrote the bytes has already decided about their packets. */
	setsockopt(
		link->client_fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof(one));
	setsockopt(link->inner_fd, IPPROTO_TCP, TCP_NODELAY, &one, sizeof(one));
	if (th_loop_watch(link->relay->loop, &link->client, link->client_fd,
		    EPOLLIN)) {
		reset_link(link);
		return;
	}
	release_waiting(link->relay);
	update_link(link);
}

static void link_ready(struct th_watch *watch, uint32_t events)
{
	struct link *link = watch->owner;
	bool client = watch == &link->client;
	struct flow *mine = client ? &link->in : &link->out;
	struct flow *theirs = client ? &link->out : &link->in;
	int other = client ? link->inner_fd : link->client_fd;

	if (link->connecting) {
		finish_connect(link);
		return;
	}
	th_loop_hurry(link->relay->loop);
	/* An error; or what this side has to say, and what it takes. */
	if (events & EPOLLERR ||
		(events & ~(uint32_t)EPOLLOUT &&
			pump(link->relay, mine, watch->fd, other)) ||
		(events & ~(uint32_t)EPOLLIN &&
			pump(link->relay, theirs, other, watch->fd))) {
		reset_link(link);
		return;
	}
	/* Both ways of this side are closed, which is told again and again,
	 * while the other side still has to take what is held. */
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
		fd = inner_socket_to(relay->inside, &target, SOCK_STREAM);
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

static void connect_link(struct link *link)
{
	link->connecting = true;
	link->relay->connects++;
	if (connect_next(link))
		reset_link(link);
}

/* Those that have waited longest; not from within itself. */
static void release_waiting(struct th_relay *relay)
{
	if (relay->releasing || relay->closing)
		return;
	relay->releasing = true;
	while (relay->waiting && relay->connects < CONNECTS_MAX) {
		struct link *link = relay->waiting;

		relay->waiting = link->next_waiting;
		if (!relay->waiting)
			relay->waiting_end = &relay->waiting;
		connect_link(link);
	}
	relay->releasing = false;
}

static void start_link(struct listener *listener, int client)
{
	struct th_relay *relay = listener->relay;
	struct link *link = calloc(1, sizeof(*link));

	/* Only now: most keepers wait most of the time. */
	if (!relay->chunk)
		relay->chunk = malloc(CHUNK_BYTES);
	if (!link || !relay->chunk) {
		free(link);
		close(client);
		return;
	}
	link->relay = relay;
	link->port = listener->port;
	link->client_fd = client;
	link->client.fd = link->inner_fd = -1;
	link->client.ready = link->inner.ready = link_ready;
	link->client.owner = link->inner.owner = link;
	link->inner.fd = -1;
	link->next = relay->links;
	link->place = &relay->links;
	if (link->next)
		link->next->place = &link->next;
	relay->links = link;
	*relay->waiting_end = link;
	relay->waiting_end = &link->next_waiting;
	release_waiting(relay);
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
	relay->closing = true;
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
	free(relay->chunk);
	free(relay);
}
