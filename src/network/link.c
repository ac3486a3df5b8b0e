#include "network/link.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/if_link.h>
#include <linux/rtnetlink.h>
#include <linux/veth.h>
#include <net/if.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "network/guard.h"
#include "network/netlink.h"
#include "network/within.h"

/* How often a device of a killed run is taken away before its name is free. */
#define PAIR_TRIES 50
#define PAIR_STEP_US 2000

/* More places than anybody needs; the last six bits of an IPv6 block's 16. */
#define SLOTS_MAX 65000

struct in_addr th_subnet_mask4(const struct th_subnet *subnet)
{
	struct in_addr mask = {htonl(~(uint32_t)0 << (32 - subnet->prefix4))};

	return mask;
}

struct in6_addr th_subnet_mask6(const struct th_subnet *subnet)
{
	struct in6_addr mask = {{{0}}};

	for (int i = 0; i < subnet->prefix6; i++)
		mask.s6_addr[i / 8] |= (uint8_t)(0x80 >> i % 8);
	return mask;
}

int th_subnet_last(const struct th_subnet *subnet)
{
	int64_t last = ((int64_t)1 << (32 - subnet->prefix4)) - 2;

	return last > SLOTS_MAX ? SLOTS_MAX : (int)last;
}

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

/* The address alone, or with the prefix of the subnet; of one of the two
 * families: six is NULL, or four. */
static void put_address(struct th_netlink *batch, int index,
	const struct th_subnet *subnet, const struct in_addr *four,
	const struct in6_addr *six)
{
	const void *address = six ? (const void *)six : (const void *)four;
	size_t len = six ? sizeof(*six) : sizeof(*four);
	struct ifaddrmsg header = {.ifa_family = six ? AF_INET6 : AF_INET,
		.ifa_prefixlen =
			(uint8_t)(six ? subnet->prefix6 : subnet->prefix4),
		.ifa_index = (uint32_t)index};

	/* No duplicate detection: the store gives each address once, and the
	 * address would be of no use until the detection ends. */
	header.ifa_flags = six ? IFA_F_NODAD : 0;
	th_netlink_begin(batch, RTM_NEWADDR,
		NLM_F_CREATE | NLM_F_REPLACE | NLM_F_ACK, &header,
		sizeof(header));
	th_netlink_put(batch, IFA_LOCAL, address, len);
	th_netlink_put(batch, IFA_ADDRESS, address, len);
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

/* What is sent on the bridge must not change the routes of the host. */
static void ignore_routers(const char *name)
{
	static const char *const settings[] = {"accept_ra", "accept_redirects"};
	char path[96];
	int fd;

	for (size_t i = 0; i < 2; i++) {
		snprintf(path, sizeof(path), "/proc/sys/net/ipv6/conf/%.16s/%s",
			name, settings[i]);
		fd = open(path, O_WRONLY | O_CLOEXEC);
		/* Without IPv6 there is neither. */
		if (fd >= 0 && write(fd, "0", 1) < 0)
			th_close(&fd);
		th_close(&fd);
	}
}

bool th_link_is_up(const char *name)
{
	struct ifreq request = {0};
	int fd = socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
	bool up;

	snprintf(request.ifr_name, sizeof(request.ifr_name), "%s", name);
	up = fd >= 0 && ioctl(fd, SIOCGIFFLAGS, &request) == 0 &&
		request.ifr_flags & IFF_UP;
	th_close(&fd);
	return up;
}

int th_link_bridge(
	const char *name, const struct th_subnet *subnet, struct th_error *err)
{
	struct ifinfomsg header = {0};
	const struct in_addr four = th_subnet_address4(subnet, 1);
	const struct in6_addr six = th_subnet_address6(subnet, 1);
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
			"cannot create the bridge %s", name);
	ignore_routers(name);
	index = (int)if_nametoindex(name);
	th_netlink_init(&batch);
	put_address(&batch, index, subnet, &four, NULL);
	if (subnet->has6)
		put_address(&batch, index, subnet, NULL, &six);
	/* Up at last: one that is up is whole, whoever was killed here. */
	header.ifi_index = index;
	header.ifi_flags = header.ifi_change = IFF_UP;
	th_netlink_begin(
		&batch, RTM_NEWLINK, NLM_F_ACK, &header, sizeof(header));
	if (th_netlink_send(NETLINK_ROUTE, &batch)) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set up the bridge %s", name);
		th_link_remove(name, NULL);
		return -1;
	}
	return 0;
}

