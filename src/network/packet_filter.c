#include "network/packet_filter.h"

#include <arpa/inet.h>
#include <errno.h>
#include <linux/netfilter.h>
#include <linux/netfilter/nf_conntrack_common.h>
#include <linux/netfilter/nf_tables.h>
#include <linux/netfilter/nfnetlink.h>
#include <linux/netlink.h>
#include <linux/rtnetlink.h>
#include <stddef.h>
#include <stdio.h>
#include <string.h>

#include "network/expression.h"
#include "network/filter_parts.h"
#include "network/pilot.h"

/* The chains, and where packets meet them: as "dstnat", "filter" and "srcnat"
 * of the packet filter's own words. */
static const struct chain {
	const char *name, *type;
	uint32_t hook;
	int32_t priority;
} chains[] = {{"arriving", "nat", NF_INET_PRE_ROUTING, -100},
	{"passing", "filter", NF_INET_FORWARD, 0},
	{"leaving", "nat", NF_INET_POST_ROUTING, 100}};

enum { ARRIVING, PASSING, LEAVING, CHAINS };

static void put_table(struct th_netlink *batch, int type, const char *table)
{
	filter_begin(batch, NFPROTO_INET, type,
		type == NFT_MSG_NEWTABLE ? NLM_F_CREATE : 0);
	th_netlink_put_text(batch, NFTA_TABLE_NAME, table);
}

/* The chain, there already or not, without rules. */
static void put_chain(
	struct th_netlink *batch, const char *table, const struct chain *chain)
{
	size_t hook;

	filter_begin(batch, NFPROTO_INET, NFT_MSG_NEWCHAIN, NLM_F_CREATE);
	th_netlink_put_text(batch, NFTA_CHAIN_TABLE, table);
	th_netlink_put_text(batch, NFTA_CHAIN_NAME, chain->name);
	th_netlink_put_text(batch, NFTA_CHAIN_TYPE, chain->type);
	hook = th_netlink_nest(batch, NFTA_CHAIN_HOOK);
	th_netlink_put_be32(batch, NFTA_HOOK_HOOKNUM, chain->hook);
	th_netlink_put_be32(
		batch, NFTA_HOOK_PRIORITY, (uint32_t)chain->priority);
	th_netlink_nest_end(batch, hook);
	filter_begin(batch, NFPROTO_INET, NFT_MSG_DELRULE, 0);
	th_netlink_put_text(batch, NFTA_RULE_TABLE, table);
	th_netlink_put_text(batch, NFTA_RULE_CHAIN, chain->name);
}

static size_t begin_rule(struct th_netlink *batch, const char *table, int chain)
{
	filter_begin(batch, NFPROTO_INET, NFT_MSG_NEWRULE,
		NLM_F_CREATE | NLM_F_APPEND);
	th_netlink_put_text(batch, NFTA_RULE_TABLE, table);
	th_netlink_put_text(batch, NFTA_RULE_CHAIN, chains[chain].name);
	return th_netlink_nest(batch, NFTA_RULE_EXPRESSIONS);
}

static void end_rule(struct th_netlink *batch, size_t list)
{
	th_netlink_nest_end(batch, list);
}

/* Comes by the device, or by another one; or goes. */
static void put_device(struct th_netlink *batch, uint32_t key,
	uint32_t operator, const char * device)
{
	char name[IFNAMSIZ] = {0};

	snprintf(name, sizeof(name), "%s", device);
	expression_meta(batch, key, NFT_REG_1);
	expression_compare(batch, operator, name, sizeof(name));
}

static void put_family(struct th_netlink *batch, uint8_t family)
{
	expression_meta(batch, NFT_META_NFPROTO, NFT_REG_1);
	expression_compare(batch, NFT_CMP_EQ, &family, 1);
}

/* What comes from the block and leaves by another device than the bridge gets
 * the host's address. */
static void put_masquerade(struct th_netlink *batch, const char *table,
	const struct th_filter_network *network, bool six)
{
	const struct th_subnet *subnet = &network->subnet;
	struct in_addr mask4 = th_subnet_mask4(subnet);
	struct in6_addr mask6 = th_subnet_mask6(subnet);
	size_t rule = begin_rule(batch, table, LEAVING);

	put_family(batch, six ? NFPROTO_IPV6 : NFPROTO_IPV4);
	expression_payload(batch, NFT_PAYLOAD_NETWORK_HEADER, six ? 8 : 12,
		six ? 16 : 4, NFT_REG_1);
	if (six)
		expression_mask(batch, &mask6, sizeof(mask6));
	else
		expression_mask(batch, &mask4, sizeof(mask4));
	if (six)
		expression_compare(batch, NFT_CMP_EQ, &subnet->base6, 16);
	else
		expression_compare(batch, NFT_CMP_EQ, &subnet->base4, 4);
	put_device(batch, NFT_META_OIFNAME, NFT_CMP_NEQ, network->bridge);
	expression_masquerade(batch);
	end_rule(batch, rule);
}

