#include "sandbox/message.h"

#include <errno.h>
#include <poll.h>
#include <stdint.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

bool setup_send(int socket, const void *data, size_t len, int fd)
{
	struct iovec part = {
		.iov_base = (void *)(uintptr_t)data, .iov_len = len};
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(int))];
	} control;
	struct msghdr message = {.msg_iov = &part, .msg_iovlen = 1};

	if (fd >= 0) {
		struct cmsghdr *header;

		memset(&control, 0, sizeof(control));
		message.msg_control = &control;
		message.msg_controllen = sizeof(control);
		header = CMSG_FIRSTHDR(&message);
		header->cmsg_level = SOL_SOCKET;
		header->cmsg_type = SCM_RIGHTS;
		header->cmsg_len = CMSG_LEN(sizeof(int));
		memcpy(CMSG_DATA(header), &fd, sizeof(int));
	}
	for (;;) {
		ssize_t sent = sendmsg(socket, &message, MSG_NOSIGNAL);

		if (sent >= 0 || errno != EINTR)
			return sent == (ssize_t)len;
	}
}

void setup_tell(int channel, const struct setup_message *message, int fd)
{
	/* The other side waits for it, or for the end of this process. */
	if (!setup_send(channel, message, sizeof(*message), fd))
		_exit(1);
}

void setup_fail(int channel, const struct th_error *error)
{
	struct setup_message message = {.kind = SETUP_FAILED, .error = *error};

	if (error->code)
		setup_tell(channel, &message, -1);
}

bool setup_comes(int channel, int timeout_ms)
{
	struct pollfd one = {.fd = channel, .events = POLLIN};
	int rc;

	do
		rc = poll(&one, 1, timeout_ms);
	while (rc < 0 && errno == EINTR);
	return rc > 0;
}

bool setup_hear(int channel, struct setup_message *message, int *fd)
{
	struct iovec part = {.iov_base = message, .iov_len = sizeof(*message)};
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(int))];
	} control;
	struct msghdr header = {.msg_iov = &part,
		.msg_iovlen = 1,
		.msg_control = &control,
		.msg_controllen = sizeof(control)};
	struct cmsghdr *first;
	ssize_t len;

	*fd = -1;
	do
		len = recvmsg(channel, &header, MSG_CMSG_CLOEXEC);
	while (len < 0 && errno == EINTR);
	if (len != (ssize_t)sizeof(*message))
		return false;
	first = CMSG_FIRSTHDR(&header);
	if (first && first->cmsg_type == SCM_RIGHTS)
		memcpy(fd, CMSG_DATA(first), sizeof(int));
	return true;
}

bool setup_go(int channel, pid_t pid)
{
	return send(channel, &pid, sizeof(pid), MSG_NOSIGNAL) == sizeof(pid);
}

bool setup_await(int channel, pid_t *pid)
{
	ssize_t len;

	do
		len = recv(channel, pid, sizeof(*pid), 0);
	while (len < 0 && errno == EINTR);
	return len == sizeof(*pid);
}
