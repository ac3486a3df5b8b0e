#include "network/subnet.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "network/network.h"

#define PREFIX4 20
/* The smallest that still has room for a few containers. */
#define PREFIX4_MAX 29
#define PREFIX6_MAX 112
/* 10.64.0.0 to 10.254.240.0 in steps of a /20. */
#define CANDIDATES (190 * 16)

static bool parse_block(const char *text, int family, void *base, int *prefix)
{
	char copy[TH_ADDRESS_TEXT], *slash, *end;
	long number;

	snprintf(copy, sizeof(copy), "%s", text);
	slash = strchr(copy, '/');
	if (!slash)
		return false;
	*slash = '\0';
	number = strtol(slash + 1, &end, 10);
	if (slash[1] < '0' || slash[1] > '9' || *end || number < 1 ||
		number > (family == AF_INET ? 32 : 128))
		return false;
	*prefix = (int)number;
	return inet_pton(family, copy, base) == 1;
}

bool subnet_read(const struct th_network_row *row, struct th_subnet *subnet)
{
	memset(subnet, 0, sizeof(*subnet));
	subnet->has6 = parse_block(
		row->subnet6, AF_INET6, &subnet->base6, &subnet->prefix6);
	return parse_block(
		row->subnet4, AF_INET, &subnet->base4, &subnet->prefix4);
}

void subnet_write(const struct th_subnet *subnet, char four[TH_ADDRESS_TEXT],
	char six[TH_ADDRESS_TEXT])
{
	char text[INET6_ADDRSTRLEN];

	four[0] = six[0] = '\0';
	if (subnet->prefix4) {
		inet_ntop(AF_INET, &subnet->base4, text, sizeof(text));
		snprintf(four, TH_ADDRESS_TEXT, "%.30s/%d", text,
			subnet->prefix4);
	}
	if (subnet->has6) {
		inet_ntop(AF_INET6, &subnet->base6, text, sizeof(text));
		snprintf(six, TH_ADDRESS_TEXT, "%.40s/%d", text,
			subnet->prefix6);
	}
}

static bool overlaps(const struct th_subnet *a, const struct th_subnet *b)
{
	uint32_t mask = ntohl(th_subnet_mask4(a).s_addr) &
		ntohl(th_subnet_mask4(b).s_addr);

	return (ntohl(a->base4.s_addr) & mask) ==
		(ntohl(b->base4.s_addr) & mask);
}

/* True where a line of the host's routes leads into the block; routes by the
 * device do not count. */
static bool leads_into(
	const struct th_subnet *subnet, const char *device, const char *routes)
{
	const char *line = strchr(routes, '\n');

	for (; line; line = strchr(line + 1, '\n')) {
		unsigned int to, through, flags, mask;
		struct th_subnet other = {0};
		char by[32];

		if (sscanf(line + 1, "%31s %x %x %x %*d %*d %*d %x", by, &to,
			    &through, &flags, &mask) != 5)
			continue;
		mask = ntohl(mask);
		if (!mask || (device && strcmp(by, device) == 0))
			continue;
		other.base4.s_addr = to;
		other.prefix4 = __builtin_popcount(mask);
		if (overlaps(subnet, &other))
			return true;
	}
	return false;
}

/* Of the main thread's network namespace: the host's, also where this one
 * works in a user's own. */
static int read_routes(struct th_buf *routes, struct th_error *err)
{
	th_buf_init(routes, 16 << 20);
	return th_file_read(AT_FDCWD, "/proc/net/route", routes, err) < 0 ? -1
									  : 0;
}

bool subnet_routed(const struct th_subnet *subnet, const char *device)
{
	struct th_error ignored = {0}; /* then it is not */
	struct th_buf routes;
	bool routed;

	routed = read_routes(&routes, &ignored) == 0 && routes.len &&
		leads_into(subnet, device, routes.data);
	th_buf_release(&routes);
	return routed;
}

static bool is_taken(const struct th_subnet *subnet, const char *name,
	const struct th_network_row *rows, size_t count)
{
	for (size_t i = 0; i < count; i++) {
		struct th_subnet other;

		if (strcmp(rows[i].name, name) != 0 &&
			subnet_read(&rows[i], &other) &&
			overlaps(subnet, &other))
			return true;
	}
	return false;
}

static int choose4(struct th_store *store, const struct th_network_row *row,
	struct th_subnet *subnet, struct th_error *err)
{
	unsigned long seed = strtoul(store->tag, NULL, 16);
	struct th_network_row *rows = NULL;
	struct th_buf routes = {0};
	size_t count = 0;
	int rc = -1;

