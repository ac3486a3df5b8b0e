#include "network/netlink.h"

#include <arpa/inet.h>
#include <errno.h>
#include <linux/netlink.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <unistd.h>

#define ALIGN(len) (((len) + 3) & ~(size_t)3)
#define LATER 8
#define ANSWER_SECONDS 10
#define BATCH_MAX (4u << 20)

void th_netlink_init(struct th_netlink *batch)
{
	memset(batch, 0, sizeof(*batch));
}

void th_netlink_drop(struct th_netlink *batch)
{
	free(batch->data);
	th_netlink_init(batch);
}

static void *reserve(struct th_netlink *batch, size_t len)
{
	void *room;

	while (!batch->overflow && batch->len + ALIGN(len) > batch->size) {
		size_t size = batch->size ? batch->size * 2 : 2048;
		char *bigger =
			size > BATCH_MAX ? NULL : realloc(batch->data, size);

		if (bigger) {
			batch->data = bigger;
			batch->size = size;
		} else {
			batch->overflow = 1;
		}
	}
	if (batch->overflow)
		return NULL;
	room = batch->data + batch->len;
	memset(room, 0, ALIGN(len));
	batch->len += ALIGN(len);
	return room;
}

static void fix_length(struct th_netlink *batch)
{
	struct nlmsghdr *header =
		(struct nlmsghdr *)(void *)(batch->data + batch->message);

	header->nlmsg_len = (uint32_t)(batch->len - batch->message);
}

void th_netlink_begin(struct th_netlink *batch, int type, int flags,
	const void *header, size_t len)
{
	struct nlmsghdr *start;
	char *room = reserve(batch, sizeof(*start) + len);

	if (!room)
		return;
	batch->message = batch->len - ALIGN(sizeof(*start) + len);
	start = (struct nlmsghdr *)(void *)room;
	start->nlmsg_type = (uint16_t)type;
	start->nlmsg_flags = (uint16_t)(flags | NLM_F_REQUEST);
	start->nlmsg_seq = ++batch->count;
	memcpy(start + 1, header, len);
	fix_length(batch);
}

void th_netlink_put_raw(struct th_netlink *batch, const void *data, size_t len)
{
	void *room = reserve(batch, len);

	if (room)
		memcpy(room, data, len);
}

void th_netlink_put(
	struct th_netlink *batch, int type, const void *data, size_t len)
{
	struct nlattr *attr = reserve(batch, sizeof(*attr) + len);

	if (!attr)
		return;
	attr->nla_type = (uint16_t)type;
	attr->nla_len = (uint16_t)(sizeof(*attr) + len);
	memcpy(attr + 1, data, len);
	fix_length(batch);
}

void th_netlink_put_text(struct th_netlink *batch, int type, const char *text)
{
	th_netlink_put(batch, type, text, strlen(text) + 1);
}

void th_netlink_put_u32(struct th_netlink *batch, int type, uint32_t value)
{
	th_netlink_put(batch, type, &value, sizeof(value));
}

void th_netlink_put_be32(struct th_netlink *batch, int type, uint32_t value)
{
	th_netlink_put_u32(batch, type, htonl(value));
}

size_t th_netlink_nest(struct th_netlink *batch, int type)
{
	size_t at = batch->len;

	th_netlink_put(batch, type | NLA_F_NESTED, "", 0);
	return at;
}

void th_netlink_nest_end(struct th_netlink *batch, size_t nest)
{
	struct nlattr *attr = (struct nlattr *)(void *)(batch->data + nest);

	if (!batch->overflow)
		attr->nla_len = (uint16_t)(batch->len - nest);
}

void th_netlink_ask(struct th_netlink *batch)
{
	struct nlmsghdr *header =
		(struct nlmsghdr *)(void *)(batch->data + batch->message);

	if (!batch->overflow)
		header->nlmsg_flags |= NLM_F_ACK;
}

static unsigned int count_acks(const struct th_netlink *batch)
{
	unsigned int acks = 0;

	for (size_t at = 0; at < batch->len;) {
		const struct nlmsghdr *header =
			(const struct nlmsghdr *)(const void *)(batch->data +
				at);

		acks += (header->nlmsg_flags & NLM_F_ACK) != 0;
		at += ALIGN(header->nlmsg_len);
	}
	return acks;
}

/* Reads answers until all acks are in; returns the first error's errno. */
static int await(int fd, unsigned int acks)
{
	_Alignas(8) char answer[8192];
	int first = 0;

	while (acks > 0) {
		ssize_t len = recv(fd, answer, sizeof(answer), 0);
		size_t left = len < 0 ? 0 : (size_t)len;
		struct nlmsghdr *header = (struct nlmsghdr *)(void *)answer;

		if (len < 0 && errno == EINTR)
			continue;
		if (len < 0)
			return first ? first : errno;
		for (; NLMSG_OK(header, left);
			header = NLMSG_NEXT(header, left)) {
			const struct nlmsgerr *error = NLMSG_DATA(header);

			if (header->nlmsg_type != NLMSG_ERROR)
				continue;
			if (error->error && !first)
				first = -error->error;
			if (acks > 0)
				acks--;
		}
		/* nfnetlink answers a failed batch with fewer messages. */
		if (first)
			break;
	}
	return first;
}

