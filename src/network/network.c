#include "network/network.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "network/filter.h"
#include "network/forwarding.h"
#include "network/link.h"

#define PREFIX4 20
#define LAST_SLOT 4094
/* 10.64.0.0 to 10.254.240.0 in steps of a /20. */
#define CANDIDATES (190 * 16)

static int lock_networks(struct th_store *store, struct th_error *err)
{
	int fd = openat(store->run_fd, "network.lock",
		O_RDWR | O_CREAT | O_CLOEXEC, 0600);

	if (fd >= 0 && flock(fd, LOCK_EX) == 0)
		return fd;
	th_fail_sys(err, TH_FAILED, errno, "cannot lock the networks");
	th_close(&fd);
	return -1;
}

static void bridge_name(
	const struct th_store *store, int64_t number, char name[IFNAMSIZ])
{
	snprintf(name, IFNAMSIZ, "th%.6s-%" PRId64, store->tag, number % 10000);
}

static void device_name(const char *container, char name[IFNAMSIZ])
{
	snprintf(name, IFNAMSIZ, "th-%.12s", container);
}

static void table_name(const struct th_store *store, char name[32])
{
	snprintf(name, 32, "tidyhull_%.6s", store->tag);
}

/* True where a route of the host leads into the block. */
static bool routed(uint32_t base, uint32_t mask, const char *routes)
{
	const char *line = strchr(routes, '\n');

	for (; line; line = strchr(line + 1, '\n')) {
		unsigned int to, through, flags, route_mask;
		char device[32];

		if (sscanf(line + 1, "%31s %x %x %x %*d %*d %*d %x", device,
			    &to, &through, &flags, &route_mask) != 5)
			continue;
		to = ntohl(to);
		route_mask = ntohl(route_mask);
		if (route_mask &&
			(to & mask & route_mask) == (base & mask & route_mask))
			return true;
	}
	return false;
}

/* Picks a block that no route of the host touches, beginning at a place that
 * differs between stores. */
static int choose_subnet(
	struct th_store *store, struct th_subnet *subnet, struct th_error *err)
{
	uint32_t mask = ~(uint32_t)0 << (32 - PREFIX4);
	unsigned long seed = strtoul(store->tag, NULL, 16);
	struct th_buf routes;
	int rc = -1;

	memset(subnet, 0, sizeof(*subnet));
	th_buf_init(&routes, 16 << 20);
	if (th_file_read(AT_FDCWD, "/proc/net/route", &routes, err) < 0)
		goto out;
	for (unsigned long i = 0; i < CANDIDATES; i++) {
		unsigned long pick = (seed + i * 7) % CANDIDATES;
		uint32_t base = 10u << 24 | (64 + (uint32_t)pick / 16) << 16 |
			((uint32_t)pick % 16) << 12;

		if (routed(base, mask, routes.data))
			continue;
		subnet->base4.s_addr = htonl(base);
		subnet->prefix4 = PREFIX4;
		rc = 0;
		break;
	}
	if (rc)
		th_fail(err, TH_NOT_POSSIBLE,
			"the host's routes leave no free block of addresses "
			"below 10.0.0.0/8");
	/* A unique local prefix (RFC 4193): fd, the store's tag as part of
	 * the global ID, and a network number. */
	subnet->base6.s6_addr[0] = 0xfd;
	subnet->base6.s6_addr[1] = 0x54;
	subnet->base6.s6_addr[2] = 0x48;
	for (int i = 0; i < 3; i++)
		subnet->base6.s6_addr[3 + i] = (uint8_t)(seed >> (16 - 8 * i));
	subnet->has6 = access("/proc/net/if_inet6", F_OK) == 0;
out:
	th_buf_release(&routes);
	return rc;
}

static void format_subnet(const struct th_subnet *subnet,
	char four[TH_ADDRESS_TEXT], char six[TH_ADDRESS_TEXT])
{
	char text[INET6_ADDRSTRLEN];

	inet_ntop(AF_INET, &subnet->base4, text, sizeof(text));
	snprintf(four, TH_ADDRESS_TEXT, "%.30s/%d", text, subnet->prefix4);
	six[0] = '\0';
	if (!subnet->has6)
		return;
	inet_ntop(AF_INET6, &subnet->base6, text, sizeof(text));
	snprintf(six, TH_ADDRESS_TEXT, "%.40s/64", text);
}

static bool parse_block(const char *text, int family, void *base, int *prefix)
{
	char copy[TH_ADDRESS_TEXT], *slash;

	snprintf(copy, sizeof(copy), "%s", text);
	slash = strchr(copy, '/');
	if (!slash)
		return false;
	*slash = '\0';
	*prefix = atoi(slash + 1);
	return inet_pton(family, copy, base) == 1;
}

/* The network's record, made where there is none: 1 read, 0 made, -1. */
static int find_network(struct th_store *store, const char *network,
	int64_t *number, struct th_subnet *subnet, struct th_error *err)
{
	struct th_query *query = NULL;
	int rc, prefix6;

	memset(subnet, 0, sizeof(*subnet));
	if (th_db_query(store->db, &query, err,
		    "SELECT number, subnet4, subnet6 FROM networks"
		    " WHERE name=?",
		    "t", network))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1) {
		*number = th_query_int(query, 0);
		if (!parse_block(th_query_text(query, 1), AF_INET,
			    &subnet->base4, &subnet->prefix4))
			rc = th_fail(err, TH_FAILED,
				"the state holds no valid addresses for the "
				"network \"%s\"",
				network);
		else
			subnet->has6 = parse_block(th_query_text(query, 2),
				AF_INET6, &subnet->base6, &prefix6);
	}
	th_query_end(query);
	if (rc)
		return rc;
	if (th_db_run(store->db, err,
		    "INSERT INTO networks(name, number, subnet4, subnet6,"
		    " created_us) SELECT ?, coalesce(max(number), -1) + 1,"
		    " '', '', ? FROM networks",
		    "ti", network, th_clock_now_us()) ||
		th_db_number(store->db, 0, number, err,
			"SELECT number FROM networks WHERE name=?", "t",
			network))
		return -1;
	return 0;
}

