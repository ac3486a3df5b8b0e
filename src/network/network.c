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

#include "base/file.h"
#include "network/addresses.h"
#include "network/packet_filter.h"
#include "network/forwarding.h"
#include "network/guard.h"
#include "network/pilot.h"
#include "network/subnet.h"

#define LINGER_FILE "linger.lock"

static int lock_networks(struct th_store *store, struct th_error *err)
{
	return th_lock_file(
		store->run_fd, "network.lock", store->patience_ms, err);
}

static void bridge_name(
	const struct th_store *store, int64_t number, char name[IFNAMSIZ])
{
	snprintf(name, IFNAMSIZ, "th%.6s-%" PRId64, store->tag, number % 10000);
}

/* The first one's name is short of nothing; the others have their number. */
static void device_name(
	const char *container, size_t number, char name[IFNAMSIZ])
{
	if (number)
		snprintf(name, IFNAMSIZ, "t%u-%.12s", (unsigned int)number % 10,
			container);
	else
		snprintf(name, IFNAMSIZ, "th-%.12s", container);
}

/* What the names of all bridges begin with. */
static void bridge_prefix(const struct th_store *store, char prefix[IFNAMSIZ])
{
	snprintf(prefix, IFNAMSIZ, "th%.6s-", store->tag);
}

static void table_name(const struct th_store *store, char name[32])
{
	snprintf(name, 32, "tidyhull_%.6s", store->tag);
}

/* ---- coming up ---- */

static int read_row(struct th_store *store, const char *name,
	struct th_network_row *row, struct th_error *err)
{
	struct th_network_row *rows = NULL;
	size_t count = 0;

	if (th_network_list(store, name, &rows, &count, err))
		return -1;
	if (count)
		*row = rows[0];
	free(rows);
	if (!count)
		return th_fail(err, TH_NOT_FOUND,
			"the network \"%s\" no longer exists", name);
	return 0;
}

/* The subnet stays what it was, unless the host has got a route to it since
 * then and nobody has asked for it. */
static int settle_subnet(struct th_store *store,
	const struct th_network_row *row, const char *bridge,
	struct th_subnet *subnet, struct th_error *err)
{
	bool known = subnet_read(row, subnet);
	bool routed = known && subnet_routed(subnet, bridge);

	if (routed && row->given4) {
		th_fail(err, TH_IN_USE,
			"cannot start the network \"%s\": this host has a "
			"route into its subnet %s",
			row->name, row->subnet4);
		return th_hint(err,
			"`ip route` shows it; create a network with another "
			"subnet");
	}
	if (!known || routed || (!subnet->has6 && !row->given6))
		return subnet_choose(store, row, subnet, err);
	subnet->has6 = subnet->has6 && subnet_six_works();
	return 0;
}

static int choose_subnet(struct th_store *store,
	const struct th_network_row *row, const char *bridge,
	struct th_subnet *subnet, struct th_error *err)
{
	char four[TH_ADDRESS_TEXT], six[TH_ADDRESS_TEXT];

	if (settle_subnet(store, row, bridge, subnet, err))
		return -1;
	subnet_write(subnet, four, six);
	return th_network_set_subnets(
		store, row->name, four, row->given6 ? row->subnet6 : six, err);
}

/* The rules of all networks that are up, the one with this name included. */
static int write_filter(
	struct th_store *store, const char *also, struct th_error *err)
{
	struct th_filter_network *list;
	struct th_network_row *rows = NULL;
	size_t count = 0, up = 0;
	char table[32];
	int rc;

	if (th_network_list(store, NULL, &rows, &count, err))
		return -1;
	list = calloc(count + 1, sizeof(*list));
	for (size_t i = 0; list && i < count; i++) {
		if ((!rows[i].running &&
			    (!also || strcmp(rows[i].name, also) != 0)) ||
			!subnet_read(&rows[i], &list[up].subnet))
			continue;
		bridge_name(store, rows[i].number, list[up].bridge);
		list[up].internal = rows[i].internal;
		list[up++].no_loopback =
			store->unprivileged && !rows[i].loopback;
	}
	table_name(store, table);
	rc = list ? th_filter_write(table, list, up, err) : th_fail_memory(err);
	free(list);
	free(rows);
	return rc;
}