/* Who is not let through hears of it at once. */
static void put_end(struct th_netlink *batch, bool polite)
{
	if (polite)
		expression_refuse(batch);
	else
		expression_verdict(batch, NF_DROP);
}

/* Nobody begins to talk to a container from another network, except at a port
 * that is published: those packets have been given another target. */
static void put_apart(struct th_netlink *batch, const char *table,
	const char *bridge, bool polite)
{
	/* NF_CT_STATE_BIT(IP_CT_NEW) and NF_CT_STATE_INVALID_BIT. */
	const uint32_t begins = 1u << 3 | 1u << 0, led = IPS_DST_NAT, none = 0;
	size_t rule = begin_rule(batch, table, PASSING);

	put_device(batch, NFT_META_OIFNAME, NFT_CMP_EQ, bridge);
	put_device(batch, NFT_META_IIFNAME, NFT_CMP_NEQ, bridge);
	expression_connection(batch, NFT_CT_STATE);
	expression_mask(batch, &begins, sizeof(begins));
	expression_compare(batch, NFT_CMP_NEQ, &none, sizeof(none));
	expression_connection(batch, NFT_CT_STATUS);
	expression_mask(batch, &led, sizeof(led));
	expression_compare(batch, NFT_CMP_EQ, &none, sizeof(none));
	put_end(batch, polite);
	end_rule(batch, rule);
}

/* What goes from the bridge to the uplink's own block, in which every address
 * is the host's loopback; port >= 0: to the name server, at this port only. */
static size_t begin_uplink(struct th_netlink *batch, const char *table,
	const char *bridge, bool six, int port)
{
	const char *text = six ? (port < 0 ? TH_UPLINK_BASE6 : TH_UPLINK_NAMES6)
			       : (port < 0 ? TH_UPLINK_BASE : TH_UPLINK_NAMES);
	struct th_subnet block = {.prefix4 = 24, .prefix6 = 64};
	struct in_addr mask4 = th_subnet_mask4(&block);
	struct in6_addr mask6 = th_subnet_mask6(&block), address;
	size_t rule = begin_rule(batch, table, PASSING);

	inet_pton(six ? AF_INET6 : AF_INET, text, &address);
	put_family(batch, six ? NFPROTO_IPV6 : NFPROTO_IPV4);
	put_device(batch, NFT_META_IIFNAME, NFT_CMP_EQ, bridge);
	expression_payload(batch, NFT_PAYLOAD_NETWORK_HEADER, six ? 24 : 16,
		six ? 16 : 4, NFT_REG_1);
	if (port < 0)
		expression_mask(batch,
			six ? (const void *)&mask6 : (const void *)&mask4,
			six ? 16 : 4);
	expression_compare(batch, NFT_CMP_EQ, &address, six ? 16 : 4);
	if (port >= 0) {
		uint16_t wanted = htons((uint16_t)port);

		expression_payload(
			batch, NFT_PAYLOAD_TRANSPORT_HEADER, 2, 2, NFT_REG_1);
		expression_compare(batch, NFT_CMP_EQ, &wanted, sizeof(wanted));
	}
	return rule;
}

static void put_no_loopback(struct th_netlink *batch, const char *table,
	const char *bridge, bool polite)
{
	for (int six = 0; six < 2; six++) {
		size_t rule = begin_uplink(batch, table, bridge, six, 53);

		expression_verdict(batch, NF_ACCEPT);
		end_rule(batch, rule);
		rule = begin_uplink(batch, table, bridge, six, -1);
		put_end(batch, polite);
		end_rule(batch, rule);
	}
}

static void put_closed(struct th_netlink *batch, const char *table,
	const char *bridge, bool polite)
{
	for (int out = 0; out < 2; out++) {
		size_t rule = begin_rule(batch, table, PASSING);

		put_device(batch, out ? NFT_META_IIFNAME : NFT_META_OIFNAME,
			NFT_CMP_EQ, bridge);
		put_device(batch, out ? NFT_META_OIFNAME : NFT_META_IIFNAME,
			NFT_CMP_NEQ, bridge);
		put_end(batch, polite);
		end_rule(batch, rule);
	}
}

