#include "network/filter.h"

#include <errno.h>
#include <linux/netfilter.h>
#include <linux/netfilter/nf_tables.h>
#include <linux/netfilter/nfnetlink.h>
#include <linux/netlink.h>
#include <stdio.h>
#include <string.h>

#include "network/netlink.h"

#define CHAIN "leaving"
/* After routing, where source addresses are translated ("srcnat"). */
#define PRIORITY_SOURCE 100

static void begin(struct th_netlink *batch, int type, int flags)
{
	struct nfgenmsg header = {.nfgen_family = NFPROTO_INET};

	th_netlink_begin(batch, NFNL_SUBSYS_NFTABLES << 8 | type,
		flags | NLM_F_ACK, &header, sizeof(header));
}

static void bracket(struct th_netlink *batch, int type)
{
	struct nfgenmsg header = {.res_id = htons(NFNL_SUBSYS_NFTABLES)};

	th_netlink_begin(batch, type, 0, &header, sizeof(header));
}

static size_t begin_expression(
	struct th_netlink *batch, const char *name, size_t *element)
{
	*element = th_netlink_nest(batch, NFTA_LIST_ELEM);
	th_netlink_put_text(batch, NFTA_EXPR_NAME, name);
	return th_netlink_nest(batch, NFTA_EXPR_DATA);
}

static void end_expression(
	struct th_netlink *batch, size_t data, size_t element)
{
	th_netlink_nest_end(batch, data);
	th_netlink_nest_end(batch, element);
}

static void put_value(
	struct th_netlink *batch, int attr, const void *data, size_t len)
{
	size_t nest = th_netlink_nest(batch, attr);

	th_netlink_put(batch, NFTA_DATA_VALUE, data, len);
	th_netlink_nest_end(batch, nest);
}

static void put_meta(struct th_netlink *batch, uint32_t key)
{
	size_t element, data = begin_expression(batch, "meta", &element);

	th_netlink_put_be32(batch, NFTA_META_KEY, key);
	th_netlink_put_be32(batch, NFTA_META_DREG, NFT_REG_1);
	end_expression(batch, data, element);
}

static void put_compare(struct th_netlink *batch, uint32_t operator,
	const void * value, size_t len)
{
	size_t element, data = begin_expression(batch, "cmp", &element);

	th_netlink_put_be32(batch, NFTA_CMP_SREG, NFT_REG_1);
	th_netlink_put_be32(batch, NFTA_CMP_OP, operator);
	put_value(batch, NFTA_CMP_DATA, value, len);
	end_expression(batch, data, element);
}

/* Loads a part of the network header and cuts it to the mask. */
static void put_masked_source(
	struct th_netlink *batch, uint32_t offset, const void *mask, size_t len)
{
	static const char zero[16];
	size_t element, data;

	data = begin_expression(batch, "payload", &element);
	th_netlink_put_be32(batch, NFTA_PAYLOAD_DREG, NFT_REG_1);
	th_netlink_put_be32(
		batch, NFTA_PAYLOAD_BASE, NFT_PAYLOAD_NETWORK_HEADER);
	th_netlink_put_be32(batch, NFTA_PAYLOAD_OFFSET, offset);
	th_netlink_put_be32(batch, NFTA_PAYLOAD_LEN, (uint32_t)len);
	end_expression(batch, data, element);
	data = begin_expression(batch, "bitwise", &element);
	th_netlink_put_be32(batch, NFTA_BITWISE_SREG, NFT_REG_1);
	th_netlink_put_be32(batch, NFTA_BITWISE_DREG, NFT_REG_1);
	th_netlink_put_be32(batch, NFTA_BITWISE_LEN, (uint32_t)len);
	put_value(batch, NFTA_BITWISE_MASK, mask, len);
	put_value(batch, NFTA_BITWISE_XOR, zero, len);
	end_expression(batch, data, element);
}