/* One network of a container. */
struct berth {
	struct th_network_row row;
	struct th_subnet subnet;
	struct th_plug plug;
	char bridge[IFNAMSIZ], outside[IFNAMSIZ], inside[IFNAMSIZ];
};

/* With the networks locked, in a transaction: what the state has to know. */
static int take_berth(struct th_store *store, const char *container,
	const struct th_network_use *use, struct berth *berth,
	struct th_error *err)
{
	bool known;

	if (read_row(store, use->network, &berth->row, err))
		return -1;
	bridge_name(store, berth->row.number, berth->bridge);
	known = subnet_read(&berth->row, &berth->subnet);
	/* Of a network that was removed: a keeper that was killed has left its
	 * bridge. */
	if (!known && th_link_is_up(berth->bridge) &&
		th_link_remove(berth->bridge, err))
		return -1;
	if (!th_link_is_up(berth->bridge) &&
		choose_subnet(
			store, &berth->row, berth->bridge, &berth->subnet, err))
		return -1;
	return addresses_take(store, &berth->row, use, container,
		&berth->subnet, &berth->plug, err);
}

static int forget_addresses(
	struct th_store *store, const char *container, struct th_error *err)
{
	return th_db_run(store->db, err,
		"DELETE FROM addresses WHERE container=?", "t", container);
}

/* Addresses and ports come into the state before anything comes into being on
 * the host: whatever is there has an owner that the state knows, also when its
 * keeper is killed right afterwards. */
static int take_berths(struct th_store *store, const char *container,
	const struct th_port_row *ports, size_t port_count,
	struct berth *berths, size_t *count, struct th_error *err)
{
	struct th_network_use uses[TH_NETWORKS_MAX];
	int rc;

	if (th_db_begin(store->db, err))
		return -1;
	/* Those of a start that came to nothing. */
	rc = forget_addresses(store, container, err);
	if (rc == 0)
		rc = th_network_uses(store, container, uses, count, err);
	for (size_t i = 0; rc == 0 && i < *count; i++)
		rc = take_berth(store, container, &uses[i], &berths[i], err);
	if (rc == 0)
		rc = th_state_hold_ports(
			store->db, container, ports, port_count, err);
	return th_db_end(store->db, rc, err);
}

/* With the networks locked. The bridge is the last: where there is one, all the
 * rest is there, whoever was killed meanwhile. */
static int bring_up(
	struct th_store *store, const struct berth *berth, struct th_error *err)
{
	if (th_link_is_up(berth->bridge))
		return 0;
	if (write_filter(store, berth->row.name, err) ||
		(!store->unprivileged && th_forwarding_take(store->tag, err)))
		return -1;
	return th_link_bridge(berth->bridge, &berth->subnet, err);
}

/* The first one with a way out has the default routes. */
static void choose_way_out(
	struct berth *berths, size_t count, struct th_joined *joined)
{
	struct berth *main = &berths[0];

	for (size_t i = count; i > 0; i--) {
		if (!berths[i - 1].row.internal)
			main = &berths[i - 1];
	}
	joined->way_out = main->plug.gateway4 = !main->row.internal;
	joined->way_out6 = main->plug.gateway6 = !main->row.internal &&
		main->subnet.has6 && th_forwarding_has6();
	inet_ntop(AF_INET, &main->plug.four, joined->address4, TH_ADDRESS_TEXT);
	joined->address6[0] = '\0';
	if (main->subnet.has6)
		inet_ntop(AF_INET6, &main->plug.six, joined->address6,
			TH_ADDRESS_TEXT);
}

static int plug_in(struct th_store *store, struct berth *berth,
	const char *container, size_t number, int netns, bool any_address,
	struct th_error *err)
{
	char table[32];

