#include "network/expression.h"

#include <linux/netfilter.h>
#include <linux/netfilter/nf_nat.h>
#include <linux/netfilter/nf_tables.h>

static size_t begin(struct th_netlink *batch, const char *name, size_t *element)
{
	*element = th_netlink_nest(batch, NFTA_LIST_ELEM);
	th_netlink_put_text(batch, NFTA_EXPR_NAME, name);
	return th_netlink_nest(batch, NFTA_EXPR_DATA);
}

static void end(struct th_netlink *batch, size_t data, size_t element)
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

void expression_meta(struct th_netlink *batch, uint32_t key, uint32_t to)
{
	size_t element, data = begin(batch, "meta", &element);

	th_netlink_put_be32(batch, NFTA_META_KEY, key);
	th_netlink_put_be32(batch, NFTA_META_DREG, to);
	end(batch, data, element);
}

void expression_connection(struct th_netlink *batch, uint32_t key)
{
	size_t element, data = begin(batch, "ct", &element);

	th_netlink_put_be32(batch, NFTA_CT_KEY, key);
	th_netlink_put_be32(batch, NFTA_CT_DREG, NFT_REG_1);
	end(batch, data, element);
}

void expression_payload(struct th_netlink *batch, uint32_t base,
	uint32_t offset, uint32_t len, uint32_t to)
{
	size_t element, data = begin(batch, "payload", &element);

	th_netlink_put_be32(batch, NFTA_PAYLOAD_DREG, to);
	th_netlink_put_be32(batch, NFTA_PAYLOAD_BASE, base);
	th_netlink_put_be32(batch, NFTA_PAYLOAD_OFFSET, offset);
	th_netlink_put_be32(batch, NFTA_PAYLOAD_LEN, len);
	end(batch, data, element);
}

void expression_target_kind(struct th_netlink *batch)
{
	size_t element, data = begin(batch, "fib", &element);

	th_netlink_put_be32(batch, NFTA_FIB_DREG, NFT_REG_1);
	th_netlink_put_be32(batch, NFTA_FIB_RESULT, NFT_FIB_RESULT_ADDRTYPE);
	th_netlink_put_be32(batch, NFTA_FIB_FLAGS, NFTA_FIB_F_DADDR);
	end(batch, data, element);
}

void expression_mask(struct th_netlink *batch, const void *mask, size_t len)
{
	static const char zero[16];
	size_t element, data = begin(batch, "bitwise", &element);

	th_netlink_put_be32(batch, NFTA_BITWISE_SREG, NFT_REG_1);
	th_netlink_put_be32(batch, NFTA_BITWISE_DREG, NFT_REG_1);
	th_netlink_put_be32(batch, NFTA_BITWISE_LEN, (uint32_t)len);
	put_value(batch, NFTA_BITWISE_MASK, mask, len);
	put_value(batch, NFTA_BITWISE_XOR, zero, len);
	end(batch, data, element);
}

void expression_compare(struct th_netlink *batch, uint32_t operator,
	const void * value, size_t len)
{
	size_t element, data = begin(batch, "cmp", &element);

	th_netlink_put_be32(batch, NFTA_CMP_SREG, NFT_REG_1);
	th_netlink_put_be32(batch, NFTA_CMP_OP, operator);
	put_value(batch, NFTA_CMP_DATA, value, len);
	end(batch, data, element);
}

void expression_lookup(struct th_netlink *batch, const char *map, uint32_t at)
{
	size_t element, data = begin(batch, "lookup", &element);

	th_netlink_put_text(batch, NFTA_LOOKUP_SET, map);
	th_netlink_put_be32(batch, NFTA_LOOKUP_SREG, at);
	th_netlink_put_be32(batch, NFTA_LOOKUP_DREG, at);
	end(batch, data, element);
}

void expression_forward(struct th_netlink *batch, bool six, uint32_t at)
{
	size_t element, data = begin(batch, "nat", &element);

	th_netlink_put_be32(batch, NFTA_NAT_TYPE, NFT_NAT_DNAT);
	th_netlink_put_be32(
		batch, NFTA_NAT_FAMILY, six ? NFPROTO_IPV6 : NFPROTO_IPV4);
	th_netlink_put_be32(batch, NFTA_NAT_REG_ADDR_MIN, at);
	th_netlink_put_be32(batch, NFTA_NAT_REG_PROTO_MIN, at + (six ? 4 : 1));
	end(batch, data, element);
}

void expression_masquerade(struct th_netlink *batch)
{
	size_t element, data = begin(batch, "masq", &element);

	end(batch, data, element);
}

void expression_refuse(struct th_netlink *batch)
{
	const uint8_t code = NFT_REJECT_ICMPX_ADMIN_PROHIBITED;
	size_t element, data = begin(batch, "reject", &element);

	th_netlink_put_be32(batch, NFTA_REJECT_TYPE, NFT_REJECT_ICMPX_UNREACH);
	th_netlink_put(batch, NFTA_REJECT_ICMP_CODE, &code, sizeof(code));
	end(batch, data, element);
}

void expression_verdict(struct th_netlink *batch, int verdict)
{
	size_t element, data = begin(batch, "immediate", &element);
	size_t value, inner;

	th_netlink_put_be32(batch, NFTA_IMMEDIATE_DREG, NFT_REG_VERDICT);
	value = th_netlink_nest(batch, NFTA_IMMEDIATE_DATA);
	inner = th_netlink_nest(batch, NFTA_DATA_VERDICT);
	th_netlink_put_be32(batch, NFTA_VERDICT_CODE, (uint32_t)verdict);
	th_netlink_nest_end(batch, inner);
	th_netlink_nest_end(batch, value);
	end(batch, data, element);
}