/* Closing a socket of the packet filter waits until the kernel has put away
 * what any transaction before has removed: a grace period, some 10 ms, and more
 * where others are at it. So those of the last few transactions stay open: when
 * their turn comes there is nothing left to wait for, and the end of the
 * process keeps nobody waiting. */
static void close_later(int fd)
{
	/* 0: none; a descriptor stands as its number and one. */
	static atomic_int open_ones[LATER];
	static atomic_uint next;
	unsigned int place = atomic_fetch_add(&next, 1) % LATER;
	int before = atomic_exchange(&open_ones[place], fd + 1);

	if (before)
		close(before - 1);
}

/* A socket on which the batch was sent; -1 with errno. */
static int send_over(int protocol, const struct th_netlink *batch)
{
	const struct sockaddr_nl kernel = {.nl_family = AF_NETLINK};
	const struct timeval limit = {.tv_sec = ANSWER_SECONDS};
	int fd = -1, sys = batch->overflow ? EMSGSIZE : 0;

	if (!sys)
		fd = socket(AF_NETLINK, SOCK_RAW | SOCK_CLOEXEC, protocol);
	if (!sys && fd < 0)
		sys = errno;
	if (sys) {
		errno = sys;
		return -1;
	}
	setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &limit, sizeof(limit));
	if (sendto(fd, batch->data, batch->len, 0,
		    (const struct sockaddr *)(const void *)&kernel,
		    sizeof(kernel)) >= 0)
		return fd;
	sys = errno;
	close(fd);
	errno = sys;
	return -1;
}

static void close_socket(int protocol, int fd)
{
	if (protocol == NETLINK_NETFILTER)
		close_later(fd);
	else
		close(fd);
}

int th_netlink_send(int protocol, struct th_netlink *batch)
{
	int fd = send_over(protocol, batch);
	int sys = fd < 0 ? errno : await(fd, count_acks(batch));

	if (fd >= 0)
		close_socket(protocol, fd);
	th_netlink_drop(batch);
	errno = sys;
	return sys ? -1 : 0;
}

/* 1 where more will come, 0 at the end, -1 with errno. */
static int take_answers(char *answer, size_t left,
	void (*take)(void *owner, const void *message, size_t len), void *owner)
{
	struct nlmsghdr *header = (struct nlmsghdr *)(void *)answer;

	for (; NLMSG_OK(header, left); header = NLMSG_NEXT(header, left)) {
		const struct nlmsgerr *error = NLMSG_DATA(header);

		if (header->nlmsg_type == NLMSG_DONE)
			return 0;
		if (header->nlmsg_type == NLMSG_ERROR) {
			errno = -error->error;
			return errno ? -1 : 0;
		}
		take(owner, NLMSG_DATA(header), NLMSG_PAYLOAD(header, 0));
	}
	return 1;
}

int th_netlink_dump(int protocol, struct th_netlink *batch,
	void (*take)(void *owner, const void *message, size_t len), void *owner)
{
	_Alignas(8) char answer[16384];
	int fd = send_over(protocol, batch), rc = fd < 0 ? -1 : 1, sys = errno;

	while (rc == 1) {
		ssize_t len = recv(fd, answer, sizeof(answer), 0);

		if (len < 0 && errno == EINTR)
			continue;
		rc = len < 0 ? -1
			     : take_answers(answer, (size_t)len, take, owner);
		sys = errno;
	}
	if (fd >= 0)
		close_socket(protocol, fd);
	th_netlink_drop(batch);
	errno = sys;
	return rc;
}

/* What the attribute holds, and its length; NULL where it is not there. */
static const void *find(
	const void *attributes, size_t len, int type, size_t *size)
{
	const struct nlattr *at = attributes;

	while (len >= sizeof(*at) && at->nla_len >= sizeof(*at) &&
		at->nla_len <= len) {
		size_t step = ALIGN((size_t)at->nla_len);

		*size = at->nla_len - sizeof(*at);
		if ((at->nla_type & NLA_TYPE_MASK) == type)
			return at + 1;
		if (step >= len)
			break;
		len -= step;
		at = (const void *)((const char *)at + step);
	}
	return NULL;
}

const char *th_netlink_text(const void *attributes, size_t len, int type)
{
	size_t size;
	const char *text = find(attributes, len, type, &size);

	return text && size && text[size - 1] == '\0' ? text : NULL;
}

uint32_t th_netlink_u32(const void *attributes, size_t len, int type)
{
	size_t size;
	const void *data = find(attributes, len, type, &size);
	uint32_t value = 0;

	if (data && size == sizeof(value))
		memcpy(&value, data, sizeof(value));
	return value;
}