	table_name(store, table);
	device_name(container, number, berth->outside);
	snprintf(berth->inside, IFNAMSIZ, "eth%u", (unsigned int)number % 10);
	berth->plug.outside = berth->outside;
	berth->plug.inside = berth->inside;
	berth->plug.bridge = berth->bridge;
	berth->plug.netns = netns;
	berth->plug.mtu = store->unprivileged ? TH_UPLINK_MTU : 0;
	berth->plug.guards = any_address ? NULL : table;
	return th_link_join(&berth->plug, &berth->subnet, err);
}

/* One that was killed a moment ago may have died too late to be noticed by
 * whoever starts its container once more. */
static void clean_last(struct th_store *store, const char *container)
{
	char four[TH_ADDRESS_TEXT], six[TH_ADDRESS_TEXT];
	struct th_error ignored = {0}; /* then there is none */

	if (th_state_addresses(store->db, container, four, six, &ignored) ==
			0 &&
		(four[0] || six[0]))
		th_network_clean(store, container);
}

int th_network_join(struct th_store *store, const char *container, int netns,
	bool any_address, const struct th_port_row *ports, size_t port_count,
	struct th_joined *joined, struct th_error *err)
{
	struct berth *berths = calloc(TH_NETWORKS_MAX, sizeof(*berths));
	struct th_error ignored = {0}; /* the first one counts */
	size_t count = 0;
	int lock, rc;

	clean_last(store, container);
	/* A bridge is removed only by somebody who holds the lock and finds no
	 * address taken. */
	lock = berths ? lock_networks(store, err) : th_fail_memory(err);
	if (lock < 0) {
		free(berths);
		return -1;
	}
	rc = take_berths(
		store, container, ports, port_count, berths, &count, err);
	for (size_t i = 0; rc == 0 && i < count; i++)
		rc = bring_up(store, &berths[i], err);
	/* Who holds an address keeps the bridge: the lock can go. */
	th_close(&lock);
	if (rc == 0 && count)
		choose_way_out(berths, count, joined);
	for (size_t i = 0; rc == 0 && i < count; i++)
		rc = plug_in(store, &berths[i], container, i, netns,
			any_address, err);
	free(berths);
	if (rc) {
		forget_addresses(store, container, &ignored);
		th_network_tidy(store, NULL);
	}
	return rc;
}

/* ---- packets from outside ---- */

static size_t describe_ports(const struct th_joined *joined,
	const struct th_port_row *rows, size_t count,
	struct th_filter_port *ports)
{
	size_t used = 0;

	for (size_t i = 0; i < count; i++) {
		struct th_filter_port *port = &ports[used];
		bool six = strchr(rows[i].address, ':') != NULL;
		int family = six ? AF_INET6 : AF_INET;
		const uint8_t *host = port->host.s6_addr;

		memset(port, 0, sizeof(*port));
		port->family = family;
		port->udp = strcmp(rows[i].protocol, "udp") == 0;
		port->host_port = (uint16_t)rows[i].host_port;
		port->port = (uint16_t)rows[i].port;
		if (!(six ? joined->way_out6 : joined->way_out) ||
			inet_pton(family, rows[i].address, &port->host) != 1 ||
			inet_pton(family,
				six ? joined->address6 : joined->address4,
				&port->to) != 1)
			continue;
		/* Nobody outside can reach the loopback. */
		if (six ? IN6_IS_ADDR_LOOPBACK(&port->host) : host[0] == 127)
			continue;
		port->any = six ? IN6_IS_ADDR_UNSPECIFIED(&port->host)
				: !host[0] && !host[1] && !host[2] && !host[3];
		used++;
	}
	return used;
}

int th_network_forward(struct th_store *store, const struct th_joined *joined,
	const struct th_port_row *port_rows, size_t count, struct th_error *err)
{
	struct th_filter_port *ports = calloc(count + 1, sizeof(*ports));
	struct th_error first = {0};
	char table[32];
	int lock, rc;

	if (!ports)
		return th_fail_memory(err);
	table_name(store, table);
	count = describe_ports(joined, port_rows, count, ports);
	rc = th_filter_publish(table, ports, count, &first);
	/* Somebody may have thrown away all rules of the host, ours with
	 * them. */
	if (rc) {
		lock = lock_networks(store, err);
		rc = lock < 0 ? -1 : write_filter(store, NULL, err);
		th_close(&lock);
		if (rc == 0)
			rc = th_filter_publish(table, ports, count, err);
	}
	free(ports);
	return rc;
}

