#include "network/link.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/if_link.h>
#include <linux/rtnetlink.h>
#include <linux/veth.h>
#include <sched.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "network/netlink.h"

#define INNER_NAME "eth0"

struct in_addr th_subnet_address4(const struct th_subnet *subnet, int slot)
{
	struct in_addr address = subnet->base4;

	address.s_addr = htonl(ntohl(address.s_addr) + (uint32_t)slot);
	return address;
}

struct in6_addr th_subnet_address6(const struct th_subnet *subnet, int slot)
{
	struct in6_addr address = subnet->base6;

	address.s6_addr[14] = (uint8_t)(slot >> 8);
	address.s6_addr[15] = (uint8_t)slot;
	return address;
}

static void put_address(struct th_netlink *batch, int index, int slot,
	const struct th_subnet *subnet, bool six)
{
	struct ifaddrmsg header = {.ifa_family = six ? AF_INET6 : AF_INET,
		.ifa_prefixlen = (uint8_t)(six ? 64 : subnet->prefix4),
		.ifa_index = (uint32_t)index};
	struct in_addr four = th_subnet_address4(subnet, slot);
	struct in6_addr sixth = th_subnet_address6(subnet, slot);

	/* No duplicate detection: the store gives each address once, and the
	 * address would be of no use until the detection ends. */
	header.ifa_flags = six ? IFA_F_NODAD : 0;
	th_netlink_begin(batch, RTM_NEWADDR,
		NLM_F_CREATE | NLM_F_REPLACE | NLM_F_ACK, &header,
		sizeof(header));
	if (six) {
		th_netlink_put(batch, IFA_LOCAL, &sixth, sizeof(sixth));
		th_netlink_put(batch, IFA_ADDRESS, &sixth, sizeof(sixth));
	} else {
		th_netlink_put(batch, IFA_LOCAL, &four, sizeof(four));
		th_netlink_put(batch, IFA_ADDRESS, &four, sizeof(four));
	}
}

static void put_default_route(struct th_netlink *batch, int index,
	const struct th_subnet *subnet, bool six)
{
	struct rtmsg header = {.rtm_family = six ? AF_INET6 : AF_INET,
		.rtm_table = RT_TABLE_MAIN,
		.rtm_protocol = RTPROT_STATIC,
		.rtm_scope = RT_SCOPE_UNIVERSE,
		.rtm_type = RTN_UNICAST};
	struct in_addr four = th_subnet_address4(subnet, 1);
	struct in6_addr sixth = th_subnet_address6(subnet, 1);

	th_netlink_begin(batch, RTM_NEWROUTE, NLM_F_CREATE | NLM_F_ACK, &header,
		sizeof(header));
	if (six)
		th_netlink_put(batch, RTA_GATEWAY, &sixth, sizeof(sixth));
	else
		th_netlink_put(batch, RTA_GATEWAY, &four, sizeof(four));
	th_netlink_put_u32(batch, RTA_OIF, (uint32_t)index);
}

int th_link_bridge(
	const char *name, struct th_subnet *subnet, struct th_error *err)
{
	struct ifinfomsg header = {.ifi_flags = IFF_UP, .ifi_change = IFF_UP};
	struct th_netlink batch;
	size_t info;
	int index;

	th_netlink_init(&batch);
	th_netlink_begin(&batch, RTM_NEWLINK,
		NLM_F_CREATE | NLM_F_EXCL | NLM_F_ACK, &header, sizeof(header));
	th_netlink_put_text(&batch, IFLA_IFNAME, name);
	info = th_netlink_nest(&batch, IFLA_LINKINFO);
	th_netlink_put_text(&batch, IFLA_INFO_KIND, "bridge");
	th_netlink_nest_end(&batch, info);
	if (th_netlink_send(NETLINK_ROUTE, &batch) && errno != EEXIST)
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot make the bridge %s", name);
	index = (int)if_nametoindex(name);
	th_netlink_init(&batch);
	put_address(&batch, index, 1, subnet, false);
	if (th_netlink_send(NETLINK_ROUTE, &batch)) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot give the bridge %s its address", name);
		th_link_remove(name, NULL);
		return -1;
	}
	th_netlink_init(&batch);
	put_address(&batch, index, 1, subnet, true);
	if (subnet->has6 && th_netlink_send(NETLINK_ROUTE, &batch))
		subnet->has6 = false;
	return 0;
}