int th_link_pair(const char *first, const char *second, unsigned int bridge,
	int netns, uint32_t mtu, const unsigned char hardware[6])
{
	struct ifinfomsg header = {0}, peer = {0};
	struct th_netlink batch;
	size_t info, data, inner;

	/* Up at once where it has a bridge: the other end comes later. */
	if (bridge)
		header.ifi_flags = header.ifi_change = IFF_UP;
	th_netlink_init(&batch);
	th_netlink_begin(&batch, RTM_NEWLINK,
		NLM_F_CREATE | NLM_F_EXCL | NLM_F_ACK, &header, sizeof(header));
	th_netlink_put_text(&batch, IFLA_IFNAME, first);
	if (bridge)
		th_netlink_put_u32(&batch, IFLA_MASTER, bridge);
	if (mtu)
		th_netlink_put_u32(&batch, IFLA_MTU, mtu);
	info = th_netlink_nest(&batch, IFLA_LINKINFO);
	th_netlink_put_text(&batch, IFLA_INFO_KIND, "veth");
	data = th_netlink_nest(&batch, IFLA_INFO_DATA);
	inner = th_netlink_nest(&batch, VETH_INFO_PEER);
	/* The peer's header stands bare in front of its attributes. */
	th_netlink_put_raw(&batch, &peer, sizeof(peer));
	th_netlink_put_text(&batch, IFLA_IFNAME, second);
	if (mtu)
		th_netlink_put_u32(&batch, IFLA_MTU, mtu);
	if (hardware)
		th_netlink_put(&batch, IFLA_ADDRESS, hardware, 6);
	if (netns >= 0)
		th_netlink_put_u32(&batch, IFLA_NET_NS_FD, (uint32_t)netns);
	th_netlink_nest_end(&batch, inner);
	th_netlink_nest_end(&batch, data);
	th_netlink_nest_end(&batch, info);
	return th_netlink_send(NETLINK_ROUTE, &batch);
}

int th_link_up(const char *name, uint32_t mtu)
{
	struct ifinfomsg up = {.ifi_index = (int)if_nametoindex(name),
		.ifi_flags = IFF_UP,
		.ifi_change = IFF_UP};
	struct th_netlink batch;

	th_netlink_init(&batch);
	th_netlink_begin(&batch, RTM_NEWLINK, NLM_F_ACK, &up, sizeof(up));
	if (mtu)
		th_netlink_put_u32(&batch, IFLA_MTU, mtu);
	return th_netlink_send(NETLINK_ROUTE, &batch);
}

static int set_up_inside(
	const struct th_plug *plug, const struct th_subnet *subnet)
{
	int index = (int)if_nametoindex(plug->inside);
	struct ifinfomsg up = {
		.ifi_index = index, .ifi_flags = IFF_UP, .ifi_change = IFF_UP};
	struct th_netlink batch;

	th_netlink_init(&batch);
	th_netlink_begin(&batch, RTM_NEWLINK, NLM_F_ACK, &up, sizeof(up));
	put_address(&batch, index, subnet, &plug->four, NULL);
	if (plug->gateway4)
		put_default_route(&batch, index, subnet, false);
	if (subnet->has6)
		put_address(&batch, index, subnet, NULL, &plug->six);
	if (subnet->has6 && plug->gateway6)
		put_default_route(&batch, index, subnet, true);
	return th_netlink_send(NETLINK_ROUTE, &batch);
}

/* A thread of its own goes in: where the caller could not come back, it need
 * not, and for root it costs no more than the two ways. */
struct visit {
	const struct th_plug *plug;
	const struct th_subnet *subnet;
};

static int visit(void *arg, struct th_error *err)
{
	const struct visit *visit = arg;

	if (set_up_inside(visit->plug, visit->subnet))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set up the container's network device");
	return 0;
}