static void put_rule(struct th_netlink *batch, const char *table,
	const char *bridge, uint8_t family, uint32_t offset, const void *base,
	const void *mask, size_t len)
{
	size_t list, element, data;
	char name[IFNAMSIZ] = {0};

	snprintf(name, sizeof(name), "%s", bridge);
	begin(batch, NFT_MSG_NEWRULE, NLM_F_CREATE | NLM_F_APPEND);
	th_netlink_put_text(batch, NFTA_RULE_TABLE, table);
	th_netlink_put_text(batch, NFTA_RULE_CHAIN, CHAIN);
	list = th_netlink_nest(batch, NFTA_RULE_EXPRESSIONS);
	put_meta(batch, NFT_META_NFPROTO);
	put_compare(batch, NFT_CMP_EQ, &family, 1);
	put_masked_source(batch, offset, mask, len);
	put_compare(batch, NFT_CMP_EQ, base, len);
	put_meta(batch, NFT_META_OIFNAME);
	put_compare(batch, NFT_CMP_NEQ, name, sizeof(name));
	data = begin_expression(batch, "masq", &element);
	end_expression(batch, data, element);
	th_netlink_nest_end(batch, list);
}

static void put_table(struct th_netlink *batch, int type, const char *table)
{
	begin(batch, type, type == NFT_MSG_NEWTABLE ? NLM_F_CREATE : 0);
	th_netlink_put_text(batch, NFTA_TABLE_NAME, table);
}

static void put_chain(struct th_netlink *batch, const char *table)
{
	size_t hook;

	begin(batch, NFT_MSG_NEWCHAIN, NLM_F_CREATE);
	th_netlink_put_text(batch, NFTA_CHAIN_TABLE, table);
	th_netlink_put_text(batch, NFTA_CHAIN_NAME, CHAIN);
	th_netlink_put_text(batch, NFTA_CHAIN_TYPE, "nat");
	hook = th_netlink_nest(batch, NFTA_CHAIN_HOOK);
	th_netlink_put_be32(batch, NFTA_HOOK_HOOKNUM, NF_INET_POST_ROUTING);
	th_netlink_put_be32(batch, NFTA_HOOK_PRIORITY, PRIORITY_SOURCE);
	th_netlink_nest_end(batch, hook);
}

int th_filter_open(const char *table, const char *bridge,
	const struct th_subnet *subnet, struct th_error *err)
{
	struct in_addr mask4 = {htonl(~(uint32_t)0 << (32 - subnet->prefix4))};
	struct in6_addr mask6 = {{{0}}};
	struct th_netlink batch;

	memset(&mask6, 0xff, 8);
	th_netlink_init(&batch);
	bracket(&batch, NFNL_MSG_BATCH_BEGIN);
	/* Added, removed, added: so an old one goes, whether it is there or
	 * not, in the same transaction. */
	put_table(&batch, NFT_MSG_NEWTABLE, table);
	put_table(&batch, NFT_MSG_DELTABLE, table);
	put_table(&batch, NFT_MSG_NEWTABLE, table);
	put_chain(&batch, table);
	put_rule(&batch, table, bridge, NFPROTO_IPV4, 12, &subnet->base4,
		&mask4, sizeof(mask4));
	if (subnet->has6)
		put_rule(&batch, table, bridge, NFPROTO_IPV6, 8, &subnet->base6,
			&mask6, sizeof(mask6));
	bracket(&batch, NFNL_MSG_BATCH_END);
	if (th_netlink_send(NETLINK_NETFILTER, &batch)) {
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot set up the packet filter (nf_tables)");
		return th_hint(err, "--network none needs no packet filter");
	}
	return 0;
}

int th_filter_close(const char *table, struct th_error *err)
{
	struct th_netlink batch;

	th_netlink_init(&batch);
	bracket(&batch, NFNL_MSG_BATCH_BEGIN);
	put_table(&batch, NFT_MSG_DELTABLE, table);
	bracket(&batch, NFNL_MSG_BATCH_END);
	if (th_netlink_send(NETLINK_NETFILTER, &batch) && errno != ENOENT)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot remove the packet filter's table %s", table);
	return 0;
}