/* The hardware address follows from the address, so that neighbours who
 * remember it are right when a container comes back. */
static int make_pair(const char *outside, int bridge, int netns,
	const struct th_subnet *subnet, int slot)
{
	struct in_addr four = th_subnet_address4(subnet, slot);
	unsigned char hardware[6] = {0x02, 0x54};

	struct ifinfomsg header = {.ifi_flags = IFF_UP, .ifi_change = IFF_UP};
	struct ifinfomsg peer = {0};
	struct th_netlink batch;
	size_t info, data, inner;

	th_netlink_init(&batch);
	th_netlink_begin(&batch, RTM_NEWLINK,
		NLM_F_CREATE | NLM_F_EXCL | NLM_F_ACK, &header, sizeof(header));
	th_netlink_put_text(&batch, IFLA_IFNAME, outside);
	th_netlink_put_u32(&batch, IFLA_MASTER, (uint32_t)bridge);
	info = th_netlink_nest(&batch, IFLA_LINKINFO);
	th_netlink_put_text(&batch, IFLA_INFO_KIND, "veth");
	data = th_netlink_nest(&batch, IFLA_INFO_DATA);
	inner = th_netlink_nest(&batch, VETH_INFO_PEER);
	/* The peer's header stands bare in front of its attributes. */
	if (batch.len + sizeof(peer) <= sizeof(batch.data)) {
		memcpy(batch.data + batch.len, &peer, sizeof(peer));
		batch.len += sizeof(peer);
	}
	th_netlink_put_text(&batch, IFLA_IFNAME, INNER_NAME);
	memcpy(hardware + 2, &four, sizeof(four));
	th_netlink_put(&batch, IFLA_ADDRESS, hardware, sizeof(hardware));
	th_netlink_put_u32(&batch, IFLA_NET_NS_FD, (uint32_t)netns);
	th_netlink_nest_end(&batch, inner);
	th_netlink_nest_end(&batch, data);
	th_netlink_nest_end(&batch, info);
	return th_netlink_send(NETLINK_ROUTE, &batch);
}

static int set_up_inside(const struct th_subnet *subnet, int slot)
{
	int index = (int)if_nametoindex(INNER_NAME);
	struct ifinfomsg up = {
		.ifi_index = index, .ifi_flags = IFF_UP, .ifi_change = IFF_UP};
	struct th_netlink batch;

	th_netlink_init(&batch);
	th_netlink_begin(&batch, RTM_NEWLINK, NLM_F_ACK, &up, sizeof(up));
	put_address(&batch, index, slot, subnet, false);
	put_default_route(&batch, index, subnet, false);
	if (subnet->has6) {
		put_address(&batch, index, slot, subnet, true);
		put_default_route(&batch, index, subnet, true);
	}
	return th_netlink_send(NETLINK_ROUTE, &batch);
}

int th_link_join(const char *outside, const char *bridge, int netns,
	const struct th_subnet *subnet, int slot, struct th_error *err)
{
	int own, rc, sys;

	if (make_pair(
		    outside, (int)if_nametoindex(bridge), netns, subnet, slot))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot make the network device %s", outside);
	own = open("/proc/self/ns/net", O_RDONLY | O_CLOEXEC);
	if (own < 0 || setns(netns, CLONE_NEWNET)) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot enter the container's network");
		th_close(&own);
		th_link_remove(outside, NULL);
		return -1;
	}
	rc = set_up_inside(subnet, slot);
	sys = errno;
	if (setns(own, CLONE_NEWNET)) {
		th_close(&own);
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot return to the host's network");
	}
	th_close(&own);
	if (rc == 0)
		return 0;
	th_fail_sys(err, TH_NOT_POSSIBLE, sys,
		"cannot set up the container's network device");
	th_link_remove(outside, NULL);
	return -1;
}

int th_link_remove(const char *name, struct th_error *err)
{
	struct ifinfomsg header = {0};
	struct th_netlink batch;

	th_netlink_init(&batch);
	th_netlink_begin(
		&batch, RTM_DELLINK, NLM_F_ACK, &header, sizeof(header));
	th_netlink_put_text(&batch, IFLA_IFNAME, name);
	if (th_netlink_send(NETLINK_ROUTE, &batch) && errno != ENODEV)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot remove the network device %s", name);
	return 0;
}
