#include "network/inner.h"

#include <errno.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <pthread.h>
#include <sched.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <unistd.h>

#include "base/file.h"
#include "base/threads.h"
#include "sandbox/idmap.h"
#include "sandbox/rights.h"

#define STACK_BYTES (64 * 1024)
#define PATIENCE_S 2

/* Root goes into the container's network for the moment of the call. An
 * unprivileged user could not come back to the host's: there a thread goes in
 * and stays, and descriptors belong to all threads. */
struct inner {
	int netns, own_netns;
	bool threaded;
	int channel; /* to who is asked; or -1 */
	uint32_t asked;
	int ask, serve; /* both ends of a socket pair */
	pthread_t thread;
};

struct answer {
	int fd, sys;
};

struct question {
	int family, type;
	uint32_t number; /* of those that go through a channel */
};

static int make_socket(struct question question)
{
	return socket(question.family,
		question.type | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
}

static void *serve(void *arg)
{
	struct inner *inner = arg;
	bool inside = setns(inner->netns, CLONE_NEWNET) == 0;
	struct question question;
	int sys = errno;

	th_rights_drop();
	while (recv(inner->serve, &question, sizeof(question), 0) ==
		sizeof(question)) {
		struct answer answer = {.fd = -1, .sys = sys};

		if (inside) {
			answer.fd = make_socket(question);
			answer.sys = errno;
		}
		if (send(inner->serve, &answer, sizeof(answer), MSG_NOSIGNAL) !=
			sizeof(answer))
			break;
	}
	return NULL;
}

static int start_thread(struct inner *inner)
{
	int pair[2], rc;

	if (socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair))
		return -1;
	inner->ask = pair[0];
	inner->serve = pair[1];
	rc = th_thread_start(&inner->thread, STACK_BYTES, serve, inner);
	errno = rc;
	inner->threaded = rc == 0;
	return rc ? -1 : 0;
}

struct inner *inner_new(int netns)
{
	struct inner *inner = calloc(1, sizeof(*inner));

	if (!inner)
		return NULL;
	inner->netns = netns;
	inner->ask = inner->serve = inner->own_netns = inner->channel = -1;
	if (netns < 0)
		return inner;
	inner->own_netns = open("/proc/self/ns/net", O_RDONLY | O_CLOEXEC);
	if (inner->own_netns < 0 ||
		(th_idmap_is_own() && start_thread(inner))) {
		inner_free(inner);
		return NULL;
	}
	return inner;
}

struct inner *inner_new_asking(int channel)
{
	const struct timeval patience = {.tv_sec = PATIENCE_S};
	struct inner *inner = inner_new(-1);

	if (!inner)
		return NULL;
	inner->channel = channel;
	/* Who is stopped must not stop the connections of others. */
	if (setsockopt(channel, SOL_SOCKET, SO_RCVTIMEO, &patience,
		    sizeof(patience))) {
		inner_free(inner);
		return NULL;
	}
	return inner;
}

/* A socket that was sent, with the number of its question. */
static int receive(int channel, uint32_t *number)
{
	_Alignas(struct cmsghdr) char room[CMSG_SPACE(sizeof(int))];
	struct iovec vec = {number, sizeof(*number)};
	struct msghdr message = {.msg_iov = &vec,
		.msg_iovlen = 1,
		.msg_control = room,
		.msg_controllen = sizeof(room)};
	struct cmsghdr *part;
	int fd = -1;

	if (recvmsg(channel, &message, MSG_CMSG_CLOEXEC) != sizeof(*number))
		return -2;
	part = CMSG_FIRSTHDR(&message);
	if (part && part->cmsg_level == SOL_SOCKET &&
		part->cmsg_type == SCM_RIGHTS)
		memcpy(&fd, CMSG_DATA(part), sizeof(fd));
	return fd;
}

static int ask(struct inner *inner, struct question question)
{
	uint32_t number = 0;
	int fd;

	question.number = ++inner->asked;
	if (send(inner->channel, &question, sizeof(question), MSG_NOSIGNAL) !=
		sizeof(question))
		return -1;
	/* The answer to one that took too long may come before. */
	while ((fd = receive(inner->channel, &number)) != -2 &&
		number != question.number)
		th_close(&fd);
	if (fd < 0)
		errno = EHOSTUNREACH;
	return fd < 0 ? -1 : fd;
}

int inner_answer(struct inner *inner, int channel)
{
	_Alignas(struct cmsghdr) char room[CMSG_SPACE(sizeof(int))] = {0};
	struct question question;
	struct iovec vec = {&question.number, sizeof(question.number)};
	struct msghdr message = {.msg_iov = &vec, .msg_iovlen = 1};
	int fd;

	if (recv(channel, &question, sizeof(question), MSG_DONTWAIT) !=
		sizeof(question))
		return -1;
	/* No others than those that a relay needs. */
	fd = (question.family == AF_INET || question.family == AF_INET6) &&
			(question.type == SOCK_STREAM ||
				question.type == SOCK_DGRAM)
		? inner_socket(inner, question.family, question.type)
		: -1;
	if (fd >= 0) {
		struct cmsghdr *part;

		message.msg_control = room;
		message.msg_controllen = sizeof(room);
		part = CMSG_FIRSTHDR(&message);
		part->cmsg_level = SOL_SOCKET;
		part->cmsg_type = SCM_RIGHTS;
		part->cmsg_len = CMSG_LEN(sizeof(fd));
		memcpy(CMSG_DATA(part), &fd, sizeof(fd));
	}
	sendmsg(channel, &message, MSG_NOSIGNAL | MSG_DONTWAIT);
	th_close(&fd);
	return 0;
}

int inner_socket(struct inner *inner, int family, int type)
{
	const struct question question = {family, type, 0};
	struct answer answer = {.fd = -1, .sys = EPIPE};
	int fd, sys;

	if (inner->channel >= 0)
		return ask(inner, question);
	if (inner->netns < 0)
		return make_socket(question);
	if (inner->threaded) {
		if (send(inner->ask, &question, sizeof(question),
			    MSG_NOSIGNAL) != sizeof(question) ||
			recv(inner->ask, &answer, sizeof(answer), 0) !=
				sizeof(answer))
			answer.fd = -1;
		errno = answer.sys;
		return answer.fd;
	}
	th_rights_raise();
	if (setns(inner->netns, CLONE_NEWNET)) {
		sys = errno;
		th_rights_rest();
		errno = sys;
		return -1;
	}
	fd = make_socket(question);
	sys = errno;
	/* Staying inside would be a disaster for every later step. */
	if (setns(inner->own_netns, CLONE_NEWNET))
		abort();
	th_rights_rest();
	errno = sys;
	return fd;
}

static bool is_loopback(const struct sockaddr_storage *address)
{
	const struct sockaddr_in *four = (const void *)address;
	const struct sockaddr_in6 *six = (const void *)address;

	return address->ss_family == AF_INET
		? ntohl(four->sin_addr.s_addr) >> 24 == IN_LOOPBACKNET
		: IN6_IS_ADDR_LOOPBACK(&six->sin6_addr);
}

int inner_socket_to(
	struct inner *inner, const struct sockaddr_storage *to, int type)
{
	return inner->channel >= 0 && !is_loopback(to)
		? make_socket((struct question){to->ss_family, type, 0})
		: inner_socket(inner, to->ss_family, type);
}

void inner_free(struct inner *inner)
{
	if (!inner)
		return;
	th_close(&inner->ask);
	if (inner->threaded)
		pthread_join(inner->thread, NULL);
	th_close(&inner->serve);
	th_close(&inner->own_netns);
	free(inner);
}