/* The hardware address follows from network and address, so that neighbours who
 * remember it are right when a container comes back. A hash (FNV-1a) spreads
 * it: the same address on two networks has two. */
static void hardware_address(
	const struct th_plug *plug, unsigned char hardware[6])
{
	uint64_t hash = 14695981039346656037u;
	const unsigned char *four = (const unsigned char *)&plug->four;

	for (const char *at = plug->bridge; *at; at++)
		hash = (hash ^ (unsigned char)*at) * 1099511628211u;
	for (size_t i = 0; i < sizeof(plug->four); i++)
		hash = (hash ^ four[i]) * 1099511628211u;
	/* The low bits of FNV-1a mix worst. */
	for (size_t i = 0; i < 6; i++)
		hardware[i] = (unsigned char)(hash >> (56 - 8 * i));
	/* Locally administered, and one station (IEEE 802). */
	hardware[0] = (unsigned char)((hardware[0] & ~1) | 2);
}

struct sought {
	const char *name;
	uint32_t master; /* 0: none */
};

static void take_link(void *owner, const void *message, size_t len)
{
	const size_t header = NLMSG_ALIGN(sizeof(struct ifinfomsg));
	const char *attributes = (const char *)message + header;
	struct sought *sought = owner;
	const char *name;

	if (len < header)
		return;
	name = th_netlink_text(attributes, len - header, IFLA_IFNAME);
	if (name && strcmp(name, sought->name) == 0)
		sought->master =
			th_netlink_u32(attributes, len - header, IFLA_MASTER);
}

bool th_link_is_on(const char *name, const char *bridge)
{
	struct sought sought = {.name = name};
	struct ifinfomsg header = {0};
	struct th_netlink batch;
	char master[IFNAMSIZ] = "";

	th_netlink_init(&batch);
	th_netlink_begin(
		&batch, RTM_GETLINK, NLM_F_DUMP, &header, sizeof(header));
	th_netlink_dump(NETLINK_ROUTE, &batch, take_link, &sought);
	return !sought.master || !if_indextoname(sought.master, master) ||
		strncmp(master, bridge, strlen(bridge)) == 0;
}

static int make_pair(const struct th_plug *plug, const unsigned char *hardware)
{
	char own[IFNAMSIZ]; /* what all bridges of the store begin with */

	snprintf(own, sizeof(own), "%.*s", (int)strcspn(plug->bridge, "-") + 1,
		plug->bridge);
	for (int tries = 0;; tries++) {
		if (th_link_pair(plug->outside, plug->inside,
			    if_nametoindex(plug->bridge), plug->netns,
			    plug->mtu, hardware) == 0)
			return 0;
		if (errno != EEXIST || tries == PAIR_TRIES)
			return -1;
		/* The container's own, of a run whose keeper was killed: nobody
		 * else has this name but one of the same ID in a copy of the
		 * store; and its namespace may be on its way. */
		if (!th_link_is_on(plug->outside, own)) {
			errno = EEXIST;
			return -1;
		}
		if (plug->guards)
			th_guard_remove(plug->guards, plug->outside);
		th_link_remove(plug->outside, NULL);
		if (tries)
			usleep(PAIR_STEP_US);
	}
}

int th_link_join(const struct th_plug *plug, const struct th_subnet *subnet,
	struct th_error *err)
{
	struct visit arg = {plug, subnet};
	struct th_guard guard = {.device = plug->outside,
		.four = plug->four,
		.six = plug->six,
		.has6 = subnet->has6};

	hardware_address(plug, guard.hardware);
	if (make_pair(plug, guard.hardware)) {
		bool taken = errno == EEXIST;

		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot create the network device %s", plug->outside);
		return taken ? th_hint(err,
				       "a container with this ID runs in a "
				       "copy of the store; recreate makes one "
				       "with an ID of its own")
			     : -1;
	}
	/* Before the other end is up. */
	if ((!plug->guards || th_guard_write(plug->guards, &guard, err) >= 0) &&
		th_within(plug->netns, visit, &arg, err) == 0)
		return 0;
	th_link_remove(plug->outside, NULL);
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
