#include "network/guard.h"

/* Before the kernel's own, which then leaves out what both have. */
#include <net/if.h>

#include <errno.h>
#include <linux/if_arp.h>
#include <linux/if_ether.h>
#include <linux/netfilter.h>
#include <linux/netfilter/nf_tables.h>
#include <linux/netfilter/nfnetlink.h>
#include <linux/netlink.h>
#include <netinet/icmp6.h>
#include <stdio.h>
#include <string.h>

#include "network/expression.h"
#include "network/filter_parts.h"

/* Where things are in the headers of Ethernet, ARP (RFC 826), IPv4, IPv6 and
 * ICMPv6 (RFC 4861). */
enum {
	ETHER_SENDER = 6,
	ARP_KIND = 0,
	ARP_SENDER = 8,
	ARP_SENDER4 = 14,
	IP_SENDER = 12,
	IP6_SENDER = 8,
	ICMP6_TYPE = 0,
	ND_TARGET = 8
};

/* So many are taken away at a time. */
#define STRAYS_MAX 64

struct rules {
	struct th_netlink *batch;
	const char *table;
	const struct th_guard *guard;
	size_t list; /* of the rule that is open */
};

static void begin(struct rules *rules, int type, int flags)
{
	filter_begin(rules->batch, NFPROTO_NETDEV, type, flags);
}

/* The values that follow must be those of the packet. */
static void want(struct rules *rules, uint32_t base, uint32_t offset,
	uint32_t operator, const void * value, size_t len)
{
	expression_payload(
		rules->batch, base, offset, (uint32_t)len, NFT_REG_1);
	expression_compare(rules->batch, operator, value, len);
}

/* A rule for frames of the protocol (ETH_P_...). */
static void open_rule(struct rules *rules, uint16_t protocol)
{
	uint16_t wire = htons(protocol);

	begin(rules, NFT_MSG_NEWRULE, NLM_F_CREATE | NLM_F_APPEND);
	th_netlink_put_text(rules->batch, NFTA_RULE_TABLE, rules->table);
	th_netlink_put_text(
		rules->batch, NFTA_RULE_CHAIN, rules->guard->device);
	rules->list = th_netlink_nest(rules->batch, NFTA_RULE_EXPRESSIONS);
	expression_meta(rules->batch, NFT_META_PROTOCOL, NFT_REG_1);
	expression_compare(rules->batch, NFT_CMP_EQ, &wire, sizeof(wire));
}

static void close_rule(struct rules *rules, int verdict)
{
	expression_verdict(rules->batch, verdict);
	th_netlink_nest_end(rules->batch, rules->list);
}

static void want_hardware(struct rules *rules)
{
	want(rules, NFT_PAYLOAD_LL_HEADER, ETHER_SENDER, NFT_CMP_EQ,
		rules->guard->hardware, ETH_ALEN);
}

static void accept_ip(struct rules *rules)
{
	open_rule(rules, ETH_P_IP);
	want(rules, NFT_PAYLOAD_NETWORK_HEADER, IP_SENDER, NFT_CMP_EQ,
		&rules->guard->four, sizeof(rules->guard->four));
	want_hardware(rules);
	close_rule(rules, NF_ACCEPT);
}

/* Inside the message the sender is named once more, and that is what others
 * believe. */
static void accept_arp(struct rules *rules)
{
	const unsigned char kind[] = {
		0, ARPHRD_ETHER, ETH_P_IP >> 8, ETH_P_IP & 0xff, ETH_ALEN, 4};

	open_rule(rules, ETH_P_ARP);
	want_hardware(rules);
	want(rules, NFT_PAYLOAD_NETWORK_HEADER, ARP_KIND, NFT_CMP_EQ, kind,
		sizeof(kind));
	want(rules, NFT_PAYLOAD_NETWORK_HEADER, ARP_SENDER, NFT_CMP_EQ,
		rules->guard->hardware, ETH_ALEN);
	want(rules, NFT_PAYLOAD_NETWORK_HEADER, ARP_SENDER4, NFT_CMP_EQ,
		&rules->guard->four, sizeof(rules->guard->four));
	close_rule(rules, NF_ACCEPT);
}

