#include <net/ethernet.h> /* before linux/if_ether.h, which gives way to it */

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/ethtool.h>
#include <linux/if_link.h>
#include <linux/if_packet.h>
#include <linux/if_tun.h>
#include <linux/rtnetlink.h>
#include <linux/sockios.h>
#include <net/if.h>
#include <pthread.h>
#include <sched.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "network/link.h"
#include "network/netlink.h"
#include "network/pilot.h"
#include "pilot/pilot.h"

/* The device inside, and its other end where it is a pair. */
#define DEVICE "out0"
#define OTHER_END "out1"
#define QUEUE_BYTES (8 << 20)

static int write_setting(const char *path, const char *text)
{
	int fd = open(path, O_WRONLY | O_CLOEXEC);
	ssize_t len = (ssize_t)strlen(text);
	int rc = fd >= 0 && write(fd, text, (size_t)len) == len ? 0 : -1;

	th_close(&fd);
	return rc;
}

/* ---- the two kinds of device ---- */

static int open_tap(void)
{
	struct ifreq request = {.ifr_flags = IFF_TAP | IFF_NO_PI};
	int fd = open("/dev/net/tun", O_RDWR | O_NONBLOCK | O_CLOEXEC);

	memcpy(request.ifr_name, DEVICE, sizeof(DEVICE));
	if (fd >= 0 && ioctl(fd, TUNSETIFF, &request))
		th_close(&fd);
	return fd;
}

/* The kernel leaves sums and cutting into packets to devices where it can; the
 * stack in user mode wants both done. */
static void do_without(int socket_fd, uint32_t command)
{
	struct ethtool_value value = {.cmd = command, .data = 0};
	struct ifreq request = {.ifr_data = (void *)&value};

	memcpy(request.ifr_name, DEVICE, sizeof(DEVICE));
	if (ioctl(socket_fd, SIOCETHTOOL, &request)) {
		/* Then the device does not have it. */
	}
}

/* Where the tap device is not for users: a pair of devices, of which we are the
 * other end. */
static int open_packets(void)
{
	struct sockaddr_ll address = {
		.sll_family = AF_PACKET, .sll_protocol = htons(ETH_P_ALL)};
	int bytes = QUEUE_BYTES, fd, one = 1;

	if (th_link_pair(DEVICE, OTHER_END, 0, -1, TH_UPLINK_MTU, NULL) ||
		th_link_up(OTHER_END, 0))
		return -1;
	fd = socket(AF_PACKET, SOCK_RAW | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
	if (fd < 0)
		return -1;
	do_without(fd, ETHTOOL_STXCSUM);
	do_without(fd, ETHTOOL_SGSO);
	do_without(fd, ETHTOOL_STSO);
	do_without(fd, ETHTOOL_SGRO);
	setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &bytes, sizeof(bytes));
	setsockopt(fd, SOL_SOCKET, SO_SNDBUF, &bytes, sizeof(bytes));
	/* What we send ourselves is not for us. */
	setsockopt(fd, SOL_PACKET, PACKET_IGNORE_OUTGOING, &one, sizeof(one));
	address.sll_ifindex = (int)if_nametoindex(OTHER_END);
	if (bind(fd, (const struct sockaddr *)(const void *)&address,
		    sizeof(address)))
		th_close(&fd);
	return fd;
}

/* ---- its addresses and routes ---- */

static void put_address(
	struct th_netlink *batch, int index, int family, const char *text)
{
	unsigned char raw[16];
	size_t len = family == AF_INET ? 4 : 16;
	struct ifaddrmsg header = {.ifa_family = (uint8_t)family,
		.ifa_prefixlen = family == AF_INET ? 24 : 64,
		.ifa_flags = family == AF_INET ? 0 : IFA_F_NODAD,
		.ifa_index = (uint32_t)index};