/* What comes from containers goes to the host itself, whose relay they can
 * talk to like everybody on it. */
static void put_exempt(
	struct th_netlink *batch, const char *table, const char *device)
{
	size_t rule = begin_rule(batch, table, ARRIVING);

	put_device(batch, NFT_META_IIFNAME, NFT_CMP_EQ, device);
	expression_verdict(batch, NF_ACCEPT);
	end_rule(batch, rule);
}

static void put_not_ours(struct th_netlink *batch, const char *table)
{
	const uint32_t local = RTN_LOCAL;
	size_t rule = begin_rule(batch, table, ARRIVING);

	expression_target_kind(batch);
	expression_compare(batch, NFT_CMP_NEQ, &local, sizeof(local));
	expression_verdict(batch, NF_ACCEPT);
	end_rule(batch, rule);
}

/* The map's key is put together in registers: the host's address where the map
 * has it, the protocol, the port. */
static void put_forward(struct th_netlink *batch, const char *table,
	const struct filter_map *map)
{
	uint32_t at = NFT_REG32_00;
	size_t rule = begin_rule(batch, table, ARRIVING);

	put_family(batch, map->six ? NFPROTO_IPV6 : NFPROTO_IPV4);
	if (!map->any) {
		expression_payload(batch, NFT_PAYLOAD_NETWORK_HEADER,
			map->six ? 24 : 16, map->six ? 16 : 4, at);
		at += map->six ? 4 : 1;
	}
	expression_meta(batch, NFT_META_L4PROTO, at);
	expression_payload(batch, NFT_PAYLOAD_TRANSPORT_HEADER, 2, 2, at + 1);
	expression_lookup(batch, map->name, NFT_REG32_00);
	expression_forward(batch, map->six, NFT_REG32_00);
	end_rule(batch, rule);
}

/* A kernel may lack the expressions that refuse politely, or those that look
 * routes up: without the latter all ports are the relay's. */
enum { WHOLE, IMPOLITE, WITHOUT_LEADS, LEVELS };

static int write_rules(const char *table, const struct th_filter_network *list,
	size_t count, int level)
{
	struct th_netlink batch;

	th_netlink_init(&batch);
	filter_bracket(&batch, NFNL_MSG_BATCH_BEGIN);
	put_table(&batch, NFT_MSG_NEWTABLE, table);
	for (int i = 0; i < FILTER_MAPS; i++)
		filter_put_map(&batch, table, i);
	for (int i = 0; i < CHAINS; i++)
		put_chain(&batch, table, &chains[i]);
	put_exempt(&batch, table, "lo");
	for (size_t i = 0; i < count; i++) {
		put_exempt(&batch, table, list[i].bridge);
		if (list[i].internal) {
			put_closed(
				&batch, table, list[i].bridge, level == WHOLE);
			continue;
		}
		put_apart(&batch, table, list[i].bridge, level == WHOLE);
		if (list[i].no_loopback)
			put_no_loopback(
				&batch, table, list[i].bridge, level == WHOLE);
		put_masquerade(&batch, table, &list[i], false);
		if (list[i].subnet.has6)
			put_masquerade(&batch, table, &list[i], true);
	}
	if (level < WITHOUT_LEADS)
		put_not_ours(&batch, table);
	for (int i = 0; level < WITHOUT_LEADS && i < FILTER_MAPS; i++)
		put_forward(&batch, table, &filter_maps[i]);
	th_netlink_ask(&batch);
	filter_bracket(&batch, NFNL_MSG_BATCH_END);
	return th_netlink_send(NETLINK_NETFILTER, &batch);
}

int th_filter_write(const char *table, const struct th_filter_network *list,
	size_t count, struct th_error *err)
{
	int rc = -1;

	for (int level = WHOLE; rc && level < LEVELS; level++) {
		rc = write_rules(table, list, count, level);
		if (rc && errno != ENOENT && errno != EOPNOTSUPP)
			break;
	}
	if (rc) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set up the packet filter (nf_tables)");
		return th_hint(err, "--network none does not need it");
	}
	return 0;
}

int th_filter_close(const char *table, struct th_error *err)
{
	struct th_netlink batch;

	th_netlink_init(&batch);
	filter_bracket(&batch, NFNL_MSG_BATCH_BEGIN);
	put_table(&batch, NFT_MSG_DELTABLE, table);
	th_netlink_ask(&batch);
	filter_bracket(&batch, NFNL_MSG_BATCH_END);
	if (th_netlink_send(NETLINK_NETFILTER, &batch) && errno != ENOENT)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot remove the packet filter's table %s", table);
	return 0;
}