void th_network_unforward(struct th_store *store,
	const struct th_joined *joined, const struct th_port_row *port_rows,
	size_t count)
{
	struct th_filter_port *ports = calloc(count + 1, sizeof(*ports));
	char table[32];

	if (!ports)
		return;
	table_name(store, table);
	count = describe_ports(joined, port_rows, count, ports);
	th_filter_withdraw(table, ports, count);
	if (count)
		th_filter_forget(ports[0].family, &ports[0].to);
	for (size_t i = 1; i < count; i++) {
		if (ports[i].family != ports[i - 1].family)
			th_filter_forget(ports[i].family, &ports[i].to);
	}
	free(ports);
}

/* ---- going down ---- */

static bool bridge_is_there(const struct th_store *store, int64_t number)
{
	char bridge[IFNAMSIZ];

	bridge_name(store, number, bridge);
	return if_nametoindex(bridge) != 0;
}

/* Calls take for each bridge of this store whose network is not in the state
 * any more: it was removed while a keeper was still to take its bridge away,
 * and could not. How many there are, or -1. */
static int each_stray(struct th_store *store, const char *own,
	int (*take)(const char *bridge, struct th_error *err),
	struct th_error *err)
{
	struct if_nameindex *all = if_nameindex();
	size_t len = strlen(own);
	int rc = 0;

	for (struct if_nameindex *at = all; at && at->if_index; at++) {
		int64_t known = 0;

		if (strncmp(at->if_name, own, len) != 0)
			continue;
		if (th_db_number(store->db, 0, &known, err,
			    "SELECT 1 FROM networks WHERE number%10000=?", "i",
			    (int64_t)atoi(at->if_name + len)) ||
			(!known && take(at->if_name, err))) {
			rc = -1;
			break;
		}
	}
	if_freenameindex(all);
	return rc;
}

int th_network_tidy(struct th_store *store, struct th_error *err)
{
	char own[IFNAMSIZ];
	struct th_network_row *rows = NULL;
	size_t count = 0, up = 0;
	char table[32];
	int lock, rc;

	/* Looked at and removed under one lock, so that no container joins in
	 * between. */
	lock = lock_networks(store, err);
	if (lock < 0)
		return -1;
	rc = th_network_list(store, NULL, &rows, &count, err);
	for (size_t i = 0; rc == 0 && i < count; i++) {
		up += rows[i].running != 0;
	}
	/* The bridges are the last: while one is there that nobody needs, there
	 * is something left to do, whoever was killed here. */
	if (rc == 0 && !up) {
		table_name(store, table);
		rc = th_filter_close(table, err);
		th_guard_close(table);
		if (!store->unprivileged)
			th_forwarding_give(store->tag);
	} else if (rc == 0) {
		table_name(store, table);
		th_guard_tidy(table);
		/* Whether rules are there of a network that is gone, or had not
		 * come yet when its starter was killed, is not seen in the
		 * state. */
		rc = write_filter(store, NULL, err);
	}
	for (size_t i = 0; rc == 0 && i < count; i++) {
		char bridge[IFNAMSIZ];

		bridge_name(store, rows[i].number, bridge);
		if (!rows[i].running && if_nametoindex(bridge))
			rc = th_link_remove(bridge, err);
	}
	bridge_prefix(store, own);
	if (rc == 0)
		rc = each_stray(store, own, th_link_remove, err);
	free(rows);
	th_close(&lock);
	return rc;
}

/* Every look asks this, and the host may have very many devices: only the
 * numbers that removed networks can have had lately are tried. */
static bool has_stray(struct th_store *store)
{
	struct th_error ignored = {0}; /* the next look */
	int64_t last = 0, known = 0;

	if (th_db_number(store->db, 0, &last, &ignored,
		    "SELECT coalesce(max(number), -1) FROM networks", ""))
		return false;
	for (int64_t i = 0; i <= last + 2; i++) {
		if (bridge_is_there(store, i) &&
			th_db_number(store->db, 0, &known, &ignored,
				"SELECT 1 FROM networks WHERE number=?", "i",
				i) == 0 &&
			!known)
			return true;
	}
	return false;
}

