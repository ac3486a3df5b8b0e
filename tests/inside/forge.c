/* Frames from somebody else: "forge send DEVICE" sends all kinds to all
 * neighbours, "forge hear DEVICE" prints the letters of those that came in some
 * rounds; the last kind is an honest one. Both need CAP_NET_RAW. */
#include <arpa/inet.h>
#include <net/if.h>
#include <net/if_arp.h>
#include <netinet/icmp6.h>
#include <netinet/in.h>
#include <netpacket/packet.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <unistd.h>

#define MARK "Port Selwick "
#define KINDS "abcdefghijkxyz"
#define ROUNDS 5
#define ETHER_IP 0x0800
#define ETHER_ARP 0x0806
#define ETHER_VLAN 0x8100
#define ETHER_IP6 0x86dd
#define ETHER_TRIAL 0x88b5

static unsigned char hardware[6], four[4], other4[4];
static unsigned char six[16], other6[16] = {0xfe, 0x80, [15] = 0x77};
static const unsigned char other[6] = {2, 0x77, 0x77, 0x77, 0x77, 0x77};

/* A header, the mark and a letter. */
#define UDP_BYTES (8 + sizeof(MARK))
static const unsigned char udp[] = {0, 9, 0, 9, 0, UDP_BYTES, 0, 0};

static unsigned char frame[256];
static size_t len;

static void put(const void *data, size_t size)
{
	memcpy(frame + len, data, size);
	len += size;
}

static void put16(unsigned int value)
{
	const unsigned char bytes[] = {
		(unsigned char)(value >> 8), (unsigned char)value};

	put(bytes, 2);
}

static void ether(const unsigned char *from, unsigned int type)
{
	static const unsigned char all[6] = {255, 255, 255, 255, 255, 255};

	len = 0;
	put(all, 6);
	put(from, 6);
	put16(type);
}

/* A bridge that filters looks at lengths and sums, too. */
static void ip(const unsigned char *from)
{
	static const unsigned char all[4] = {255, 255, 255, 255};
	unsigned char head[20] = {0x45, 0, 0, sizeof(head) + UDP_BYTES, 0, 0, 0,
		0, 64, IPPROTO_UDP};
	unsigned int sum = 0;

	memcpy(head + 12, from, 4);
	memcpy(head + 16, all, 4);
	for (size_t i = 0; i < sizeof(head); i += 2)
		sum += (unsigned int)head[i] << 8 | head[i + 1];
	sum = ~(sum + (sum >> 16));
	head[10] = (unsigned char)(sum >> 8);
	head[11] = (unsigned char)sum;
	put(head, sizeof(head));
	put(udp, sizeof(udp));
}

static void ip6(const unsigned char *from, unsigned char next, size_t size)
{
	static const unsigned char all[16] = {0xff, 2, [15] = 1};
	const unsigned char head[] = {
		0x60, 0, 0, 0, 0, (unsigned char)size, next, 255};

	put(head, sizeof(head));
	put(from, 16);
	put(all, 16);
}

static void arp(const unsigned char *who, const unsigned char *where)
{
	const unsigned char head[] = {0, 1, 8, 0, 6, 4, 0, 2};

	put(head, sizeof(head));
	put(who, 6);
	put(where, 4);
	put(who, 6);
	put(where, 4);
}

/* A message about neighbours: its first 24 bytes are enough. */
static void neighbour(unsigned char type, const unsigned char *target)
{
	const unsigned char head[] = {type, 0, 0, 0, 0xe0, 0, 0, 0};

	ip6(six, IPPROTO_ICMPV6, 24 + sizeof(MARK));
	put(head, sizeof(head));
	put(target, 16);
}