	if (th_network_list(store, NULL, &rows, &count, err) ||
		read_routes(&routes, err))
		goto out;
	subnet->prefix4 = PREFIX4;
	for (unsigned long i = 0; i < CANDIDATES && rc; i++) {
		unsigned long pick = (seed + i * 7) % CANDIDATES;

		subnet->base4.s_addr =
			htonl(10u << 24 | (64 + (uint32_t)pick / 16) << 16 |
				((uint32_t)pick % 16) << 12);
		if (!is_taken(subnet, row->name, rows, count) &&
			!(routes.len && leads_into(subnet, NULL, routes.data)))
			rc = 0;
	}
	if (rc) {
		th_fail(err, TH_NOT_POSSIBLE,
			"this host's routes leave no free block in 10.0.0.0/8");
		th_hint(err,
			"choose a subnet: tidyhull new network NAME --subnet "
			"192.168.77.0/24");
	}
out:
	th_buf_release(&routes);
	free(rows);
	return rc;
}

/* A unique local prefix (RFC 4193): fd, the store's tag as part of the global
 * ID, and the network's number. */
static void choose6(const struct th_store *store,
	const struct th_network_row *row, struct th_subnet *subnet)
{
	unsigned long seed = strtoul(store->tag, NULL, 16);
	uint8_t *at = subnet->base6.s6_addr;

	memset(&subnet->base6, 0, sizeof(subnet->base6));
	at[0] = 0xfd;
	at[1] = 0x54;
	at[2] = 0x48;
	for (int i = 0; i < 3; i++)
		at[3 + i] = (uint8_t)(seed >> (16 - 8 * i));
	at[6] = (uint8_t)(row->number >> 8);
	at[7] = (uint8_t)row->number;
	subnet->prefix6 = 64;
}

bool subnet_six_works(void)
{
	char off = '1';
	int fd;

	if (access("/proc/net/if_inet6", F_OK))
		return false;
	/* What a new device begins with. */
	fd = open("/proc/sys/net/ipv6/conf/default/disable_ipv6",
		O_RDONLY | O_CLOEXEC);
	if (fd < 0 || read(fd, &off, 1) != 1)
		off = '1';
	th_close(&fd);
	return off == '0';
}

int subnet_choose(struct th_store *store, const struct th_network_row *row,
	struct th_subnet *subnet, struct th_error *err)
{
	if (!row->given4 && choose4(store, row, subnet, err))
		return -1;
	if (!row->given6)
		choose6(store, row, subnet);
	subnet->has6 = subnet_six_works();
	return 0;
}

int subnet_slot4(const struct th_subnet *subnet, struct in_addr address)
{
	uint32_t mask = th_subnet_mask4(subnet).s_addr;
	uint32_t slot = ntohl(address.s_addr & ~mask);

	if ((address.s_addr & mask) != subnet->base4.s_addr ||
		slot > (uint32_t)th_subnet_last(subnet))
		return -1;
	return (int)slot;
}

/* ---- what a person says ---- */

static int refuse_bits(
	const char *text, const struct th_subnet *subnet, struct th_error *err)
{
	char four[TH_ADDRESS_TEXT], six[TH_ADDRESS_TEXT];

	subnet_write(subnet, four, six);
	th_fail(err, TH_USAGE, "%s is a single address, not a subnet", text);
	return th_hint(err, "try %s", four[0] ? four : six);
}

int th_network_parse_subnet(
	const char *text, struct th_subnet *subnet, struct th_error *err)
{
	const uint8_t *bytes;
	struct in6_addr mask6;
	struct th_subnet one = {0};
	bool clean = true;

	if (parse_block(text, AF_INET, &one.base4, &one.prefix4)) {
		uint32_t mask = th_subnet_mask4(&one).s_addr;
		bool cut = (one.base4.s_addr & ~mask) != 0;

		one.base4.s_addr &= mask;
		if (cut)
			return refuse_bits(text, &one, err);
		if (one.prefix4 > PREFIX4_MAX || one.prefix4 < 8) {
			th_fail(err, TH_USAGE,
				"%s is not usable: IPv4 subnets have a prefix "
				"of 8 to %d bits",
				text, PREFIX4_MAX);
			return th_hint(err, "for example 10.20.0.0/24");
		}
		subnet->base4 = one.base4;
		subnet->prefix4 = one.prefix4;
		return 0;
	}
	if (!parse_block(text, AF_INET6, &one.base6, &one.prefix6)) {
		th_fail(err, TH_USAGE, "\"%.60s\" is not a subnet", text);
		return th_hint(err, "for example 10.20.0.0/24, or fd20::/64");
	}
	mask6 = th_subnet_mask6(&one);
	bytes = mask6.s6_addr;
	for (int i = 0; i < 16; i++) {
		clean = clean && !(one.base6.s6_addr[i] & ~bytes[i]);
		one.base6.s6_addr[i] &= bytes[i];
	}
	one.has6 = true;
	if (!clean)
		return refuse_bits(text, &one, err);
	if (one.prefix6 > PREFIX6_MAX || one.prefix6 < 8) {
		th_fail(err, TH_USAGE,
			"%s is not usable: IPv6 subnets have a prefix of 8 to "
			"%d bits",
			text, PREFIX6_MAX);
		return th_hint(err, "for example fd20::/64");
	}
	subnet->base6 = one.base6;
	subnet->prefix6 = one.prefix6;
	subnet->has6 = true;
	return 0;
}

