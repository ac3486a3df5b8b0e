#include "ipc/channel.h"

#include <errno.h>
#include <stddef.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include "base/file.h"

#define HEADER offsetof(struct th_message, data)
#define BACKLOG 64

int th_channel_send(int fd, enum th_message_type type, const void *data,
	size_t len, const int *fds, int fd_count)
{
	struct {
		uint16_t version, type;
		uint32_t len;
	} header = {TH_CHANNEL_VERSION, (uint16_t)type, (uint32_t)len};
	struct iovec parts[2] = {
		{&header, sizeof(header)}, {(void *)(uintptr_t)data, len}};
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(int) * TH_CHANNEL_FDS)];
	} control;
	struct msghdr message = {.msg_iov = parts, .msg_iovlen = len ? 2 : 1};

	if (len > TH_CHANNEL_PAYLOAD || fd_count > TH_CHANNEL_FDS) {
		errno = EMSGSIZE;
		return -1;
	}
	if (fd_count > 0) {
		struct cmsghdr *head;
		size_t size = sizeof(int) * (size_t)fd_count;

		memset(&control, 0, sizeof(control));
		message.msg_control = &control;
		message.msg_controllen = CMSG_SPACE(size);
		head = CMSG_FIRSTHDR(&message);
		head->cmsg_level = SOL_SOCKET;
		head->cmsg_type = SCM_RIGHTS;
		head->cmsg_len = CMSG_LEN(size);
		memcpy(CMSG_DATA(head), fds, size);
	}
	while (sendmsg(fd, &message, MSG_NOSIGNAL) < 0) {
		if (errno != EINTR)
			return -1;
	}
	return 0;
}

bool th_channel_is_frozen(unsigned int type)
{
	return type == TH_SAY_SIGNAL || type == TH_SAY_STOP ||
		type == TH_SAY_WAIT || type == TH_SAY_STATE ||
		type == TH_TELL_DONE || type == TH_TELL_FAILED ||
		type == TH_TELL_ENDED || type == TH_TELL_STATE;
}

static void take_fds(struct msghdr *from, int fds[TH_CHANNEL_FDS])
{
	struct cmsghdr *head = CMSG_FIRSTHDR(from);
	size_t len;

	for (int i = 0; i < TH_CHANNEL_FDS; i++)
		fds[i] = -1;
	if (!head || head->cmsg_level != SOL_SOCKET ||
		head->cmsg_type != SCM_RIGHTS)
		return;
	len = head->cmsg_len - CMSG_LEN(0);
	if (len > sizeof(int) * TH_CHANNEL_FDS)
		len = sizeof(int) * TH_CHANNEL_FDS;
	memcpy(fds, CMSG_DATA(head), len);
}

int th_channel_receive(int fd, struct th_message *message,
	int fds[TH_CHANNEL_FDS], struct th_error *err)
{
	struct iovec part = {message, HEADER + TH_CHANNEL_PAYLOAD};
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(int) * TH_CHANNEL_FDS)];
	} control;
	struct msghdr from = {.msg_iov = &part,
		.msg_iovlen = 1,
		.msg_control = &control,
		.msg_controllen = sizeof(control)};
	ssize_t got;

	for (int i = 0; i < TH_CHANNEL_FDS; i++)
		fds[i] = -1;
	/* A peer that left without reading all resets the connection, which
	 * is told once, in front of what it had sent before. */
	do
		got = recvmsg(fd, &from, MSG_CMSG_CLOEXEC);
	while (got < 0 && (errno == EINTR || errno == ECONNRESET));
	if (got == 0)
		return 0;
	if (got < 0) {
		int sys = errno;

		if (sys != EAGAIN)
			th_fail_sys(err, TH_FAILED, sys,
				"the channel to the keeper failed");
		errno = sys;
		return -1;
	}
	/* Before the version is looked at: descriptors that have come are open
	 * in any case. */
	take_fds(&from, fds);
	errno = EPROTO;
	if ((size_t)got < HEADER || message->len != (size_t)got - HEADER ||
		(message->version != TH_CHANNEL_VERSION &&
			!th_channel_is_frozen(message->type))) {
		for (int i = 0; i < TH_CHANNEL_FDS; i++)
			th_close(&fds[i]);
		th_fail(err, TH_FAILED,
			"this container's keeper is from another version of "
			"tidyhull");
		return th_hint(err,
			"stop and kill reach it all the same; then start it "
			"again");
	}
	message->data[message->len] = '\0';
	return 1;
}

/* Paths of local sockets are short; the folder's descriptor is shorter. */
static void address(int run_fd, const char *id, struct sockaddr_un *to)
{
	memset(to, 0, sizeof(*to));
	to->sun_family = AF_UNIX;
	snprintf(to->sun_path, sizeof(to->sun_path),
		"/proc/self/fd/%d/%.32s.sock", run_fd, id);
}

int th_channel_listen(int run_fd, const char *id, struct th_error *err)
{
	struct sockaddr_un at;
	int fd;

	address(run_fd, id, &at);
	/* Whoever holds the container's lock may replace what a killed keeper
	 * has left. */
	unlink(at.sun_path);
	fd = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
	if (fd >= 0 &&
		bind(fd, (struct sockaddr *)(void *)&at, sizeof(at)) == 0 &&
		chmod(at.sun_path, 0600) == 0 && listen(fd, BACKLOG) == 0)
		return fd;
	th_fail_sys(err, TH_FAILED, errno, "cannot make the keeper's socket");
	th_close(&fd);
	return -1;
}

int th_channel_connect(
	int run_fd, const char *id, int *fd, struct th_error *err)
{
	struct sockaddr_un to;
	int made;

	address(run_fd, id, &to);
	made = socket(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0);
	if (made >= 0 &&
		connect(made, (struct sockaddr *)(void *)&to, sizeof(to)) ==
			0) {
		if (th_peer_is_own(made)) {
			*fd = made;
			return 1;
		}
		th_close(&made);
		return th_fail(err, TH_NOT_POSSIBLE,
			"the keeper's socket belongs to another user");
	}
	if (made >= 0 && (errno == ENOENT || errno == ECONNREFUSED)) {
		th_close(&made);
		return 0;
	}
	th_fail_sys(err, TH_FAILED, errno, "cannot reach the keeper");
	th_close(&made);
	return -1;
}