static void make(char kind)
{
	switch (kind) {
	case 'a':
		ether(hardware, ETHER_IP), ip(other4);
		break;
	case 'b':
		ether(other, ETHER_IP), ip(four);
		break;
	case 'c':
		ether(hardware, ETHER_ARP), arp(hardware, other4);
		break;
	case 'd':
		ether(hardware, ETHER_ARP), arp(other, four);
		break;
	case 'e':
		ether(other, ETHER_ARP), arp(hardware, four);
		break;
	case 'f':
		ether(hardware, ETHER_IP6);
		ip6(other6, IPPROTO_UDP, UDP_BYTES);
		put(udp, sizeof(udp));
		break;
	case 'g':
		ether(hardware, ETHER_IP6);
		neighbour(ND_NEIGHBOR_ADVERT, other6);
		break;
	case 'h':
		ether(hardware, ETHER_IP6);
		neighbour(ND_ROUTER_ADVERT, six);
		break;
	case 'i':
		ether(hardware, ETHER_IP6);
		neighbour(ND_REDIRECT, six);
		break;
	case 'j':
		ether(hardware, ETHER_TRIAL);
		break;
	case 'k':
		ether(hardware, ETHER_VLAN);
		put16(7);
		put16(ETHER_IP);
		ip(other4);
		break;
	case 'x':
		ether(hardware, ETHER_ARP), arp(hardware, four);
		break;
	case 'y':
		ether(hardware, ETHER_IP6);
		neighbour(ND_NEIGHBOR_ADVERT, six);
		break;
	default:
		ether(hardware, ETHER_IP), ip(four);
		break;
	}
	put(MARK, strlen(MARK));
	put(&kind, 1);
}

static void learn(const char *device, int fd)
{
	struct ifreq request = {0};
	FILE *file = fopen("/proc/net/if_inet6", "r");
	char line[128], name[32];
	unsigned int scope;

	snprintf(request.ifr_name, sizeof(request.ifr_name), "%s", device);
	if (ioctl(fd, SIOCGIFHWADDR, &request) == 0)
		memcpy(hardware, request.ifr_hwaddr.sa_data, 6);
	if (ioctl(fd, SIOCGIFADDR, &request) == 0)
		memcpy(four, request.ifr_addr.sa_data + 2, 4);
	memcpy(other4, four, 4);
	other4[3] ^= 0x40;
	/* The address of the link alone: ADDRESS INDEX PREFIX SCOPE ... */
	while (file && fgets(line, sizeof(line), file)) {
		if (sscanf(line, "%*32x %*x %*x %x %*x %31s", &scope, name) !=
				2 ||
			scope != 0x20 || strcmp(name, device) != 0)
			continue;
		for (int i = 0; i < 16; i++) {
			unsigned int byte = 0;

			sscanf(line + (size_t)i * 2, "%2x", &byte);
			six[i] = (unsigned char)byte;
		}
	}
	if (file)
		fclose(file);
}

/* Again and again: a port may forward only a moment after its device is up. */
static void send_all(int fd, const struct sockaddr_ll *to)
{
	for (;;) {
		for (const char *kind = KINDS; *kind; kind++) {
			make(*kind);
			sendto(fd, frame, len, 0, (const struct sockaddr *)to,
				sizeof(*to));
		}
		usleep(20000);
	}
}

static void hear(int fd)
{
	unsigned char data[2048];
	bool heard[256] = {false};
	int rounds = 0;

	printf("ready\n");
	fflush(stdout);
	while (rounds < ROUNDS) {
		ssize_t got = recv(fd, data, sizeof(data), 0);
		unsigned char *at = got > 0
			? memmem(data, (size_t)got, MARK, strlen(MARK))
			: NULL;

		if (!at)
			continue;
		heard[at[strlen(MARK)]] = true;
		rounds += at[strlen(MARK)] == 'z';
	}
	for (const char *kind = KINDS; *kind; kind++) {
		if (heard[(unsigned char)*kind])
			printf("%c", *kind);
	}
	printf("\n");
}

int main(int argc, char **argv)
{
	struct sockaddr_ll where = {
		.sll_family = AF_PACKET, .sll_protocol = htons(3)};
	int fd = socket(AF_PACKET, SOCK_RAW, htons(3));

	if (argc < 3 || fd < 0)
		return 2;
	where.sll_ifindex = (int)if_nametoindex(argv[2]);
	if (bind(fd, (struct sockaddr *)&where, sizeof(where)))
		return 3;
	learn(argv[2], fd);
	if (strcmp(argv[1], "send") == 0)
		send_all(fd, &where);
	hear(fd);
	return 0;
}