static bool overlap6(const struct th_subnet *a, const struct th_subnet *b)
{
	struct in6_addr mask_a = th_subnet_mask6(a),
			mask_b = th_subnet_mask6(b);

	for (int i = 0; i < 16; i++) {
		uint8_t mask = mask_a.s6_addr[i] & mask_b.s6_addr[i];

		if ((a->base6.s6_addr[i] & mask) !=
			(b->base6.s6_addr[i] & mask))
			return false;
	}
	return true;
}

int th_network_check_subnet(struct th_store *store, const char *name,
	const struct th_subnet *subnet, struct th_error *err)
{
	struct th_network_row *rows = NULL;
	size_t count = 0;
	int rc = 0;

	if (subnet->prefix4 && subnet_routed(subnet, NULL)) {
		th_fail(err, TH_IN_USE,
			"this host already has a route into the subnet");
		return th_hint(err,
			"leave out --subnet to get a free one, or choose one "
			"that `ip route` does not show");
	}
	if (th_network_list(store, NULL, &rows, &count, err))
		return -1;
	for (size_t i = 0; rc == 0 && i < count; i++) {
		struct th_subnet other;
		bool four = subnet_read(&rows[i], &other) && subnet->prefix4 &&
			overlaps(subnet, &other);
		bool six =
			other.has6 && subnet->has6 && overlap6(subnet, &other);

		if (strcmp(rows[i].name, name) == 0 || (!four && !six))
			continue;
		th_fail(err, TH_IN_USE,
			"the subnet overlaps with that of the network \"%s\" "
			"(%s)",
			rows[i].name, four ? rows[i].subnet4 : rows[i].subnet6);
		rc = th_hint(err, "leave out --subnet to get a free one");
	}
	free(rows);
	return rc;
}

int th_network_check_address(const struct th_network_row *network,
	const char *address, struct th_error *err)
{
	struct th_subnet subnet;
	struct in6_addr six;
	struct in_addr four;
	int slot;

	subnet_read(network, &subnet);
	if (inet_pton(AF_INET, address, &four) == 1) {
		if (!subnet.prefix4) {
			th_fail(err, TH_USAGE,
				"the network \"%s\" has no subnet until it is "
				"first used",
				network->name);
			return th_hint(err,
				"choose one: tidyhull new network NAME "
				"--subnet 10.20.0.0/24");
		}
		slot = subnet_slot4(&subnet, four);
		if (slot < 2) {
			th_fail(err, TH_USAGE,
				slot < 0 ? "%s is not in the subnet %s of the "
					   "network \"%s\""
					 : "%s in the subnet %s of the network "
					   "\"%s\" is reserved",
				address, network->subnet4, network->name);
			return th_hint(err,
				slot < 0 ? "choose an address in that subnet"
					 : "the first addresses of a subnet "
					   "belong to the network itself");
		}
		return 0;
	}
	inet_pton(AF_INET6, address, &six);
	if (!subnet.has6) {
		th_fail(err, TH_USAGE, "the network \"%s\" has no IPv6 subnet",
			network->name);
		return th_hint(err,
			"create one that has: tidyhull new network NAME "
			"--subnet fd20::/64");
	}
	for (int i = 0; i < 16; i++) {
		if ((six.s6_addr[i] & th_subnet_mask6(&subnet).s6_addr[i]) !=
			subnet.base6.s6_addr[i])
			return th_fail(err, TH_USAGE,
				"%s is not in the subnet %s of the network "
				"\"%s\"",
				address, network->subnet6, network->name);
	}
	for (slot = 0; slot < 2; slot++) {
		struct in6_addr taken = th_subnet_address6(&subnet, slot);

		if (memcmp(&taken, &six, sizeof(six)) == 0)
			return th_fail(
				err, TH_USAGE, "%s is reserved", address);
	}
	return 0;
}
