#include "network/netlink.h"

#include <errno.h>
#include <linux/netlink.h>
#include <linux/rtnetlink.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>

#include "unit/unit.h"

/* Attributes as the kernel sends them: the length in the host's order, the
 * type, the text with its NUL, to a multiple of four. */
static size_t add(char *to, size_t at, int type, const char *text, size_t len)
{
	struct nlattr attribute = {
		.nla_len = (uint16_t)(sizeof(attribute) + len),
		.nla_type = (uint16_t)type};

	memcpy(to + at, &attribute, sizeof(attribute));
	memcpy(to + at + sizeof(attribute), text, len);
	return at + (sizeof(attribute) + len + 3) / 4 * 4;
}

static void texts_are_found_by_their_type(void)
{
	_Alignas(8) char list[64] = {0};
	size_t len = 0;

	len = add(list, len, 1, "tidyhull_1", 11);
	len = add(list, len, 3 | NLA_F_NET_BYTEORDER, "th-buoy", 8);
	CHECK_TEXT(th_netlink_text(list, len, 1), "tidyhull_1");
	CHECK_TEXT(th_netlink_text(list, len, 3), "th-buoy");
	CHECK(th_netlink_text(list, len, 2) == NULL);
	CHECK(th_netlink_text(list, 0, 1) == NULL);
}

static void what_is_no_text_is_none(void)
{
	_Alignas(8) char list[64] = {0};
	uint16_t wrong;
	size_t len;

	len = add(list, 0, 1, "no end", 6);
	CHECK(th_netlink_text(list, len, 1) == NULL);
	len = add(list, 0, 1, "", 0);
	CHECK(th_netlink_text(list, len, 1) == NULL);
	/* Longer than all there is, and shorter than itself. */
	len = add(list, 0, 1, "buoy", 5);
	for (wrong = 0; wrong < 64; wrong++) {
		memcpy(list, &wrong, sizeof(wrong));
		if (wrong != 9)
			CHECK(th_netlink_text(list, len, 1) == NULL ||
				wrong <= len);
		CHECK(th_netlink_text(list, len, 2) == NULL);
	}
	/* Cut anywhere, at the end of memory of its own. */
	for (size_t cut = 0; cut < 12; cut++) {
		char *own = malloc(cut + 1);

		if (!own)
			continue;
		add(list, 0, 1, "buoy", 5);
		memcpy(own, list, cut);
		th_netlink_text(own, cut, 1);
		th_netlink_text(own, cut, 2);
		free(own);
	}
}

static void take_link(void *owner, const void *message, size_t len)
{
	const struct ifinfomsg *link = message;
	const size_t header = NLMSG_ALIGN(sizeof(*link));
	const char *name = len < header
		? NULL
		: th_netlink_text((const char *)message + header, len - header,
			  IFLA_IFNAME);

	if (name && strcmp(name, "lo") == 0)
		*(int *)owner = link->ifi_index;
}

/* Each network namespace has it. */
static void lists_of_the_kernel_are_read(void)
{
	const struct ifinfomsg all = {.ifi_family = AF_UNSPEC};
	struct th_netlink batch;
	int loopback = 0;

	th_netlink_init(&batch);
	th_netlink_begin(&batch, RTM_GETLINK, NLM_F_DUMP, &all, sizeof(all));
	CHECK_INT(th_netlink_dump(NETLINK_ROUTE, &batch, take_link, &loopback),
		0);
	CHECK(loopback > 0);
	/* No such list. */
	th_netlink_init(&batch);
	th_netlink_begin(&batch, 0x7ff0, NLM_F_DUMP, &all, sizeof(all));
	CHECK_INT(th_netlink_dump(NETLINK_ROUTE, &batch, take_link, &loopback),
		-1);
	CHECK(errno != 0);
}

static const CU_TestInfo tests[] = {
	{"texts are found by their type", texts_are_found_by_their_type},
	{"what is no text is none", what_is_no_text_is_none},
	{"lists of the kernel are read", lists_of_the_kernel_are_read},
	CU_TEST_INFO_NULL};

const struct suite suite_netlink = {"netlink", tests};
