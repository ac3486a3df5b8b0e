#include "network/inner.h"

#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <sched.h>
#include <stdbool.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "base/threads.h"
#include "sandbox/idmap.h"
#include "sandbox/rights.h"

#define STACK_BYTES (64 * 1024)

/* Root goes into the container's network for the moment of the call. An
 * unprivileged user could not come back to the host's: there a thread goes in
 * and stays, and descriptors belong to all threads. */
struct inner {
	int netns, own_netns;
	bool threaded;
	int ask, serve; /* both ends of a socket pair */
	pthread_t thread;
};

struct answer {
	int fd, sys;
};

struct question {
	int family, type;
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
	inner->ask = inner->serve = inner->own_netns = -1;
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

int inner_socket(struct inner *inner, int family, int type)
{
	const struct question question = {family, type};
	struct answer answer = {.fd = -1, .sys = EPIPE};
	int fd, sys;

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