int th_network_remove(
	struct th_store *store, const char *name, struct th_error *err)
{
	struct th_error ignored = {0}; /* the next look */

	if (th_network_forget(store, name, err))
		return -1;
	if (!store->unprivileged)
		th_network_tidy(store, &ignored);
	return 0;
}

/* Many may hold it; it goes with the process. A lock of the open file, as
 * whoever only looks at one need not take it: he would be taken for a holder.
 */
int th_network_linger(struct th_store *store)
{
	struct flock lock = {.l_type = F_RDLCK, .l_whence = SEEK_SET};
	int fd = openat(
		store->run_fd, LINGER_FILE, O_RDWR | O_CREAT | O_CLOEXEC, 0600);

	if (fd >= 0 && fcntl(fd, F_OFD_SETLK, &lock))
		th_close(&fd);
	return fd;
}

bool th_network_is_lingering(struct th_store *store)
{
	struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
	int fd = openat(store->run_fd, LINGER_FILE, O_RDWR | O_CLOEXEC);
	bool held = fd >= 0 && fcntl(fd, F_OFD_GETLK, &lock) == 0 &&
		lock.l_type != F_UNLCK;

	th_close(&fd);
	return held;
}

bool th_network_is_untidy(struct th_store *store)
{
	struct th_query *query = NULL;
	struct th_error ignored = {0}; /* the next look */
	bool untidy = false;

	if (th_network_is_lingering(store))
		return false;
	if (th_db_query(store->db, &query, &ignored,
		    "SELECT number FROM networks n WHERE NOT EXISTS"
		    "(SELECT 1 FROM addresses a WHERE a.network=n.name)",
		    ""))
		return false;
	while (!untidy && th_query_next(query, &ignored) == 1)
		untidy = bridge_is_there(store, th_query_int(query, 0));
	th_query_end(query);
	return untidy || has_stray(store);
}

/* ---- names of devices ---- */

bool th_network_is_unplugged(const char *container)
{
	char device[IFNAMSIZ];

	for (size_t i = 0; i < TH_NETWORKS_MAX; i++) {
		device_name(container, i, device);
		if (if_nametoindex(device))
			return false;
	}
	return true;
}

void th_network_unplugged(struct th_store *store, const char *container)
{
	struct th_network_use uses[TH_NETWORKS_MAX];
	struct th_error ignored = {0}; /* the guards go with the table */
	char device[IFNAMSIZ], table[32], own[IFNAMSIZ];
	size_t count = 0;

	table_name(store, table);
	bridge_prefix(store, own);
	th_network_uses(store, container, uses, &count, &ignored);
	for (size_t i = 0; i < TH_NETWORKS_MAX; i++) {
		device_name(container, i, device);
		/* In a copy of the store another container may have this ID. */
		if (if_nametoindex(device) && th_link_is_on(device, own))
			th_link_remove(device, NULL);
		if (i < count)
			th_guard_remove(table, device);
	}
}

/* The kernel takes them away a moment after their namespace has gone. */
void th_network_await_unplugged(const char *container)
{
	const struct timespec step = {.tv_nsec = 2000000};

	for (int tries = 0; tries < 500; tries++) {
		if (th_network_is_unplugged(container))
			return;
		nanosleep(&step, NULL);
	}
}

void th_network_clean(struct th_store *store, const char *container)
{
	struct th_joined joined = {.way_out = true, .way_out6 = true};
	struct th_port_row *ports = NULL;
	struct th_error ignored = {0}; /* the next look */
	size_t count = 0;

	if (!store->unprivileged &&
		th_state_ports(
			store->db, container, &ports, &count, &ignored) == 0 &&
		count &&
		th_state_addresses(store->db, container, joined.address4,
			joined.address6, &ignored) == 0)
		th_network_unforward(store, &joined, ports, count);
	free(ports);
	th_network_await_unplugged(container);
	th_network_unplugged(store, container);
}
