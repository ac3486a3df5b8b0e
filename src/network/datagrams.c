/* A flow is what one client sends to one address of this host: it has a socket
 * of its own inside, so that answers find their way back, and ends when nothing
 * has come for a while. */
#include "network/datagrams.h"

#include <errno.h>
#include <netinet/in.h>
#include <stdbool.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"

#define DATAGRAM_MAX 65536
#define FLOWS_MAX 4096
#define IDLE_MS 60000
/* Datagrams that are handled before others get their turn. */
#define AT_ONCE 64

struct flow {
	struct port *port;
	struct flow *next;
	struct sockaddr_storage client;
	/* The address that the client has sent to: answers come from there. */
	struct in6_addr local;
	struct th_watch inner;
	int target;
	int64_t last_ms;
	bool answered;
	/* What was sent first, until somebody answers. */
	char *first;
	size_t first_len;
};

struct port {
	struct datagrams *owner;
	struct port *next;
	struct th_watch watch;
	int family, number;
};

struct datagrams {
	struct th_loop *loop;
	struct inner *inside;
	const struct sockaddr_storage *targets;
	int target_count;
	struct port *ports;
	struct flow *flows;
	size_t flow_count;
	int64_t swept_ms;
};

/* Of a program that waits most of the time, and shares its pages with others:
 * where nothing else lies (see the Makefile), what is not used takes none. */
static _Alignas(4096) char data[DATAGRAM_MAX];

static void close_flow(struct flow *flow)
{
	int fd = flow->inner.fd;

	th_loop_forget(flow->port->owner->loop, &flow->inner);
	th_close(&fd);
	free(flow->first);
	free(flow);
}

/* Ends what is idle; with all, the oldest one too. */
static void sweep(struct datagrams *all, bool need_room)
{
	int64_t now = th_clock_mono_ms();
	struct flow **oldest = NULL, **at = &all->flows;

	while (*at) {
		struct flow *flow = *at;

		if (now - flow->last_ms > IDLE_MS) {
			*at = flow->next;
			all->flow_count--;
			close_flow(flow);
			continue;
		}
		if (!oldest || flow->last_ms < (*oldest)->last_ms)
			oldest = at;
		at = &flow->next;
	}
	/* Forged senders must not take all descriptors of the keeper. */
	if (need_room && all->flow_count >= FLOWS_MAX && oldest) {
		struct flow *flow = *oldest;

		*oldest = flow->next;
		all->flow_count--;
		close_flow(flow);
	}
	all->swept_ms = now;
}

static bool same_client(const struct sockaddr_storage *one,
	const struct sockaddr_storage *other)
{
	const struct sockaddr_in *four = (const void *)one;
	const struct sockaddr_in *other4 = (const void *)other;
	const struct sockaddr_in6 *six = (const void *)one;
	const struct sockaddr_in6 *other6 = (const void *)other;

	if (one->ss_family != other->ss_family)
		return false;
	if (one->ss_family == AF_INET)
		return four->sin_port == other4->sin_port &&
			four->sin_addr.s_addr == other4->sin_addr.s_addr;
	return six->sin6_port == other6->sin6_port &&
		six->sin6_scope_id == other6->sin6_scope_id &&
		memcmp(&six->sin6_addr, &other6->sin6_addr,
			sizeof(six->sin6_addr)) == 0;
}

/* Where the datagram was sent to (ip(7), ipv6(7)). */
static void read_local(struct msghdr *message, struct in6_addr *local)
{
	memset(local, 0, sizeof(*local));
	for (struct cmsghdr *head = CMSG_FIRSTHDR(message); head;
		head = CMSG_NXTHDR(message, head)) {
		if (head->cmsg_level == IPPROTO_IP &&
			head->cmsg_type == IP_PKTINFO) {
			struct in_pktinfo info;

			memcpy(&info, CMSG_DATA(head), sizeof(info));
			memcpy(local, &info.ipi_addr, sizeof(info.ipi_addr));
		} else if (head->cmsg_level == IPPROTO_IPV6 &&
			head->cmsg_type == IPV6_PKTINFO) {
			struct in6_pktinfo info;

			memcpy(&info, CMSG_DATA(head), sizeof(info));
			*local = info.ipi6_addr;
		}
	}
}

