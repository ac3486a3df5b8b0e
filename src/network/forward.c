/* The maps of published ports in the packet filter's table. */
#include "network/packet_filter.h"

#include <errno.h>
#include <linux/netfilter.h>
#include <linux/netfilter/nf_tables.h>
#include <linux/netfilter/nfnetlink.h>
#include <linux/netfilter/nfnetlink_conntrack.h>
#include <linux/netlink.h>
#include <string.h>

#include "network/filter_parts.h"

/* The types by which the packet filter's own tool shows them: addresses,
 * inet_proto, inet_service, six bits each. */
enum { ADDRESS4 = 7, ADDRESS6 = 8, PROTOCOL = 12, SERVICE = 13 };

const struct filter_map filter_maps[FILTER_MAPS] = {
	{"ports4", false, true, PROTOCOL << 6 | SERVICE, 8,
		ADDRESS4 << 6 | SERVICE, 8},
	{"ports6", true, true, PROTOCOL << 6 | SERVICE, 8,
		ADDRESS6 << 6 | SERVICE, 20},
	{"bound4", false, false, (ADDRESS4 << 6 | PROTOCOL) << 6 | SERVICE, 12,
		ADDRESS4 << 6 | SERVICE, 8},
	{"bound6", true, false, (ADDRESS6 << 6 | PROTOCOL) << 6 | SERVICE, 24,
		ADDRESS6 << 6 | SERVICE, 20}};

void filter_put_map(struct th_netlink *batch, const char *table, int number)
{
	const struct filter_map *map = &filter_maps[number];

	filter_begin(batch, NFPROTO_INET, NFT_MSG_NEWSET, NLM_F_CREATE);
	th_netlink_put_text(batch, NFTA_SET_TABLE, table);
	th_netlink_put_text(batch, NFTA_SET_NAME, map->name);
	th_netlink_put_be32(batch, NFTA_SET_ID, (uint32_t)number + 1);
	th_netlink_put_be32(batch, NFTA_SET_FLAGS, NFT_SET_MAP);
	th_netlink_put_be32(batch, NFTA_SET_KEY_TYPE, map->key_type);
	th_netlink_put_be32(batch, NFTA_SET_KEY_LEN, map->key_len);
	th_netlink_put_be32(batch, NFTA_SET_DATA_TYPE, map->data_type);
	th_netlink_put_be32(batch, NFTA_SET_DATA_LEN, map->data_len);
}

static void put_value(
	struct th_netlink *batch, int attr, const void *data, size_t len)
{
	size_t nest = th_netlink_nest(batch, attr);

	th_netlink_put(batch, NFTA_DATA_VALUE, data, len);
	th_netlink_nest_end(batch, nest);
}

/* Each part of a key or value takes whole registers of four bytes. */
static size_t add(unsigned char *to, size_t at, const void *data, size_t len)
{
	memcpy(to + at, data, len);
	return at + (len + 3) / 4 * 4;
}

static void put_element(struct th_netlink *batch, const char *table, int type,
	const struct th_filter_port *port)
{
	const bool six = port->family == AF_INET6;
	const struct filter_map *map =
		&filter_maps[(port->any ? 0 : 2) + (six ? 1 : 0)];
	unsigned char key[24] = {0}, value[20] = {0};
	uint8_t protocol = port->udp ? IPPROTO_UDP : IPPROTO_TCP;
	uint16_t outer = htons(port->host_port), inner = htons(port->port);
	size_t at = 0, list, element;

	if (!port->any)
		at = add(key, at, &port->host, six ? 16 : 4);
	at = add(key, at, &protocol, 1);
	add(key, at, &outer, 2);
	at = add(value, 0, &port->to, six ? 16 : 4);
	add(value, at, &inner, 2);
	filter_begin(batch, NFPROTO_INET, type,
		type == NFT_MSG_NEWSETELEM ? NLM_F_CREATE | NLM_F_EXCL : 0);
	th_netlink_put_text(batch, NFTA_SET_ELEM_LIST_TABLE, table);
	th_netlink_put_text(batch, NFTA_SET_ELEM_LIST_SET, map->name);
	list = th_netlink_nest(batch, NFTA_SET_ELEM_LIST_ELEMENTS);
	element = th_netlink_nest(batch, NFTA_LIST_ELEM);
	put_value(batch, NFTA_SET_ELEM_KEY, key, map->key_len);
	if (type == NFT_MSG_NEWSETELEM)
		put_value(batch, NFTA_SET_ELEM_DATA, value, map->data_len);
	th_netlink_nest_end(batch, element);
	th_netlink_nest_end(batch, list);
}

/* One after the other, so that one which is missing does not keep the others
 * from going. */
void th_filter_withdraw(
	const char *table, const struct th_filter_port *ports, size_t count)
{
	for (size_t i = 0; i < count; i++) {
		struct th_netlink batch;

		th_netlink_init(&batch);
		filter_bracket(&batch, NFNL_MSG_BATCH_BEGIN);
		put_element(&batch, table, NFT_MSG_DELSETELEM, &ports[i]);
		th_netlink_ask(&batch);
		filter_bracket(&batch, NFNL_MSG_BATCH_END);
		th_netlink_send(NETLINK_NETFILTER, &batch);
	}
}

int th_filter_publish(const char *table, const struct th_filter_port *ports,
	size_t count, struct th_error *err)
{
	for (int tries = 0; count && tries < 2; tries++) {
		struct th_netlink batch;

		th_netlink_init(&batch);
		filter_bracket(&batch, NFNL_MSG_BATCH_BEGIN);
		for (size_t i = 0; i < count; i++)
			put_element(
				&batch, table, NFT_MSG_NEWSETELEM, &ports[i]);
		th_netlink_ask(&batch);
		filter_bracket(&batch, NFNL_MSG_BATCH_END);
		if (th_netlink_send(NETLINK_NETFILTER, &batch) == 0)
			return 0;
		if (errno != EEXIST || tries)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot forward ports to the container "
				"(nf_tables)");
		th_filter_withdraw(table, ports, count);
	}
	return 0;
}

void th_filter_forget(int family, const struct in6_addr *to)
{
	struct nfgenmsg header = {.nfgen_family = (uint8_t)family};
	const bool six = family == AF_INET6;
	struct th_netlink batch;
	size_t tuple, ip, filter;

	th_netlink_init(&batch);
	th_netlink_begin(&batch,
		NFNL_SUBSYS_CTNETLINK << 8 | IPCTNL_MSG_CT_DELETE, NLM_F_ACK,
		&header, sizeof(header));
	/* Whose answers come from the address. */
	tuple = th_netlink_nest(&batch, CTA_TUPLE_REPLY);
	ip = th_netlink_nest(&batch, CTA_TUPLE_IP);
	th_netlink_put(
		&batch, six ? CTA_IP_V6_SRC : CTA_IP_V4_SRC, to, six ? 16 : 4);
	th_netlink_nest_end(&batch, ip);
	th_netlink_nest_end(&batch, tuple);
	filter = th_netlink_nest(&batch, CTA_FILTER);
	th_netlink_put_u32(&batch, CTA_FILTER_ORIG_FLAGS, 0);
	/* CTA_FILTER_F_CTA_IP_SRC of the kernel's own header. */
	th_netlink_put_u32(&batch, CTA_FILTER_REPLY_FLAGS, 1);
	th_netlink_nest_end(&batch, filter);
	/* A kernel that cannot: such flows end by themselves. */
	th_netlink_send(NETLINK_NETFILTER, &batch);
}
