#include "network/filter_parts.h"

#include <arpa/inet.h>
#include <linux/netfilter/nfnetlink.h>

void filter_begin(struct th_netlink *batch, uint8_t family, int type, int flags)
{
	struct nfgenmsg header = {.nfgen_family = family};

	th_netlink_begin(batch, NFNL_SUBSYS_NFTABLES << 8 | type, flags,
		&header, sizeof(header));
}

void filter_bracket(struct th_netlink *batch, int type)
{
	struct nfgenmsg header = {.res_id = htons(NFNL_SUBSYS_NFTABLES)};

	th_netlink_begin(batch, type, 0, &header, sizeof(header));
}