static void send_back(const struct flow *flow, size_t len)
{
	const struct port *port = flow->port;
	struct iovec part = {data, len};
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(struct in6_pktinfo))];
	} control;
	struct msghdr message = {.msg_name = (void *)(uintptr_t)&flow->client,
		.msg_namelen = port->family == AF_INET
			? sizeof(struct sockaddr_in)
			: sizeof(struct sockaddr_in6),
		.msg_iov = &part,
		.msg_iovlen = 1,
		.msg_control = &control};
	struct cmsghdr *head;

	memset(&control, 0, sizeof(control));
	message.msg_controllen = port->family == AF_INET
		? CMSG_SPACE(sizeof(struct in_pktinfo))
		: CMSG_SPACE(sizeof(struct in6_pktinfo));
	head = CMSG_FIRSTHDR(&message);
	if (port->family == AF_INET) {
		struct in_pktinfo info = {0};

		memcpy(&info.ipi_spec_dst, &flow->local,
			sizeof(info.ipi_spec_dst));
		head->cmsg_level = IPPROTO_IP;
		head->cmsg_type = IP_PKTINFO;
		head->cmsg_len = CMSG_LEN(sizeof(info));
		memcpy(CMSG_DATA(head), &info, sizeof(info));
	} else {
		struct in6_pktinfo info = {.ipi6_addr = flow->local};

		head->cmsg_level = IPPROTO_IPV6;
		head->cmsg_type = IPV6_PKTINFO;
		head->cmsg_len = CMSG_LEN(sizeof(info));
		memcpy(CMSG_DATA(head), &info, sizeof(info));
	}
	/* One that cannot be sent is lost, as datagrams may be. */
	while (sendmsg(port->watch.fd, &message, MSG_NOSIGNAL) < 0 &&
		errno == EINTR)
		;
}

static void inner_ready(struct th_watch *watch, uint32_t events);

/* A socket to the next target; -1 where none is left. */
static int connect_next(struct flow *flow)
{
	struct datagrams *all = flow->port->owner;
	int fd = flow->inner.fd;

	th_loop_forget(all->loop, &flow->inner);
	th_close(&fd);
	while (flow->target < all->target_count) {
		struct sockaddr_storage to = all->targets[flow->target++];
		struct sockaddr_in *four = (void *)&to;
		struct sockaddr_in6 *six = (void *)&to;
		in_port_t number = htons((uint16_t)flow->port->number);

		if (to.ss_family == AF_INET)
			four->sin_port = number;
		else
			six->sin6_port = number;
		fd = inner_socket_to(all->inside, &to, SOCK_DGRAM);
		if (fd < 0)
			continue;
		flow->inner.owner = flow;
		flow->inner.ready = inner_ready;
		if (connect(fd, (struct sockaddr *)(void *)&to,
			    to.ss_family == AF_INET ? sizeof(*four)
						    : sizeof(*six)) == 0 &&
			th_loop_watch(all->loop, &flow->inner, fd, EPOLLIN) ==
				0)
			return 0;
		close(fd);
	}
	return -1;
}

static void inner_ready(struct th_watch *watch, uint32_t events)
{
	struct flow *flow = watch->owner;

	(void)events;
	for (int i = 0; i < AT_ONCE; i++) {
		ssize_t got = recv(watch->fd, data, sizeof(data), 0);

		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0 && errno == ECONNREFUSED && !flow->answered) {
			/* Nobody listens there: perhaps on the next address. */
			if (connect_next(flow) == 0 && flow->first)
				send(flow->inner.fd, flow->first,
					flow->first_len, MSG_NOSIGNAL);
			return;
		}
		if (got < 0)
			return;
		flow->answered = true;
		flow->last_ms = th_clock_mono_ms();
		free(flow->first);
		flow->first = NULL;
		send_back(flow, (size_t)got);
	}
}

/* From the first target on, with what is to be sent. */
static int begin_again(struct flow *flow, size_t len)
{
	free(flow->first);
	flow->first = malloc(len ? len : 1);
	if (flow->first) {
		memcpy(flow->first, data, len);
		flow->first_len = len;
	}
	flow->target = 0;
	return connect_next(flow);
}