static void open_icmp6(struct rules *rules, uint8_t type)
{
	const uint8_t protocol = IPPROTO_ICMPV6;

	open_rule(rules, ETH_P_IPV6);
	expression_meta(rules->batch, NFT_META_L4PROTO, NFT_REG_1);
	expression_compare(rules->batch, NFT_CMP_EQ, &protocol, 1);
	want(rules, NFT_PAYLOAD_TRANSPORT_HEADER, ICMP6_TYPE, NFT_CMP_EQ, &type,
		1);
}

/* The address that the kernel makes of the hardware address (RFC 4291,
 * appendix A). */
static struct in6_addr link_local(const unsigned char hardware[6])
{
	struct in6_addr address = {{{0xfe, 0x80}}};

	memcpy(&address.s6_addr[8], hardware, 3);
	address.s6_addr[8] ^= 2;
	address.s6_addr[11] = 0xff;
	address.s6_addr[12] = 0xfe;
	memcpy(&address.s6_addr[13], hardware + 3, 3);
	return address;
}

/* Neighbours are told of own addresses only, and of routers nothing. Who does
 * not know yet whether an address is free asks from none. */
static void accept_ip6(struct rules *rules)
{
	const struct th_guard *guard = rules->guard;
	const struct in6_addr own[] = {
		guard->six, link_local(guard->hardware), IN6ADDR_ANY_INIT};
	const uint8_t never[] = {ND_ROUTER_ADVERT, ND_REDIRECT};

	for (size_t i = 0; i < sizeof(never); i++) {
		open_icmp6(rules, never[i]);
		close_rule(rules, NF_DROP);
	}
	open_icmp6(rules, ND_NEIGHBOR_ADVERT);
	for (size_t i = guard->has6 ? 0 : 1; i < 2; i++)
		want(rules, NFT_PAYLOAD_TRANSPORT_HEADER, ND_TARGET,
			NFT_CMP_NEQ, &own[i], sizeof(own[i]));
	close_rule(rules, NF_DROP);
	for (size_t i = guard->has6 ? 0 : 1; i < 3; i++) {
		open_rule(rules, ETH_P_IPV6);
		want(rules, NFT_PAYLOAD_NETWORK_HEADER, IP6_SENDER, NFT_CMP_EQ,
			&own[i], sizeof(own[i]));
		want_hardware(rules);
		close_rule(rules, NF_ACCEPT);
	}
}

static void put_table(struct rules *rules, int type)
{
	begin(rules, type, type == NFT_MSG_NEWTABLE ? NLM_F_CREATE : 0);
	th_netlink_put_text(rules->batch, NFTA_TABLE_NAME, rules->table);
}

/* Without rules: those of an earlier run go. */
static void put_chain(struct rules *rules)
{
	struct th_netlink *batch = rules->batch;
	const char *device = rules->guard->device;
	size_t hook;

	begin(rules, NFT_MSG_NEWCHAIN, NLM_F_CREATE);
	th_netlink_put_text(batch, NFTA_CHAIN_TABLE, rules->table);
	th_netlink_put_text(batch, NFTA_CHAIN_NAME, device);
	th_netlink_put_text(batch, NFTA_CHAIN_TYPE, "filter");
	th_netlink_put_be32(batch, NFTA_CHAIN_POLICY, NF_DROP);
	hook = th_netlink_nest(batch, NFTA_CHAIN_HOOK);
	th_netlink_put_be32(batch, NFTA_HOOK_HOOKNUM, NF_NETDEV_INGRESS);
	th_netlink_put_be32(batch, NFTA_HOOK_PRIORITY, 0);
	th_netlink_put_text(batch, NFTA_HOOK_DEV, device);
	th_netlink_nest_end(batch, hook);
	begin(rules, NFT_MSG_DELRULE, 0);
	th_netlink_put_text(batch, NFTA_RULE_TABLE, rules->table);
	th_netlink_put_text(batch, NFTA_RULE_CHAIN, device);
}