	inet_pton(family, text, raw);
	th_netlink_begin(batch, RTM_NEWADDR,
		NLM_F_CREATE | NLM_F_REPLACE | NLM_F_ACK, &header,
		sizeof(header));
	th_netlink_put(batch, IFA_LOCAL, raw, len);
	th_netlink_put(batch, IFA_ADDRESS, raw, len);
}

static void put_way_out(
	struct th_netlink *batch, int index, int family, const char *text)
{
	unsigned char raw[16];
	struct rtmsg header = {.rtm_family = (uint8_t)family,
		.rtm_table = RT_TABLE_MAIN,
		.rtm_protocol = RTPROT_STATIC,
		.rtm_scope = RT_SCOPE_UNIVERSE,
		.rtm_type = RTN_UNICAST};

	inet_pton(family, text, raw);
	th_netlink_begin(batch, RTM_NEWROUTE, NLM_F_CREATE | NLM_F_ACK, &header,
		sizeof(header));
	th_netlink_put(batch, RTA_GATEWAY, raw, family == AF_INET ? 4 : 16);
	th_netlink_put_u32(batch, RTA_OIF, (uint32_t)index);
}

static int configure(bool six, struct th_error *err)
{
	int index = (int)if_nametoindex(DEVICE);
	struct th_netlink batch;

	th_netlink_init(&batch);
	put_address(&batch, index, AF_INET, TH_UPLINK_OWN);
	put_way_out(&batch, index, AF_INET, TH_UPLINK_HOST);
	if (six) {
		put_address(&batch, index, AF_INET6, TH_UPLINK_OWN6);
		put_way_out(&batch, index, AF_INET6, TH_UPLINK_HOST6);
	}
	if (th_link_up(DEVICE, TH_UPLINK_MTU) ||
		th_netlink_send(NETLINK_ROUTE, &batch))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set up the uplink device");
	return 0;
}

/* ---- the namespace ---- */

struct making {
	struct inside *inside;
	bool six;
	int rc;
	struct th_error *err;
};

static void make_way_out(struct making *making)
{
	struct inside *inside = making->inside;

	inside->device = open_tap();
	if (inside->device < 0) {
		inside->device = open_packets();
		inside->packets = inside->device >= 0;
	}
	if (inside->device < 0)
		th_fail_sys(making->err, TH_NOT_POSSIBLE, errno,
			"neither /dev/net/tun nor a packet socket is "
			"available");
	else if (configure(making->six, making->err))
		th_close(&inside->device);
}

/* In a thread of its own: this program itself stays on the host's network,
 * where the stack has its sockets. */
static void *make(void *arg)
{
	struct making *making = arg;

	if (unshare(CLONE_NEWNET)) {
		making->rc = th_fail_sys(making->err, TH_NOT_POSSIBLE, errno,
			"users cannot create network namespaces here");
		return NULL;
	}
	making->inside->netns =
		open("/proc/thread-self/ns/net", O_RDONLY | O_CLOEXEC);
	if (making->inside->netns < 0 || th_link_up("lo", 0) ||
		write_setting("/proc/sys/net/ipv4/ip_forward", "1")) {
		making->rc = th_fail_sys(making->err, TH_NOT_POSSIBLE, errno,
			"cannot set up a network namespace here");
		return NULL;
	}
	/* A kernel without IPv6 has none of it. */
	write_setting("/proc/sys/net/ipv6/conf/all/forwarding", "1");
	make_way_out(making);
	making->rc = 0;
	return NULL;
}

int inside_make(struct inside *inside, bool six, struct th_error *err)
{
	struct making making = {.inside = inside, .six = six, .err = err};
	pthread_t thread;
	int rc;

	inside->netns = inside->device = -1;
	inside->packets = false;
	rc = pthread_create(&thread, NULL, make, &making);
	if (rc)
		return th_fail_sys(err, TH_FAILED, rc, "cannot start a thread");
	pthread_join(thread, NULL);
	return making.rc;
}