static struct flow *find_flow(struct port *port,
	const struct sockaddr_storage *client, const struct in6_addr *local,
	size_t len)
{
	struct datagrams *all = port->owner;
	struct flow *flow;

	for (flow = all->flows; flow; flow = flow->next) {
		if (flow->port == port && same_client(&flow->client, client) &&
			memcmp(&flow->local, local, sizeof(*local)) == 0)
			return flow;
	}
	if (all->flow_count >= FLOWS_MAX)
		sweep(all, true);
	flow = calloc(1, sizeof(*flow));
	if (!flow)
		return NULL;
	flow->port = port;
	flow->client = *client;
	flow->local = *local;
	flow->inner.fd = -1;
	if (begin_again(flow, len)) {
		close_flow(flow);
		return NULL;
	}
	flow->next = all->flows;
	all->flows = flow;
	all->flow_count++;
	return flow;
}

static void port_ready(struct th_watch *watch, uint32_t events)
{
	struct port *port = watch->owner;
	struct datagrams *all = port->owner;
	int64_t now = th_clock_mono_ms();

	(void)events;
	if (now - all->swept_ms > 1000)
		sweep(all, false);
	for (int i = 0; i < AT_ONCE; i++) {
		struct sockaddr_storage client;
		struct iovec part = {data, sizeof(data)};
		char control[256];
		struct msghdr message = {.msg_name = &client,
			.msg_namelen = sizeof(client),
			.msg_iov = &part,
			.msg_iovlen = 1,
			.msg_control = control,
			.msg_controllen = sizeof(control)};
		struct in6_addr local;
		struct flow *flow;
		ssize_t got = recvmsg(watch->fd, &message, 0);

		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0)
			return;
		if (!all->inside)
			continue;
		read_local(&message, &local);
		flow = find_flow(port, &client, &local, (size_t)got);
		if (!flow)
			continue;
		flow->last_ms = now;
		/* Nobody was there at any target: perhaps there is by now. */
		if (flow->inner.fd < 0 && begin_again(flow, (size_t)got))
			continue;
		send(flow->inner.fd, data, (size_t)got, MSG_NOSIGNAL);
	}
}

int datagrams_serve(struct datagrams **datagrams, struct th_loop *loop,
	struct inner *inside, const struct sockaddr_storage *targets,
	int target_count, int port, int fd, struct th_error *err)
{
	struct datagrams *all = *datagrams;
	struct port *made = calloc(1, sizeof(*made));
	struct sockaddr_storage own;
	socklen_t len = sizeof(own);
	int one = 1;

	if (!all)
		all = *datagrams = calloc(1, sizeof(*all));
	if (!all || !made) {
		free(made);
		close(fd);
		return th_fail_memory(err);
	}
	all->loop = loop;
	all->inside = inside;
	all->targets = targets;
	all->target_count = target_count;
	made->owner = all;
	made->number = port;
	made->watch.owner = made;
	made->watch.ready = port_ready;
	if (getsockname(fd, (struct sockaddr *)(void *)&own, &len) == 0)
		made->family = own.ss_family;
	if (made->family == AF_INET)
		setsockopt(fd, IPPROTO_IP, IP_PKTINFO, &one, sizeof(one));
	else
		setsockopt(
			fd, IPPROTO_IPV6, IPV6_RECVPKTINFO, &one, sizeof(one));
	if (th_loop_watch(loop, &made->watch, fd, EPOLLIN)) {
		close(fd);
		free(made);
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot serve port %d/udp", port);
	}
	made->next = all->ports;
	all->ports = made;
	return 0;
}

void datagrams_free(struct datagrams *all)
{
	if (!all)
		return;
	while (all->flows) {
		struct flow *next = all->flows->next;

		close_flow(all->flows);
		all->flows = next;
	}
	while (all->ports) {
		struct port *next = all->ports->next;
		int fd = all->ports->watch.fd;

		th_loop_forget(all->loop, &all->ports->watch);
		th_close(&fd);
		free(all->ports);
		all->ports = next;
	}
	free(all);
}