static int send_batch(struct th_netlink *batch)
{
	th_netlink_ask(batch);
	filter_bracket(batch, NFNL_MSG_BATCH_END);
	return th_netlink_send(NETLINK_NETFILTER, batch);
}

int th_guard_write(
	const char *table, const struct th_guard *guard, struct th_error *err)
{
	struct th_netlink batch;
	struct rules rules = {&batch, table, guard, 0};

	th_netlink_init(&batch);
	filter_bracket(&batch, NFNL_MSG_BATCH_BEGIN);
	put_table(&rules, NFT_MSG_NEWTABLE);
	put_chain(&rules);
	accept_ip(&rules);
	accept_arp(&rules);
	accept_ip6(&rules);
	if (send_batch(&batch) == 0)
		return 0;
	if (errno == ENOENT || errno == EOPNOTSUPP || errno == EAFNOSUPPORT)
		return 1;
	return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
		"cannot guard the network device %s (nf_tables)",
		guard->device);
}

void th_guard_remove(const char *table, const char *device)
{
	struct th_netlink batch;
	struct rules rules = {&batch, table, NULL, 0};

	th_netlink_init(&batch);
	filter_bracket(&batch, NFNL_MSG_BATCH_BEGIN);
	begin(&rules, NFT_MSG_DELRULE, 0);
	th_netlink_put_text(&batch, NFTA_RULE_TABLE, table);
	th_netlink_put_text(&batch, NFTA_RULE_CHAIN, device);
	begin(&rules, NFT_MSG_DELCHAIN, 0);
	th_netlink_put_text(&batch, NFTA_CHAIN_TABLE, table);
	th_netlink_put_text(&batch, NFTA_CHAIN_NAME, device);
	send_batch(&batch);
}

struct strays {
	const char *table;
	char devices[STRAYS_MAX][IFNAMSIZ];
	size_t count;
};

static void take_chain(void *owner, const void *message, size_t len)
{
	const size_t header = NLMSG_ALIGN(sizeof(struct nfgenmsg));
	const char *attributes = (const char *)message + header;
	struct strays *strays = owner;
	const char *table, *name;

	if (len < header || strays->count == STRAYS_MAX)
		return;
	table = th_netlink_text(attributes, len - header, NFTA_CHAIN_TABLE);
	name = th_netlink_text(attributes, len - header, NFTA_CHAIN_NAME);
	if (table && name && strcmp(table, strays->table) == 0 &&
		strlen(name) < IFNAMSIZ && !if_nametoindex(name))
		snprintf(
			strays->devices[strays->count++], IFNAMSIZ, "%s", name);
}

void th_guard_tidy(const char *table)
{
	struct strays strays = {.table = table};
	struct th_netlink batch;
	struct rules rules = {&batch, table, NULL, 0};

	th_netlink_init(&batch);
	begin(&rules, NFT_MSG_GETCHAIN, NLM_F_DUMP);
	/* Where that fails, there are none, or the next one finds them. */
	th_netlink_dump(NETLINK_NETFILTER, &batch, take_chain, &strays);
	for (size_t i = 0; i < strays.count; i++)
		th_guard_remove(table, strays.devices[i]);
}

void th_guard_close(const char *table)
{
	struct th_netlink batch;
	struct rules rules = {&batch, table, NULL, 0};

	th_netlink_init(&batch);
	filter_bracket(&batch, NFNL_MSG_BATCH_BEGIN);
	put_table(&rules, NFT_MSG_DELTABLE);
	send_batch(&batch);
}