static int bring_up(struct th_store *store, const char *network, int64_t number,
	struct th_subnet *subnet, struct th_error *err)
{
	char bridge[IFNAMSIZ], table[32];
	char four[TH_ADDRESS_TEXT], six[TH_ADDRESS_TEXT];

	bridge_name(store, number, bridge);
	table_name(store, table);
	if (choose_subnet(store, subnet, err) ||
		th_link_bridge(bridge, subnet, err))
		return -1;
	if (th_filter_open(table, bridge, subnet, err) ||
		th_forwarding_take(store->tag, err)) {
		th_filter_close(table, NULL);
		th_link_remove(bridge, NULL);
		return -1;
	}
	format_subnet(subnet, four, six);
	return th_db_run(store->db, err,
		"UPDATE networks SET subnet4=?, subnet6=? WHERE name=?", "ttt",
		four, six, network);
}

static int take_slot(struct th_store *store, const char *network,
	const char *container, const struct th_subnet *subnet, int64_t *slot,
	struct th_joined *joined, struct th_error *err)
{
	struct in_addr four;
	struct in6_addr six;

	if (th_db_number(store->db, 2, slot, err,
		    "SELECT min(slot) + 1 FROM (SELECT 1 AS slot UNION ALL"
		    " SELECT slot FROM addresses WHERE network=?1) AS taken"
		    " WHERE NOT EXISTS(SELECT 1 FROM addresses"
		    " WHERE network=?1 AND slot=taken.slot + 1)",
		    "t", network))
		return -1;
	if (*slot > LAST_SLOT)
		return th_fail(err, TH_NOT_POSSIBLE,
			"the network \"%s\" has no free address left", network);
	four = th_subnet_address4(subnet, (int)*slot);
	six = th_subnet_address6(subnet, (int)*slot);
	inet_ntop(AF_INET, &four, joined->address4, TH_ADDRESS_TEXT);
	joined->address6[0] = '\0';
	if (subnet->has6)
		inet_ntop(AF_INET6, &six, joined->address6, TH_ADDRESS_TEXT);
	return th_db_run(store->db, err,
		"INSERT INTO addresses(network, slot, container, address4,"
		" address6) VALUES(?, ?, ?, ?, ?)",
		"titt"
		"t",
		network, *slot, container, joined->address4, joined->address6);
}

int th_network_join(struct th_store *store, const char *network,
	const char *container, int netns, struct th_joined *joined,
	struct th_error *err)
{
	char bridge[IFNAMSIZ], device[IFNAMSIZ];
	struct th_subnet subnet = {0};
	int64_t number = 0, slot = 0;
	int lock, rc;

	lock = lock_networks(store, err);
	if (lock < 0)
		return -1;
	rc = th_db_begin(store->db, err);
	if (rc == 0) {
		rc = find_network(store, network, &number, &subnet, err);
		bridge_name(store, number, bridge);
		if (rc >= 0 && (rc == 0 || !if_nametoindex(bridge)))
			rc = bring_up(store, network, number, &subnet, err);
		if (rc >= 0)
			rc = take_slot(store, network, container, &subnet,
				&slot, joined, err);
		rc = th_db_end(store->db, rc, err);
	}
	/* Who holds an address keeps the bridge: the lock can go. */
	th_close(&lock);
	if (rc) {
		th_network_tidy(store, NULL);
		return -1;
	}
	device_name(container, device);
	return th_link_join(device, bridge, netns, &subnet, (int)slot, err);
}

int th_network_tidy(struct th_store *store, struct th_error *err)
{
	struct th_query *query = NULL;
	char table[32];
	int lock, rc, used = 0;

	lock = lock_networks(store, err);
	if (lock < 0)
		return -1;
	rc = th_db_query(store->db, &query, err,
		"SELECT number, EXISTS(SELECT 1 FROM addresses"
		" WHERE network=name) FROM networks",
		"");
	while (rc == 0 && (rc = th_query_next(query, err)) == 1) {
		char bridge[IFNAMSIZ];

		rc = 0;
		bridge_name(store, th_query_int(query, 0), bridge);
		if (th_query_int(query, 1))
			used++;
		else if (if_nametoindex(bridge))
			rc = th_link_remove(bridge, err);
	}
	th_query_end(query);
	if (rc == 0 && !used) {
		table_name(store, table);
		rc = th_filter_close(table, err);
		th_forwarding_give(store->tag);
	}
	th_close(&lock);
	return rc;
}

void th_network_unplugged(const char *container)
{
	const struct timespec step = {.tv_nsec = 2000000};
	char device[IFNAMSIZ];

	device_name(container, device);
	for (int tries = 0; tries < 500; tries++) {
		if (!if_nametoindex(device))
			return;
		nanosleep(&step, NULL);
	}
	th_link_remove(device, NULL);
}

bool th_network_is_shared(const char *name)
{
	return strcmp(name, "host") != 0 && strcmp(name, "none") != 0 &&
		strcmp(name, TH_NETWORK_OWN) != 0;
}
