#include "sandbox/words.h"

#include <errno.h>
#include <stdint.h>
#include <string.h>
#include <sys/socket.h>

bool word_send(int socket, const void *data, size_t len, int fd)
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
	return sendmsg(socket, &message, MSG_NOSIGNAL) == (ssize_t)len;
}

void word_tell(int channel, const struct word *word, int fd)
{
	word_send(channel, word, sizeof(*word), fd);
}

void word_fail(int channel, const struct th_error *error)
{
	struct word word = {.kind = WORD_FAILED, .error = *error};

	if (error->code)
		word_tell(channel, &word, -1);
}

bool word_hear(int channel, struct word *word, int *fd)
{
	struct iovec part = {.iov_base = word, .iov_len = sizeof(*word)};
	union {
		struct cmsghdr align;
		char bytes[CMSG_SPACE(sizeof(int))];
	} control;
	struct msghdr message = {.msg_iov = &part,
		.msg_iovlen = 1,
		.msg_control = &control,
		.msg_controllen = sizeof(control)};
	struct cmsghdr *header;
	ssize_t len;

	*fd = -1;
	do
		len = recvmsg(channel, &message, MSG_CMSG_CLOEXEC);
	while (len < 0 && errno == EINTR);
	if (len != (ssize_t)sizeof(*word))
		return false;
	header = CMSG_FIRSTHDR(&message);
	if (header && header->cmsg_type == SCM_RIGHTS)
		memcpy(fd, CMSG_DATA(header), sizeof(int));
	return true;
}

bool word_go(int channel, pid_t pid)
{
	return send(channel, &pid, sizeof(pid), MSG_NOSIGNAL) == sizeof(pid);
}

bool word_await(int channel, pid_t *pid)
{
	ssize_t len;

	do
		len = recv(channel, pid, sizeof(*pid), 0);
	while (len < 0 && errno == EINTR);
	return len == sizeof(*pid);
}
